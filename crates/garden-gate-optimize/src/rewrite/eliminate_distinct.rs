//! `eliminate distinct`
//!
//! ```text
//! distinct id, name                 →   …              (id is a key: no two rows are the same)
//! ```
//! Condition: the columns hold a set of which no two rows have the same values. GROUP BY of such columns, without aggregates, goes likewise.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::unique::distinct_sets;
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan, RewriteNote, RewriteRule};

pub(super) struct EliminateDistinct;

impl Rule for EliminateDistinct {
    fn name(&self) -> RewriteRule {
        RewriteRule::EliminateDistinct
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        let is_unique = |input: &LogicalPlan, columns: &[ColumnId]| {
            distinct_sets(input).iter().any(|set| set.iter().all(|id| columns.contains(id)))
        };
        let what = if let LogicalPlan::Distinct { input, columns } = &plan
            && is_unique(input, columns)
        {
            "DISTINCT"
        } else if let LogicalPlan::Aggregate { input, keys, aggregates } = &plan
            && aggregates.is_empty()
            && grouped_by(keys).is_some_and(|columns| is_unique(input, &columns))
        {
            "GROUP BY"
        } else {
            return Ok(plan);
        };
        let change = format!("{what} was removed");
        let why = "no two rows have the same values: a key or a grouping ensures that";
        context.log.push(RewriteNote { rule: self.name(), change, why });
        if let LogicalPlan::Distinct { input, .. } | LogicalPlan::Aggregate { input, .. } = plan {
            Ok(*input)
        } else {
            Ok(plan)
        }
    }
}

/// The columns of a grouping by some of the columns of its input, as they are.
fn grouped_by(keys: &[(ColumnId, Expr)]) -> Option<Vec<ColumnId>> {
    let plain = |(id, key): &(ColumnId, Expr)| matches!(key.kind(), ExprKind::Column(own) if own == id).then_some(*id);
    keys.iter().map(plain).collect::<Option<Vec<_>>>().filter(|columns| !columns.is_empty())
}
