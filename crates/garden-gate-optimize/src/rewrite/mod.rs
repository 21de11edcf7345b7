//! Logical plan → simpler logical plan. One rule a file; every application is recorded with the reason why it is allowed.

mod domain;
mod drop_distinct;
mod drop_joins;
mod factor_or;
mod fold_constants;
mod group_early;
mod imply_conditions;
mod inline_steps;
mod marks_to_semi;
mod push_filters;
mod push_into_recursion;
mod push_limits;
mod push_semi_joins;
mod share_expressions;
mod tidy_conditions;
mod unnest;

use crate::diagnostic::{Note, Result};
use crate::logical::{ColumnId, Columns, EarlyGroups, LogicalPlan, RewriteNote, Rewritten, StepDefinition};

/// What a rule works with.
#[derive(Debug)]
pub struct RuleContext<'a> {
    pub columns: &'a mut Columns,
    /// The queries that may be run once; a rule may add one.
    pub steps: Vec<StepDefinition>,
    pub log: Vec<RewriteNote>,
    /// Other ways to group, by the first aggregate of each: groupings may have grouping columns in common.
    pub early: Vec<(ColumnId, EarlyGroups)>,
    /// What somebody who wrote the query may want to know.
    pub notes: Vec<Note>,
    /// The columns of the result.
    pub required: &'a [ColumnId],
    /// Names of rules that are left out.
    pub without: &'a [String],
}

impl RuleContext<'_> {
    fn is_left_out(&self, rule: &str) -> bool {
        self.without.iter().any(|name| name == rule)
    }
}

/// A rule that turns a plan into one with the same rows.
trait Rule {
    /// # Errors
    /// Only what reading statistics or internal faults bring; a rule itself never fails.
    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan>;
}

/// All rules, in the order they run: queries inside of expressions become joins before anything is moved; then constants, since a
/// folded condition may vanish or empty its input; then filters move down to where the fewest rows meet them, and from one side of a join
/// to the other. With all conditions in their places it shows which joins, orders and DISTINCTs are for nothing, which conditions say the
/// same or exclude each other, and at last what is left to be computed once instead of twice.
const RULES: &[(&str, &dyn Rule)] = &[
    ("unnest query", &unnest::Unnest),
    ("mark to semi join", &marks_to_semi::MarksToSemi),
    ("push semi join down", &push_semi_joins::PushSemiJoins),
    ("fold constants", &fold_constants::FoldConstants),
    ("take common terms out of OR", &factor_or::FactorOr),
    ("push filters down", &push_filters::PushFilters),
    ("push into recursion", &push_into_recursion::PushIntoRecursion),
    ("imply conditions", &imply_conditions::ImplyConditions),
    ("drop join", &drop_joins::DropJoins),
    ("tidy conditions", &tidy_conditions::TidyConditions),
    ("drop distinct", &drop_distinct::DropDistinct),
    ("push limit down", &push_limits::PushLimits),
    ("share expressions", &share_expressions::ShareExpressions),
    // What it offers is no part of the plan that other rules see.
    ("group before join", &group_early::GroupEarly),
];

/// The rules that can be left out. Without `unnest query` dependent queries are joined by the general method only; without
/// `inline step` a common table expression that is used is run once.
pub const NAMES: &[&str] = &[
    "inline step",
    "unnest query",
    "mark to semi join",
    "push semi join down",
    "fold constants",
    "take common terms out of OR",
    "push filters down",
    "outer to inner join",
    "push into recursion",
    "imply conditions",
    "drop join",
    "tidy conditions",
    "drop distinct",
    "push limit down",
    "share expressions",
    "group before join",
];

/// Applies every rule once.
///
/// # Errors
/// As the rules.
pub fn rewrite(
    plan: LogicalPlan,
    steps: Vec<StepDefinition>,
    (required, columns): (&[ColumnId], &mut Columns),
    without: &[String],
) -> Result<Rewritten> {
    let (log, notes, early) = (Vec::new(), Vec::new(), Vec::new());
    let mut context = RuleContext { columns, steps, log, notes, early, required, without };
    let mut plan = inline_steps::inline(plan, &mut context);
    for (name, rule) in RULES {
        if context.is_left_out(name) && *name != "unnest query" {
            continue;
        }
        crate::control::checkpoint()?;
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
    Ok(Rewritten { plan, steps, log: context.log, notes: context.notes, early: context.early })
}
