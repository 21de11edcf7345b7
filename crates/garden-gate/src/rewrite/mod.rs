//! Logical plan → simpler logical plan. One rule a file; every application is recorded with the reason why it is allowed.

mod domain;
mod fold_constants;
mod inline_steps;
mod marks_to_semi;
mod push_filters;
mod push_semi_joins;
mod unnest;

use crate::bind::StepDefinition;
use crate::diagnostic::Result;
use crate::logical::{Columns, LogicalPlan, RewriteNote, StepId};

/// What a rule works with.
pub(crate) struct RuleContext<'a> {
    pub(crate) columns: &'a mut Columns,
    /// The queries that may be run once; a rule may add one.
    pub(crate) steps: Vec<StepDefinition>,
    pub(crate) log: Vec<RewriteNote>,
}

/// A rule that turns a plan into one with the same rows.
trait Rule {
    /// # Errors
    /// Only what reading statistics or internal faults bring; a rule itself never fails.
    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan>;
}

/// All rules, in the order they run: queries inside of expressions become joins before anything is moved; then constants, since a
/// folded condition may vanish or empty its input; then filters move down to where the fewest rows meet them.
const RULES: &[&dyn Rule] = &[
    &unnest::Unnest,
    &marks_to_semi::MarksToSemi,
    &push_semi_joins::PushSemiJoins,
    &fold_constants::FoldConstants,
    &push_filters::PushFilters,
];

/// A query after all rules.
pub(crate) struct Rewritten {
    pub(crate) plan: LogicalPlan,
    /// The queries that are run once, each after those it uses.
    pub(crate) steps: Vec<(StepId, StepDefinition)>,
    pub(crate) log: Vec<RewriteNote>,
}

/// Applies every rule once.
///
/// # Errors
/// As the rules.
pub(crate) fn rewrite(plan: LogicalPlan, steps: Vec<StepDefinition>, columns: &mut Columns) -> Result<Rewritten> {
    let mut context = RuleContext { columns, steps, log: Vec::new() };
    let mut plan = inline_steps::inline(plan, &mut context);
    for rule in RULES {
        let mut at = 0;
        // A rule may add steps while it works on the others.
        while at < context.steps.len() {
            let step = std::mem::replace(&mut context.steps[at].plan, LogicalPlan::OneRow);
            context.steps[at].plan = rule.apply(step, &mut context)?;
            at += 1;
        }
        let known = context.steps.len();
        plan = rule.apply(plan, &mut context)?;
        for at in known..context.steps.len() {
            let step = std::mem::replace(&mut context.steps[at].plan, LogicalPlan::OneRow);
            context.steps[at].plan = rule.apply(step, &mut context)?;
        }
    }
    let steps = inline_steps::used(&plan, context.steps);
    Ok(Rewritten { plan, steps, log: context.log })
}
