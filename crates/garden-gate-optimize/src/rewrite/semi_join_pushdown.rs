//! `semi-join pushdown`
//!
//! ```text
//! semi join on a.x = s.y                join
//!   join                        →         semi join on a.x = s.y
//!     a, b                                  a
//!                                         b
//! ```
//! Condition: the join's condition consists of equalities and uses columns of one input of the inner join only. A semi or anti join keeps or drops that input's
//! row whatever it is joined with.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{
    BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan, RewriteNote, RewriteRule,
};

pub(super) struct SemiJoinPushdown;

impl Rule for SemiJoinPushdown {
    fn name(&self) -> RewriteRule {
        RewriteRule::SemiJoinPushdown
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = match plan {
            LogicalPlan::Join(join) if matches!(join.kind, JoinKind::Semi | JoinKind::Anti) => push(*join, context),
            other => other,
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// The join as far down as it goes.
pub(super) fn push(join: BinaryJoin, context: &mut RuleContext<'_>) -> LogicalPlan {
    let raises = join.exprs().any(Expr::can_raise) || join.right.can_raise();
    match join.left {
        LogicalPlan::Filter { input, conjuncts } if !raises => {
            let below = push(BinaryJoin { left: *input, ..join }, context);
            below.filter(conjuncts)
        }
        // A condition that is not an equality is tried for every candidate: on as few rows as possible, after the other joins.
        LogicalPlan::InnerJoin { mut inputs, conjuncts } if join.on.iter().all(is_equality) => {
            let right = join.right.output();
            let used: Vec<ColumnId> =
                join.on.iter().chain(join.any.iter().flat_map(|any| &any.left)).flat_map(Expr::columns).collect();
            let outer: Vec<&ColumnId> = used.iter().filter(|id| !right.contains(id)).collect();
            let owns = |input: &LogicalPlan| {
                let output = input.output();
                !outer.is_empty() && outer.iter().all(|id| output.contains(id))
            };
            match inputs.iter().position(owns) {
                Some(at) => {
                    let (change, why) = (
                        format!("the {} join moved to the one table it concerns", join.kind.name()),
                        "it keeps or drops that table's rows whatever they are joined with",
                    );
                    context.log.push(RewriteNote { rule: RewriteRule::SemiJoinPushdown, change, why });
                    let left = std::mem::replace(&mut inputs[at], LogicalPlan::OneRow);
                    inputs[at] = push(BinaryJoin { left, ..join }, context);
                    LogicalPlan::InnerJoin { inputs, conjuncts }
                }
                None => BinaryJoin { left: LogicalPlan::InnerJoin { inputs, conjuncts }, ..join }.into_plan(),
            }
        }
        left => BinaryJoin { left, ..join }.into_plan(),
    }
}

fn is_equality(term: &Expr) -> bool {
    matches!(term.kind(), ExprKind::Compare(CompareOp::Equal, _) | ExprKind::Same(_))
}
