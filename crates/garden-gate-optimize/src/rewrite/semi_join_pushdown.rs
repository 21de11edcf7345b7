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
        let plan = match plan.into_join_if(|join| matches!(join.kind, JoinKind::Semi | JoinKind::Anti)) {
            Ok(join) => push(*join, context),
            Err(plan) => plan,
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// The join as far down as it goes.
pub(super) fn push(join: BinaryJoin, context: &mut RuleContext<'_>) -> LogicalPlan {
    let raises = join.exprs().any(Expr::can_raise) || join.right.can_raise();
    if let LogicalPlan::Filter { input, conjuncts } = join.left {
        let join = BinaryJoin { left: *input, ..join };
        if !raises {
            return push(join, context).filter(conjuncts);
        }
        let left = LogicalPlan::Filter { input: Box::new(join.left), conjuncts };
        return BinaryJoin { left, ..join }.into_plan();
    }
    let Some(at) = one_input(&join) else { return join.into_plan() };
    let LogicalPlan::InnerJoin { mut inputs, conjuncts } = join.left else { return join.into_plan() };
    let (change, why) = (
        format!("the {} join moved to the one table it concerns", join.kind.name()),
        "it keeps or drops that table's rows whatever they are joined with",
    );
    context.log.push(RewriteNote { rule: RewriteRule::SemiJoinPushdown, change, why });
    let left = std::mem::replace(&mut inputs[at], LogicalPlan::OneRow);
    inputs[at] = push(BinaryJoin { left, ..join }, context);
    LogicalPlan::InnerJoin { inputs, conjuncts }
}

/// The input of an inner join on the left that has all columns the join uses. A condition that is not an equality is tried for every
/// candidate: on as few rows as possible, after the other joins.
fn one_input(join: &BinaryJoin) -> Option<usize> {
    let LogicalPlan::InnerJoin { inputs, .. } = &join.left else { return None };
    if !join.on.iter().all(is_equality) {
        return None;
    }
    let right = join.right.output();
    let used: Vec<ColumnId> =
        join.on.iter().chain(join.any.iter().flat_map(|any| &any.left)).flat_map(Expr::columns).collect();
    let outer: Vec<&ColumnId> = used.iter().filter(|id| !right.contains(id)).collect();
    let owns = |input: &LogicalPlan| {
        let output = input.output();
        !outer.is_empty() && outer.iter().all(|id| output.contains(id))
    };
    inputs.iter().position(owns)
}

fn is_equality(term: &Expr) -> bool {
    matches!(term.kind(), ExprKind::Compare(CompareOp::Equal, _) | ExprKind::Same(_))
}
