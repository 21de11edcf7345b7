//! Logical plan → simpler logical plan. One rule a file; every application is recorded with the reason why it is allowed.

mod fold_constants;
mod push_filters;

use crate::diagnostic::Result;
use crate::logical::{Columns, LogicalPlan, RewriteNote};

/// What a rule works with.
pub(crate) struct RuleContext<'a> {
    pub(crate) columns: &'a Columns,
    pub(crate) log: Vec<RewriteNote>,
}

/// A rule that turns a plan into one with the same rows.
trait Rule {
    /// # Errors
    /// Only what reading statistics or internal faults bring; a rule itself never fails.
    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan>;
}

/// All rules, in the order they run: constants first, since a folded condition may vanish or empty its input; then filters
/// move down to where the fewest rows meet them.
const RULES: &[&dyn Rule] = &[&fold_constants::FoldConstants, &push_filters::PushFilters];

/// Applies every rule once.
///
/// # Errors
/// As the rules.
pub(crate) fn rewrite(mut plan: LogicalPlan, columns: &Columns) -> Result<(LogicalPlan, Vec<RewriteNote>)> {
    let mut context = RuleContext { columns, log: Vec::new() };
    for rule in RULES {
        plan = rule.apply(plan, &mut context)?;
    }
    Ok((plan, context.log))
}
