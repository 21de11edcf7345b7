//! `eliminate sort`
//!
//! ```text
//! order by id, name                 →   order by id    (id is a key: no two rows are equal in it)
//! group by …                        →   group by …     (the order of the rows below does not reach the result)
//!   order by …
//! ```
//! Condition: an order is needed where the next node keeps or uses it: under FETCH, at the top, under a window, and under aggregates that
//! depend on it.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::unique::keys;
use crate::logical::{
    AggregateFunction, ColumnId, ExprKind, JoinKind, LogicalPlan, Printer, RewriteNote, RewriteRule, SetOperand,
    SortKey,
};

pub(super) struct EliminateSort;

impl Rule for EliminateSort {
    fn name(&self) -> RewriteRule {
        RewriteRule::EliminateSort
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        Ok(match plan {
            LogicalPlan::Distinct { input, columns } => {
                LogicalPlan::Distinct { input: Box::new(unordered(*input, context)), columns }
            }
            LogicalPlan::Sort { input, keys } => {
                let input = unordered(*input, context);
                let keys = needed_keys(&input, keys, context);
                LogicalPlan::Sort { input: Box::new(input), keys }
            }
            LogicalPlan::Aggregate { input, keys, aggregates } => {
                let depends = |function: AggregateFunction| {
                    matches!(
                        function,
                        AggregateFunction::ArrayAgg | AggregateFunction::ListAgg | AggregateFunction::AnyValue
                    )
                };
                let input = if aggregates.iter().any(|(_, aggregate)| depends(aggregate.function)) {
                    *input
                } else {
                    unordered(*input, context)
                };
                LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }
            }
            LogicalPlan::InnerJoin { inputs, conjuncts } => {
                let inputs = inputs.into_iter().map(|input| unordered(input, context)).collect();
                LogicalPlan::InnerJoin { inputs, conjuncts }
            }
            LogicalPlan::Join(mut join) if matches!(join.kind, JoinKind::Semi | JoinKind::Anti | JoinKind::Mark) => {
                join.right = unordered(std::mem::replace(&mut join.right, LogicalPlan::OneRow), context);
                LogicalPlan::Join(join)
            }
            LogicalPlan::SetOperation { op, all, operands, columns } => {
                let operand = |operand: SetOperand| SetOperand { plan: unordered(operand.plan, context), ..operand };
                LogicalPlan::SetOperation { op, all, operands: operands.into_iter().map(operand).collect(), columns }
            }
            other @ (LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Scan(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::Filter { .. }
            | LogicalPlan::Project { .. }
            | LogicalPlan::Join(_)
            | LogicalPlan::Window { .. }
            | LogicalPlan::Limit { .. }
            | LogicalPlan::Expand { .. }
            | LogicalPlan::CteReference(_)
            | LogicalPlan::Recursion(_)
            | LogicalPlan::RecursionInput(_)) => other,
        })
    }
}

/// The input without an order that does not count; through nodes that only add columns or drop rows.
fn unordered(plan: LogicalPlan, context: &mut RuleContext<'_>) -> LogicalPlan {
    match plan {
        LogicalPlan::Sort { input, keys } => {
            let printer = Printer::new(context.columns);
            let change = format!("ORDER BY {} was removed", printer.sort_keys(&keys));
            context.log.push(RewriteNote {
                rule: RewriteRule::EliminateSort,
                change,
                why: "the order does not reach the result",
            });
            unordered(*input, context)
        }
        LogicalPlan::Project { input, computed } => {
            LogicalPlan::Project { input: Box::new(unordered(*input, context)), computed }
        }
        LogicalPlan::Filter { input, conjuncts } => {
            LogicalPlan::Filter { input: Box::new(unordered(*input, context)), conjuncts }
        }
        other @ (LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::InnerJoin { .. }
        | LogicalPlan::Join(_)
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Window { .. }
        | LogicalPlan::Distinct { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_)) => other,
    }
}

/// The keys up to those that no two rows have in common.
fn needed_keys(input: &LogicalPlan, mut sorted: Vec<SortKey>, context: &mut RuleContext<'_>) -> Vec<SortKey> {
    let sets = keys(input);
    let column = |key: &SortKey| if let ExprKind::Column(id) = key.expr.kind() { Some(*id) } else { None };
    let mut seen: Vec<ColumnId> = Vec::new();
    for at in 0..sorted.len() {
        seen.extend(column(&sorted[at]));
        if at + 1 < sorted.len() && sets.iter().any(|set| !set.is_empty() && set.iter().all(|id| seen.contains(id))) {
            let rest = sorted.split_off(at + 1);
            let change = format!("{} was removed from ORDER BY", Printer::new(context.columns).sort_keys(&rest));
            let why = "no two rows are equal in the keys before it";
            context.log.push(RewriteNote { rule: RewriteRule::EliminateSort, change, why });
            break;
        }
    }
    sorted
}
