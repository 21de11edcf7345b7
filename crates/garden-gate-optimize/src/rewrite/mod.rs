//! Logical plan → simpler logical plan. One rule a file; every application is recorded with the reason why it is allowed.

mod aggregate_join_to_window;
mod common_subexpressions;
mod decorrelate;
mod domain;
mod eager_aggregation;
mod eliminate_distinct;
mod eliminate_join;
mod eliminate_sort;
mod factor_or;
mod finer_groups;
mod fold_constants;
mod infer_predicates;
mod inline_ctes;
mod join_to_semi_join;
mod limit_pushdown;
mod mark_to_semi_join;
mod nearest_match;
mod outer_to_anti_join;
mod predicate_pushdown;
mod pushdown_into_recursion;
mod right_to_left_join;
mod same_rows;
mod semi_join_pushdown;
mod semi_join_reduction;
mod set_operation_to_join;
mod simplify_predicates;
mod union_to_in;

use crate::diagnostic::{Note, Result};
use crate::logical::{ColumnId, Columns, CteDefinition, EarlyGroups, LogicalPlan, RewriteNote, RewriteRule, Rewritten};

/// What a rule works with.
#[derive(Debug)]
pub struct RuleContext<'a> {
    pub columns: &'a mut Columns,
    /// The queries that may be run once; a rule may add one.
    pub steps: Vec<CteDefinition>,
    pub log: Vec<RewriteNote>,
    /// Other ways to group, by the first aggregate of each: groupings may have grouping columns in common.
    pub early: Vec<(ColumnId, EarlyGroups)>,
    /// What somebody who wrote the query may want to know.
    pub notes: Vec<Note>,
    /// The columns of the result.
    pub required: &'a [ColumnId],
    /// Rules that are omitted.
    pub without: &'a [RewriteRule],
}

impl RuleContext<'_> {
    fn is_omitted(&self, rule: RewriteRule) -> bool {
        self.without.contains(&rule)
    }
}

/// A rule that turns a plan into one with the same rows.
trait Rule {
    /// The rule's name; one rule may report others that it leads to.
    fn name(&self) -> RewriteRule;

    /// # Errors
    /// Only what reading statistics or internal faults bring; a rule itself never fails.
    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan>;
}

/// All rules, in the order they run: subqueries become joins before anything is moved; then constants, since a folded condition may
/// vanish or empty its input; then predicates move down to where the fewest rows meet them, and from one side of a join to the other.
/// With all predicates in their places it shows which joins, orders and DISTINCTs are needless, which predicates say the same or exclude
/// each other, and at last what is left to be computed once instead of twice. CTEs are inlined before all of them.
const RULES: &[&dyn Rule] = &[
    &decorrelate::DecorrelateSubquery,
    &finer_groups::GroupFromFinerGroups,
    &right_to_left_join::RightToLeftJoin,
    &mark_to_semi_join::MarkToSemiJoin,
    &set_operation_to_join::SetOperationToJoin,
    &semi_join_pushdown::SemiJoinPushdown,
    &fold_constants::FoldConstants,
    &factor_or::FactorOr,
    &predicate_pushdown::PredicatePushdown,
    &pushdown_into_recursion::PushdownIntoRecursion,
    &infer_predicates::InferPredicates,
    &eliminate_join::EliminateJoin,
    &simplify_predicates::SimplifyPredicates,
    &union_to_in::UnionToIn,
    &join_to_semi_join::JoinToSemiJoin,
    &eliminate_distinct::EliminateDistinct,
    &eliminate_sort::EliminateSort,
    &aggregate_join_to_window::AggregateJoinToWindow,
    &semi_join_reduction::SemiJoinReduction,
    &limit_pushdown::LimitPushdown,
    &common_subexpressions::EliminateCommonSubexpressions,
    // What it offers is not part of the plan that other rules see.
    &eager_aggregation::EagerAggregation,
];

/// Whether a rule has to run although it is omitted: dependent subqueries are then joined by the general method only.
fn runs_always(rule: RewriteRule) -> bool {
    rule == RewriteRule::DecorrelateSubquery
}

/// Applies every rule once.
///
/// # Errors
/// As the rules.
pub fn rewrite(
    plan: LogicalPlan,
    steps: Vec<CteDefinition>,
    (required, columns): (&[ColumnId], &mut Columns),
    without: &[RewriteRule],
) -> Result<Rewritten> {
    let (log, notes, early) = (Vec::new(), Vec::new(), Vec::new());
    let mut context = RuleContext { columns, steps, log, notes, early, required, without };
    let mut plan = inline_ctes::inline(plan, &mut context);
    for rule in RULES {
        if context.is_omitted(rule.name()) && !runs_always(rule.name()) {
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
    let steps = inline_ctes::used(&plan, context.steps);
    Ok(Rewritten { plan, steps, log: context.log, notes: context.notes, early: context.early })
}
