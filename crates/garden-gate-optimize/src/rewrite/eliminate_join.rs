//! `eliminate join`
//!
//! ```text
//! left join a.x = b.key            →   a             (no column of b is used)
//!   a, b
//! join task.bed = bed.key          →   task          (no column of bed is used; bed refers to a row that is there)
//!   task, bed
//! ```
//! Condition: of a left join, the right side has at most one row for each left one, so that every left row comes out once, with a match
//! or without. Of an inner join, a foreign key without NULLs, or with them filtered out, has exactly one match; the key is enforced,
//! checked with every statement, and nothing else is asked of the table it refers to.

use super::{Rule, RuleContext};
use crate::collections::HashSet;
use crate::diagnostic::{Result, Span};
use crate::logical::unique::at_most_one;
use crate::logical::{
    ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan, RewriteNote, RewriteRule, Scan, ScanReference, Test,
};
use crate::types::SqlType;
use std::borrow::Cow;
use std::sync::Arc;

pub(super) struct EliminateJoin;

const NAME: RewriteRule = RewriteRule::EliminateJoin;

impl Rule for EliminateJoin {
    fn name(&self) -> RewriteRule {
        RewriteRule::EliminateJoin
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let mut used: HashSet<ColumnId> = context.required.iter().copied().collect();
        for step in &context.steps {
            used.extend(&step.output);
            note_used(&step.plan, &mut used);
        }
        note_used(&plan, &mut used);
        Ok(drop_in(plan, &used, context))
    }
}

/// Every column that an expression, or a node by itself, uses.
fn note_used(plan: &LogicalPlan, used: &mut HashSet<ColumnId>) {
    plan.walk(&mut |node| {
        if !matches!(node, LogicalPlan::Join(_) | LogicalPlan::InnerJoin { .. } | LogicalPlan::Scan(_)) {
            node.for_each_expr(|expr| used.extend(expr.columns()));
        }
        match node {
            LogicalPlan::Distinct { columns, .. } => used.extend(columns),
            LogicalPlan::CteReference(step) => used.extend(step.columns.iter().map(|(_, there)| *there)),
            LogicalPlan::SetOperation { operands, .. } => {
                used.extend(operands.iter().flat_map(|operand| &operand.columns));
            }
            LogicalPlan::Recursion(recursion) => {
                let operands =
                    recursion.members.iter().flat_map(|member| member.anchors.iter().chain(&member.branches));
                used.extend(operands.flat_map(|operand| &operand.columns));
            }
            LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Scan(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::Filter { .. }
            | LogicalPlan::Project { .. }
            | LogicalPlan::InnerJoin { .. }
            | LogicalPlan::Join(_)
            | LogicalPlan::Aggregate { .. }
            | LogicalPlan::Window { .. }
            | LogicalPlan::Sort { .. }
            | LogicalPlan::Limit { .. }
            | LogicalPlan::Expand { .. }
            | LogicalPlan::RecursionInput(_) => {}
        }
    });
}

/// `used` holds what is used above and beside joins; conditions of joins add to it on the way down.
fn drop_in(plan: LogicalPlan, used: &HashSet<ColumnId>, context: &mut RuleContext<'_>) -> LogicalPlan {
    let plan = if let LogicalPlan::Join(join) = plan {
        let right = join.right.output();
        if join.kind == JoinKind::Left
            && !join.dependent
            && !right.iter().any(|id| used.contains(id))
            && !join.right_can_raise()
            && at_most_one(&join.right, &join.on)
        {
            log(context, &join.right, "its key is asked for once for each row, and none of its columns is used");
            return drop_in(join.left, used, context);
        }
        LogicalPlan::Join(join)
    } else if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
        drop_referred(inputs, conjuncts, used, context)
    } else {
        plan
    };
    let mut below = Cow::Borrowed(used);
    if matches!(plan, LogicalPlan::Join(_) | LogicalPlan::InnerJoin { .. }) {
        plan.for_each_expr(|expr| {
            let new: Vec<ColumnId> = expr.columns().into_iter().filter(|id| !below.contains(id)).collect();
            if !new.is_empty() {
                below.to_mut().extend(new);
            }
        });
    }
    let Ok(plan) = plan.map_inputs(&mut |input| Ok::<_, std::convert::Infallible>(drop_in(input, &below, context)));
    plan
}

