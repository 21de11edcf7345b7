//! `predicate pushdown`
//!
//! ```text
//! filter a.x = 1 AND a.id = b.id        join a.id = b.id
//!   join                          →       scan a  [a.x = 1]
//!     scan a, scan b                      scan b
//! ```
//! Condition: the term uses columns of one input only (it goes into that input) or of several (it becomes a join condition);
//! above a grouping, only the grouping columns, and there is at least one. Inner joins and groupings keep or drop whole rows by
//! such a term, so a row it is not TRUE for contributes nothing either way. A term that can fail is not moved below a join or
//! grouping, lest it fail for a row that would never have reached it.

use super::outer_to_anti_join::to_anti_join;
use super::{Rule, RuleContext};
use crate::diagnostic::{Note, Result};
use crate::logical::never_null::refuses_null;
use crate::logical::{
    BinaryJoin, ColumnId, Expr, ExprKind, JoinKind, LogicalPlan, Printer, RewriteNote, RewriteRule, SetOperand, Sides,
};
use std::ops::ControlFlow;

pub(super) struct PredicatePushdown;

impl Rule for PredicatePushdown {
    fn name(&self) -> RewriteRule {
        RewriteRule::PredicatePushdown
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = match plan {
            LogicalPlan::Filter { input, conjuncts } => push(*input, conjuncts, context),
            LogicalPlan::InnerJoin { inputs, conjuncts } => {
                let (down, keep): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(|term| !term.can_raise());
                into_join(inputs, keep, down, "ON", context)
            }
            LogicalPlan::Join(join) => on_to_right(*join, context),
            other @ (LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Scan(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::Project { .. }
            | LogicalPlan::Aggregate { .. }
            | LogicalPlan::Window { .. }
            | LogicalPlan::Distinct { .. }
            | LogicalPlan::Sort { .. }
            | LogicalPlan::Limit { .. }
            | LogicalPlan::SetOperation { .. }
            | LogicalPlan::Expand { .. }
            | LogicalPlan::CteReference(_)
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_)) => other,
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// Moves conditions as near to the tables as they can be tested.
pub(super) fn push(input: LogicalPlan, conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> LogicalPlan {
    match input {
        LogicalPlan::Scan(mut scan) => {
            scan.filter.extend(conjuncts);
            LogicalPlan::Scan(scan)
        }
        LogicalPlan::Filter { input, conjuncts: mut inner } => {
            inner.extend(conjuncts);
            push(*input, inner, context)
        }
        LogicalPlan::InnerJoin { inputs, conjuncts: on } => {
            let (down, stay): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(|term| !term.can_raise());
            let (on_down, mut kept) = on.into_iter().partition::<Vec<Expr>, _>(|term| !term.can_raise());
            // Conditions of ON come before those of WHERE, as they were written.
            let joined = into_join(inputs, Vec::new(), on_down, "ON", context);
            let LogicalPlan::InnerJoin { inputs, conjuncts } = joined else { return filter(joined, stay) };
            kept.splice(0..0, conjuncts);
            filter(into_join(inputs, kept, down, "WHERE", context), stay)
        }
        LogicalPlan::Aggregate { input, keys, aggregates } if !keys.is_empty() => {
            let plain: Vec<ColumnId> = keys
                .iter()
                .filter(|(id, key)| matches!(key.kind(), ExprKind::Column(own) if own == id))
                .map(|(id, _)| *id)
                .collect();
            let below = |term: &Expr| {
                let used = term.columns();
                !used.is_empty() && !term.can_raise() && used.iter().all(|id| plain.contains(id))
            };
            let (down, stay): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(below);
            for term in &down {
                log(
                    context,
                    term,
                    "moved from HAVING below the grouping",
                    "it tests grouping columns, which all rows of a group share",
                );
            }
            let input = if down.is_empty() { *input } else { push(*input, down, context) };
            filter(LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }, stay)
        }
        LogicalPlan::Join(join) => past_side_join(*join, conjuncts, context),
        LogicalPlan::Project { input, computed } => {
            let made: Vec<ColumnId> = computed.iter().map(|(id, _)| *id).collect();
            let renamed =
                |id: ColumnId| computed.iter().find(|(known, _)| *known == id).map_or(id, |(_, of)| named(of, id));
            let terms = conjuncts.into_iter().map(|term| term.map_columns(&mut |id| renamed(id)));
            // Columns are added to all rows, so that what can fail meets the same ones.
            let (down, stay): (Vec<Expr>, Vec<Expr>) =
                terms.partition(|term| !term.columns().iter().any(|id| made.contains(id)));
            let input = if down.is_empty() { *input } else { push(*input, down, context) };
            filter(input.project(computed), stay)
        }
        LogicalPlan::Sort { input, keys } => {
            LogicalPlan::Sort { input: Box::new(push(*input, conjuncts, context)), keys }
        }
        LogicalPlan::Distinct { input, columns } => {
            let (down, stay) = movable(conjuncts, |_| true);
            let input = if down.is_empty() { *input } else { push(*input, down, context) };
            filter(LogicalPlan::Distinct { input: Box::new(input), columns }, stay)
        }
        plan @ (LogicalPlan::Window { .. } | LogicalPlan::SetOperation { .. }) => into_parts(plan, conjuncts, context),
        LogicalPlan::Expand { input, expand, columns, ordinality } => {
            let output = input.output();
            let (down, stay) = movable(conjuncts, |used| !used.is_empty() && used.iter().all(|id| output.contains(id)));
            let input = if down.is_empty() { *input } else { push(*input, down, context) };
            filter(LogicalPlan::Expand { input: Box::new(input), expand, columns, ordinality }, stay)
        }
        other @ (LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_)) => filter(other, conjuncts),
    }
}

/// Below a window, terms over what it is partitioned by; into the queries of a set operator, all terms over its columns.
fn into_parts(plan: LogicalPlan, conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> LogicalPlan {
    if let LogicalPlan::Window { input, partition, order, calls } = plan {
        let keys: Vec<ColumnId> = partition
            .iter()
            .filter_map(|key| if let ExprKind::Column(id) = key.kind() { Some(*id) } else { None })
            .collect();
        let (down, stay) = movable(conjuncts, |used| !used.is_empty() && used.iter().all(|id| keys.contains(id)));
        for term in &down {
            log(context, term, "moved below the window", "it tests columns that all rows of a partition share");
        }
        let input = if down.is_empty() { *input } else { push(*input, down, context) };
        filter(LogicalPlan::Window { input: Box::new(input), partition, order, calls }, stay)
    } else if let LogicalPlan::SetOperation { op, all, operands, columns } = plan {
        let (down, stay) = movable(conjuncts, |used| !used.is_empty());
        let operand = |operand: SetOperand| {
            let place = |id: ColumnId| columns.iter().position(|known| *known == id);
            let own = |id: ColumnId| place(id).and_then(|at| operand.columns.get(at).copied()).unwrap_or(id);
            let terms: Vec<Expr> = down.iter().map(|term| term.clone().map_columns(&mut |id| own(id))).collect();
            let plan = if terms.is_empty() { operand.plan } else { push(operand.plan, terms, context) };
            SetOperand { plan, columns: operand.columns }
        };
        let operands = operands.into_iter().map(operand).collect();
        for term in &down {
            log(context, term, "moved into each query of the set operator", "it tests columns that all of them give");
        }
        filter(LogicalPlan::SetOperation { op, all, operands, columns }, stay)
    } else {
        filter(plan, conjuncts)
    }
}

/// The column that a computed one only gives another name; itself otherwise.
fn named(computed: &Expr, own: ColumnId) -> ColumnId {
    if let ExprKind::Column(id) = computed.kind() { *id } else { own }
}

/// The terms that can move down and those that stay: one that can fail stays, and one whose columns do not fit.
fn movable(conjuncts: Vec<Expr>, fits: impl Fn(&[ColumnId]) -> bool) -> (Vec<Expr>, Vec<Expr>) {
    conjuncts.into_iter().partition(|term| !term.can_raise() && fits(&term.columns()))
}

/// Terms over the left side alone move there: its rows come out one by one. A term that no NULL of the right side fulfils makes a left
/// join an inner one.
fn past_side_join(mut join: BinaryJoin, mut conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> LogicalPlan {
    let right = join.right.output();
    if join.kind == JoinKind::Left
        && !context.is_omitted(RewriteRule::OuterToInnerJoin)
        && let Some(term) = conjuncts.iter().find(|term| refuses_null(term, &right))
    {
        let term_text = Printer::new(context.columns).expr(term);
        let change = format!("the {} join became an inner one by {term_text}", join.kind_written());
        let why = "it is TRUE for no row that was filled up with NULLs";
        context.log.push(RewriteNote { rule: RewriteRule::OuterToInnerJoin, change, why });
        if let (Some(_), false) = (join.written, term.is_implied()) {
            let text = Printer::new(context.columns).expr(term);
            let message = format!("{text} is TRUE for no row without a match: the outer join is an inner one");
            let help = format!("write JOIN, or, to keep rows without a match, move it from WHERE to ON: … AND {text}");
            context.notes.push(Note::new("outer-join-undone", message).at(term.span()).help(help));
        }
        let inner = match join.nearest {
            Some(_) => BinaryJoin { kind: JoinKind::Inner, ..join }.into_plan(),
            None => join.left.join(join.right, join.on),
        };
        return push(inner, conjuncts, context);
    }
    if join.kind == JoinKind::Full {
        let join = less_full(join, &conjuncts, context);
        return match join.kind {
            JoinKind::Full => filter(join.into_plan(), conjuncts),
            JoinKind::Inner | JoinKind::Left | JoinKind::Semi | JoinKind::Anti | JoinKind::Mark | JoinKind::Single => {
                past_side_join(join, conjuncts, context)
            }
        };
    }
    if !context.is_omitted(RewriteRule::OuterToAntiJoin) {
        join = match to_anti_join(join, &mut conjuncts, context) {
            ControlFlow::Break(anti) if conjuncts.is_empty() => return anti,
            ControlFlow::Break(anti) => return push(anti, conjuncts, context),
            ControlFlow::Continue(join) => join,
        };
    }
    let left = join.left.output();
    let (down, stay) = movable(conjuncts, |used| !used.is_empty() && used.iter().all(|id| left.contains(id)));
    for term in &down {
        log(context, term, "moved below the join", "it tests columns of the side whose rows are kept");
    }
    if !down.is_empty() {
        join.left = push(join.left, down, context);
    }
    filter(join.into_plan(), stay)
}

/// A full join of whose rows without a match a term drops those of one side is a left or right one.
fn less_full(mut join: BinaryJoin, conjuncts: &[Expr], context: &mut RuleContext<'_>) -> BinaryJoin {
    if context.is_omitted(RewriteRule::OuterToInnerJoin) {
        return join;
    }
    let (left, right) = (join.left.output(), join.right.output());
    let refused = |columns: &[ColumnId]| conjuncts.iter().find(|term| refuses_null(term, columns));
    let (kept, term) = match (refused(&left), refused(&right)) {
        (Some(term), _) => ("left", term),
        (None, Some(term)) => ("right", term),
        (None, None) => return join,
    };
    let change = format!("the full join became a {kept} one by {}", Printer::new(context.columns).expr(term));
    let why = "it is TRUE for no row that was filled up with NULLs";
    context.log.push(RewriteNote { rule: RewriteRule::OuterToInnerJoin, change, why });
    if kept == "right" {
        std::mem::swap(&mut join.left, &mut join.right);
        join.sides = Sides::Exchanged;
    }
    join.kind = JoinKind::Left;
    join
}

/// Conditions of ON over the right side alone decide which of its rows can be matches at all.
fn on_to_right(mut join: BinaryJoin, context: &mut RuleContext<'_>) -> LogicalPlan {
    if join.kind == JoinKind::Full {
        return join.into_plan();
    }
    let right = join.right.output();
    let (down, stay) =
        movable(std::mem::take(&mut join.on), |used| !used.is_empty() && used.iter().all(|id| right.contains(id)));
    join.on = stay;
    for term in &down {
        log(context, term, "moved from ON to where its table is read", "a row it is not TRUE for is no match");
    }
    if !down.is_empty() {
        join.right = push(join.right, down, context);
    }
    join.into_plan()
}

/// Gives each of `down` to the one input it concerns; the others join `conjuncts`.
fn into_join(
    mut inputs: Vec<LogicalPlan>,
    mut conjuncts: Vec<Expr>,
    down: Vec<Expr>,
    clause: &str,
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    for term in down {
        let used = term.columns();
        let owner = inputs.iter().position(|input| {
            let output = input.output();
            !used.is_empty() && used.iter().all(|id| output.contains(id))
        });
        match owner {
            Some(at) => {
                let change = format!("moved from {clause} to where its table is read");
                log(context, &term, &change, "an inner join drops a row that one of its inputs lacks");
                let input = std::mem::replace(&mut inputs[at], LogicalPlan::OneRow);
                inputs[at] = push(input, vec![term], context);
            }
            None => conjuncts.push(term),
        }
    }
    LogicalPlan::InnerJoin { inputs, conjuncts }
}

fn filter(input: LogicalPlan, conjuncts: Vec<Expr>) -> LogicalPlan {
    if conjuncts.is_empty() { input } else { LogicalPlan::Filter { input: Box::new(input), conjuncts } }
}

fn log(context: &mut RuleContext<'_>, term: &Expr, change: &str, why: &'static str) {
    let change = format!("{} {change}", Printer::new(context.columns).expr(term));
    context.log.push(RewriteNote { rule: RewriteRule::PredicatePushdown, change, why });
}
