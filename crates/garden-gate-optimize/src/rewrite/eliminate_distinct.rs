//! `eliminate distinct`
//!
//! ```text
//! distinct id, name                 →   …              (id is a key: no two rows are the same)
//! ```
//! Condition: the columns hold a set of which no two rows have the same values.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::unique::distinct_sets;
use crate::logical::{ColumnId, LogicalPlan, RewriteNote, RewriteRule};

pub(super) struct EliminateDistinct;

impl Rule for EliminateDistinct {
    fn name(&self) -> RewriteRule {
        RewriteRule::EliminateDistinct
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        let LogicalPlan::Distinct { input, columns } = plan else { return Ok(plan) };
        let covered = |set: &Vec<ColumnId>| set.iter().all(|id| columns.contains(id));
        if !distinct_sets(&input).iter().any(covered) {
            return Ok(LogicalPlan::Distinct { input, columns });
        }
        let change = "DISTINCT was removed".to_owned();
        let why = "no two rows have the same values: a key or a grouping ensures that";
        context.log.push(RewriteNote { rule: self.name(), change, why });
        Ok(*input)
    }
}
