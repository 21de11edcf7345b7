//! `limit pushdown`
//!
//! ```text
//! fetch 10                          fetch 10
//!   union all                  →      union all
//!     a, b                              fetch 10 a, fetch 10 b
//! ```
//! Condition: no more rows of each part than are wanted in all can be among them: of the queries of UNION ALL, also when they are ordered
//! before; of the left side of a left join, each row of which comes out at least once, in its order.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, JoinKind, LogicalPlan, RewriteNote, RewriteRule, SetOp, SetOperand, SortKey};

pub(super) struct LimitPushdown;

impl Rule for LimitPushdown {
    fn name(&self) -> RewriteRule {
        RewriteRule::LimitPushdown
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = if let LogicalPlan::Limit { input, offset, fetch: Some(fetch) } = plan {
            let most = offset.saturating_add(fetch);
            LogicalPlan::Limit { input: Box::new(below(*input, (&[], most), context)), offset, fetch: Some(fetch) }
        } else {
            plan
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// The plan, of which only the first `most` rows in the order of `keys` are wanted.
fn below(plan: LogicalPlan, (keys, most): (&[SortKey], u64), context: &mut RuleContext<'_>) -> LogicalPlan {
    match plan {
        LogicalPlan::Sort { input, keys: own } if keys.is_empty() => {
            let is_union = matches!(*input, LogicalPlan::SetOperation { .. });
            let input = if is_union { below(*input, (&own, most), context) } else { *input };
            LogicalPlan::Sort { input: Box::new(input), keys: own }
        }
        LogicalPlan::Project { input, computed } if keys.is_empty() => {
            LogicalPlan::Project { input: Box::new(below(*input, (keys, most), context)), computed }
        }
        LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns } => {
            log(context, "each query of UNION ALL gives no more rows than are wanted in all");
            let operand = |operand: SetOperand| {
                let own = |id: ColumnId| {
                    let place = columns.iter().position(|known| *known == id);
                    place.and_then(|at| operand.columns.get(at).copied()).unwrap_or(id)
                };
                let moved =
                    |key: &SortKey| SortKey { expr: key.expr.clone().map_columns(&mut |id| own(id)), ..key.clone() };
                let keys: Vec<SortKey> = keys.iter().map(moved).collect();
                SetOperand { plan: limited(operand.plan, keys, most), columns: operand.columns }
            };
            let operands = operands.into_iter().map(operand).collect();
            LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns }
        }
        LogicalPlan::Join(mut join) if join.kind == JoinKind::Left && keys.is_empty() => {
            if !matches!(join.left, LogicalPlan::Limit { .. }) {
                log(context, "each row of the left side comes out at least once");
                join.left = limited(join.left, Vec::new(), most);
            }
            LogicalPlan::Join(join)
        }
        other @ (LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::Filter { .. }
        | LogicalPlan::Project { .. }
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
        | LogicalPlan::RecursionInput(_)) => other,
    }
}

fn limited(plan: LogicalPlan, keys: Vec<SortKey>, most: u64) -> LogicalPlan {
    let input = if keys.is_empty() { plan } else { LogicalPlan::Sort { input: Box::new(plan), keys } };
    LogicalPlan::Limit { input: Box::new(input), offset: 0, fetch: Some(most) }
}

fn log(context: &mut RuleContext<'_>, why: &'static str) {
    let change = "FETCH was repeated below".to_owned();
    context.log.push(RewriteNote { rule: RewriteRule::LimitPushdown, change, why });
}
