//! `inline CTE`
//!
//! ```text
//! WITH wet AS (SELECT … ) SELECT … FROM wet      →   SELECT … FROM (SELECT …)
//! ```
//! Condition: the query is used once, or only reads, filters and computes, so that running it again costs no more than keeping its
//! rows. Any other is run once, and its rows are kept for all its uses.

use super::RuleContext;
use crate::collections::HashMap;
use crate::diagnostic::Span;
use crate::logical::{ColumnId, CteDefinition, CteId, CteReference, Expr, LogicalPlan, RewriteNote, RewriteRule};

/// Puts common table expressions in the place of their uses where that is cheaper.
pub(super) fn inline(plan: LogicalPlan, context: &mut RuleContext<'_>) -> LogicalPlan {
    let uses = count_uses(&plan, &context.steps);
    let keep: Vec<bool> = context
        .steps
        .iter()
        .zip(&uses)
        .map(|(step, uses)| {
            *uses > 0 && context.is_omitted(RewriteRule::InlineCte) || *uses > 1 && !is_light(&step.plan)
        })
        .collect();
    for (at, step) in context.steps.iter().enumerate() {
        let (change, why) = match (uses[at], keep[at]) {
            (0, _) => continue,
            (1, _) => (format!("{} is computed where it is used", step.name), "it is used once"),
            (count, true) => (
                format!("{} is run once for its {count} uses", step.name),
                "its rows are the same for all of them, and keeping them costs less than computing them again",
            ),
            (count, false) => (
                format!("{} is computed in each of its {count} uses", step.name),
                "it only reads, filters and computes: keeping its rows would cost as much",
            ),
        };
        context.log.push(RewriteNote { rule: RewriteRule::InlineCte, change, why });
    }
    // What nobody reads must not take the plan of a step that somebody does.
    for (step, _) in context.steps.iter_mut().zip(&uses).filter(|(_, uses)| **uses == 0) {
        step.plan = LogicalPlan::OneRow;
    }
    for at in 0..context.steps.len() {
        let step = std::mem::replace(&mut context.steps[at].plan, LogicalPlan::OneRow);
        context.steps[at].plan = replace(step, (&keep, &uses), context);
    }
    let plan = replace(plan, (&keep, &uses), context);
    // Nobody reads these any more: the rules need not look at them.
    for (step, _) in context.steps.iter_mut().zip(&keep).filter(|(_, keep)| !**keep) {
        (step.plan, step.output) = (LogicalPlan::OneRow, Vec::new());
    }
    plan
}

/// Only what each row needs for itself.
fn is_light(plan: &LogicalPlan) -> bool {
    if let LogicalPlan::OneRow | LogicalPlan::Empty(_) | LogicalPlan::Scan(_) | LogicalPlan::Values { .. } = plan {
        true
    } else if let LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } = plan {
        is_light(input)
    } else {
        false
    }
}

fn replace(plan: LogicalPlan, (keep, uses): (&[bool], &[usize]), context: &mut RuleContext<'_>) -> LogicalPlan {
    let plan = plan.map_inputs(&mut |input| Ok::<_, std::convert::Infallible>(replace(input, (keep, uses), context)));
    let Ok(plan) = plan;
    if let LogicalPlan::CteReference(step) = &plan
        && !keep.get(step.id.0).copied().unwrap_or(true)
    {
        instance(step, uses[step.id.0] == 1, context)
    } else {
        plan
    }
}

/// The step's plan for its only use, or a copy of it, that gives the columns of this use.
fn instance(step: &CteReference, is_only: bool, context: &mut RuleContext<'_>) -> LogicalPlan {
    let (plan, map) = if is_only {
        (std::mem::replace(&mut context.steps[step.id.0].plan, LogicalPlan::OneRow), HashMap::default())
    } else {
        context.steps[step.id.0].plan.clone().copy(context.columns)
    };
    // The columns of the copy take the names by which the use knows them.
    let mut renamed: HashMap<ColumnId, ColumnId> = HashMap::default();
    let mut doubled = Vec::new();
    for (here, there) in &step.columns {
        let copied = map.get(there).copied().unwrap_or(*there);
        match renamed.get(&copied) {
            Some(first) => doubled.push((*here, *first)),
            None => {
                renamed.insert(copied, *here);
            }
        }
    }
    let plan = plan.map_columns(&mut |id| renamed.get(&id).copied().unwrap_or(id));
    let column = |id: ColumnId| Expr::column(id, context.columns.get(id).sql_type, Span::default());
    plan.project(doubled.into_iter().map(|(here, first)| (here, column(first))).collect())
}

/// How often each step is used by the plan and by steps that are used themselves.
fn count_uses(plan: &LogicalPlan, steps: &[CteDefinition]) -> Vec<usize> {
    let mut uses = vec![0; steps.len()];
    let count = |plan: &LogicalPlan, uses: &mut Vec<usize>| {
        plan.walk(&mut |node| {
            if let LogicalPlan::CteReference(step) = node
                && let Some(count) = uses.get_mut(step.id.0)
            {
                *count += 1;
            }
        });
    };
    count(plan, &mut uses);
    // A step uses earlier ones only.
    for at in (0..steps.len()).rev() {
        if uses[at] > 0 {
            count(&steps[at].plan, &mut uses);
        }
    }
    uses
}

/// The steps that the plan still uses, each after those it uses itself.
pub(super) fn used(plan: &LogicalPlan, steps: Vec<CteDefinition>) -> Vec<(CteId, CteDefinition)> {
    let mut needed = Vec::new();
    let mut found: Vec<usize> = Vec::new();
    let note = |plan: &LogicalPlan, found: &mut Vec<usize>| {
        plan.walk(&mut |node| {
            if let LogicalPlan::CteReference(step) = node {
                found.push(step.id.0);
            }
        });
    };
    note(plan, &mut found);
    while let Some(at) = found.pop() {
        if !needed.contains(&at) {
            needed.push(at);
            note(&steps[at].plan, &mut found);
        }
    }
    steps.into_iter().enumerate().filter(|(at, _)| needed.contains(at)).map(|(at, step)| (CteId(at), step)).collect()
}