/// Takes out of an inner join the tables that are only there to be referred to.
fn drop_referred(
    mut inputs: Vec<LogicalPlan>,
    mut conjuncts: Vec<Expr>,
    used: &HashSet<ColumnId>,
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    while inputs.len() > 1 {
        let found = (0..inputs.len()).find_map(|at| Some((at, referring(at, &inputs, &conjuncts, used)?)));
        let Some((at, keys)) = found else { break };
        log(
            context,
            &inputs[at],
            "a foreign key says that each row has its one match, and none of its columns is used",
        );
        let gone = inputs.remove(at).output();
        conjuncts.retain(|term| !term.columns().iter().any(|id| gone.contains(id)));
        // A row whose key is NULL has no match.
        conjuncts.extend(keys.into_iter().map(|key| {
            let test = Expr::new(ExprKind::Is(Box::new(key), Test::Null), SqlType::Boolean, Span::default());
            test.negated(true).implied()
        }));
    }
    match inputs.len() {
        1 => inputs.remove(0).filter(conjuncts),
        _ => LogicalPlan::InnerJoin { inputs, conjuncts },
    }
}

/// When input `at` is a table without conditions that another one refers to by all conditions on it, the columns that refer.
fn referring(at: usize, inputs: &[LogicalPlan], conjuncts: &[Expr], used: &HashSet<ColumnId>) -> Option<Vec<Expr>> {
    let LogicalPlan::Scan(target) = &inputs[at] else { return None };
    let own: Vec<ColumnId> = target.columns.iter().map(|(id, _)| *id).collect();
    if !target.filter.is_empty() || own.iter().any(|id| used.contains(id)) {
        return None;
    }
    let on: Vec<&Expr> = conjuncts.iter().filter(|term| term.columns().iter().any(|id| own.contains(id))).collect();
    let pair = |term: &&Expr| -> Option<(Expr, ColumnId)> {
        let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { return None };
        match (sides[0].kind(), sides[1].kind()) {
            (ExprKind::Column(a), ExprKind::Column(b)) if own.contains(a) && !own.contains(b) => {
                Some((sides[1].clone(), *a))
            }
            (ExprKind::Column(a), ExprKind::Column(b)) if own.contains(b) && !own.contains(a) => {
                Some((sides[0].clone(), *b))
            }
            _ => None,
        }
    };
    let pairs: Vec<(Expr, ColumnId)> = on.iter().map(pair).collect::<Option<_>>()?;
    let others = inputs.iter().enumerate().filter(|(other, _)| *other != at);
    let refers = others
        .filter_map(|(_, input)| scan_of(input))
        .any(|child| child.references.iter().any(|reference| fits(reference, child, target, &pairs)));
    refers.then(|| pairs.into_iter().map(|(key, _)| key).collect())
}

/// The table whose rows an input has, some of them or all, each once or several times.
fn scan_of(input: &LogicalPlan) -> Option<&Scan> {
    match input {
        LogicalPlan::Scan(scan) => Some(scan),
        LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } => scan_of(input),
        LogicalPlan::Join(join) if join.kind != JoinKind::Full => scan_of(&join.left),
        LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::InnerJoin { .. }
        | LogicalPlan::Join(_)
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Window { .. }
        | LogicalPlan::Distinct { .. }
        | LogicalPlan::Sort { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_) => None,
    }
}

/// Whether the pairs are just the columns of the foreign key with those they refer to.
fn fits(reference: &ScanReference, child: &Scan, target: &Scan, pairs: &[(Expr, ColumnId)]) -> bool {
    let place = |scan: &Scan, id: ColumnId| scan.columns.iter().find(|(known, _)| *known == id).map(|(_, at)| *at);
    let is_pair = |(from, to): (&usize, &usize)| {
        pairs.iter().any(|(key, id)| {
            matches!(key.kind(), ExprKind::Column(own) if place(child, *own) == Some(*from))
                && place(target, *id) == Some(*to)
        })
    };
    Arc::ptr_eq(&reference.target, &target.source)
        && reference.columns.len() == pairs.len()
        && reference.columns.iter().zip(&reference.referred).all(is_pair)
}

fn log(context: &mut RuleContext<'_>, dropped: &LogicalPlan, why: &'static str) {
    let name = scan_of(dropped).map_or("a side", |scan| scan.alias.as_str());
    let change = format!("the join with {name} was dropped");
    context.log.push(RewriteNote { rule: NAME, change, why });
}
