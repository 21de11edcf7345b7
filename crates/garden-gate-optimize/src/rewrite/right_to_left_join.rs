//! `right join to left join`
//!
//! ```text
//! a right join b   →   b left join a
//! ```
//! The sides are exchanged where a query is bound; this says so.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{JoinKind, LogicalPlan, RewriteNote, RewriteRule, Sides};

pub(super) struct RightToLeftJoin;

impl Rule for RightToLeftJoin {
    fn name(&self) -> RewriteRule {
        RewriteRule::RightToLeftJoin
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        plan.walk(&mut |node| {
            if let LogicalPlan::Join(join) = node
                && join.kind == JoinKind::Left
                && join.sides == Sides::Exchanged
                && join.written.is_some()
            {
                let change = "a right join became the left join of its exchanged sides".to_owned();
                let why = "both keep every row of the side that was written last";
                context.log.push(RewriteNote { rule: self.name(), change, why });
            }
        });
        Ok(plan)
    }
}
