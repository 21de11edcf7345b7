//! `mark join to semi join`
//!
//! ```text
//! filter m AND …                  filter …
//!   mark join → m        →          semi join            (anti join for NOT m)
//! ```
//! Condition: the truth value of the mark join is used in this one place, as a term of its own. A filter keeps TRUE only: the rows
//! with a match; under NOT, those for which it is FALSE, so a NULL on either side of NOT IN keeps its effect. Where neither side can be NULL,
//! FALSE is all that is not TRUE: a plain anti join, as of NOT EXISTS.

use super::outer_to_anti_join::stored;
use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::never_null::gives_no_null;
use crate::logical::{BinaryJoin, ColumnId, Columns, Expr, ExprKind, JoinKind, LogicalPlan, RewriteNote, RewriteRule};
use crate::types::SqlType;

pub(super) struct MarkToSemiJoin;

impl Rule for MarkToSemiJoin {
    fn name(&self) -> RewriteRule {
        RewriteRule::MarkToSemiJoin
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = if let LogicalPlan::Filter { mut input, conjuncts } = plan {
            let mut left = Vec::new();
            for (at, conjunct) in conjuncts.iter().enumerate() {
                let others = conjuncts.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, expr)| expr);
                match mark_of(conjunct) {
                    Some((mark, kind))
                        if !is_used(mark, others, &input) && change(&mut input, mark, kind, context.columns) =>
                    {
                        let (change, why) = if kind == JoinKind::Semi {
                            ("a query in a condition became a semi join", "only rows with a match are kept")
                        } else {
                            ("a query under NOT became an anti join", "only rows without a match are kept")
                        };
                        context.log.push(RewriteNote { rule: RewriteRule::MarkToSemiJoin, change: change.into(), why });
                    }
                    _ => left.push(conjunct.clone()),
                }
            }
            input.filter(left)
        } else {
            plan
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// The mark that a term is, and what the join becomes by it.
fn mark_of(conjunct: &Expr) -> Option<(ColumnId, JoinKind)> {
    if let ExprKind::Column(id) = conjunct.kind() {
        return Some((*id, JoinKind::Semi));
    }
    let ExprKind::Not(inner) = conjunct.kind() else { return None };
    if let ExprKind::Column(id) = inner.kind() {
        return Some((*id, JoinKind::Anti));
    }
    // TRUE just when what is negated twice is.
    if let ExprKind::Not(twice) = inner.kind() { mark_of(twice) } else { None }
}

fn is_used<'e>(mark: ColumnId, mut others: impl Iterator<Item = &'e Expr>, input: &LogicalPlan) -> bool {
    let uses = |expr: &Expr| expr.columns().contains(&mark);
    if others.any(uses) {
        return true;
    }
    let mut used = false;
    input.walk(&mut |node| node.for_each_expr(|expr| used |= uses(expr)));
    used
}

/// Finds the mark join on the way down and changes it.
fn change(plan: &mut LogicalPlan, mark: ColumnId, kind: JoinKind, columns: &Columns) -> bool {
    match plan {
        LogicalPlan::Join(join) if join.mark == Some(mark) && join.kind == JoinKind::Mark => {
            join.kind = kind;
            join.mark = None;
            without_nulls(join, columns);
            true
        }
        LogicalPlan::Join(join) if join.kind != JoinKind::Full => change(&mut join.left, mark, kind, columns),
        LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } => change(input, mark, kind, columns),
        LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Scan(_)
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
        | LogicalPlan::RecursionInput(_) => false,
    }
}

/// Of an anti join whose comparison can't be UNKNOWN: a plain condition. Parts of arrays and rows may be NULL.
fn without_nulls(join: &mut BinaryJoin, columns: &Columns) {
    let stored = stored(columns);
    let has_values = |plan: &LogicalPlan, exprs: &[Expr]| {
        exprs.iter().all(|expr| {
            !matches!(expr.sql_type(), SqlType::Array(_) | SqlType::Row(_)) && gives_no_null(expr, plan, &stored)
        })
    };
    let is_plain = join.kind == JoinKind::Anti
        && join
            .any
            .as_ref()
            .is_some_and(|any| has_values(&join.left, &any.left) && has_values(&join.right, &any.right));
    if is_plain && let Some(any) = join.any.take() {
        join.on.extend(any.into_conditions());
    }
}
