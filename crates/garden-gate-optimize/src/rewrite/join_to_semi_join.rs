//! `join to semi join`
//!
//! ```text
//! distinct a.x                    →   distinct a.x
//!   join a.k = b.k                      semi join a.k = b.k
//!     a, b                                a, b
//! ```
//! Condition: above the join each row counts once however often it comes, since rows that are the same become one (DISTINCT, GROUP BY without
//! aggregates, or with such as MIN that mind no copies), and of some inputs no column is used there. These only say which rows stay.
//!
//! It is left where an index leads from a smaller input to the rows of a larger one: a semi join would read all of that.

use super::semi_join_pushdown::push;
use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::unique::fixed;
use crate::logical::{Aggregate, BinaryJoin, ColumnId, Expr, JoinKind, LogicalPlan, RewriteNote, RewriteRule, Scan};
use std::convert::Infallible;

/// A table so many times as large as the input that filters it is better found by an index.
const MUCH_LARGER: u64 = 4;

pub(super) struct JoinToSemiJoin;

impl Rule for JoinToSemiJoin {
    fn name(&self) -> RewriteRule {
        RewriteRule::JoinToSemiJoin
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let used = if let LogicalPlan::Distinct { columns, .. } = &plan {
            Some(columns.clone())
        } else if let LogicalPlan::Aggregate { keys, aggregates, .. } = &plan
            && !keys.is_empty()
            && ignore_copies(aggregates)
        {
            let own = keys.iter().map(|(_, key)| key);
            let used = own.chain(aggregates.iter().flat_map(|(_, aggregate)| aggregate.exprs()));
            Some(used.flat_map(Expr::columns).collect())
        } else {
            None
        };
        let plan = match used {
            Some(used) => {
                let Ok(plan) =
                    plan.map_inputs(&mut |input| Ok::<_, Infallible>(filtered(input, used.clone(), context)));
                plan
            }
            None => plan,
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

fn ignore_copies(aggregates: &[(ColumnId, Aggregate)]) -> bool {
    aggregates.iter().all(|(_, aggregate)| aggregate.distinct || aggregate.function.ignores_duplicates())
}

/// The input, of which these columns are used above, with inputs of its join that only filter as semi joins.
fn filtered(plan: LogicalPlan, mut used: Vec<ColumnId>, context: &mut RuleContext<'_>) -> LogicalPlan {
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            used.extend(conjuncts.iter().flat_map(Expr::columns));
            filtered(*input, used, context).filter(conjuncts)
        }
        LogicalPlan::Project { input, computed } => {
            used.extend(computed.iter().flat_map(|(_, expr)| expr.columns()));
            filtered(*input, used, context).project(computed)
        }
        LogicalPlan::InnerJoin { inputs, conjuncts } => of_join(inputs, conjuncts, &used, context),
        other @ (LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
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

fn of_join(
    inputs: Vec<LogicalPlan>,
    conjuncts: Vec<Expr>,
    used: &[ColumnId],
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    let outputs: Vec<Vec<ColumnId>> = inputs.iter().map(LogicalPlan::output).collect();
    let touched = |term: &Expr| -> Vec<usize> {
        let columns = term.columns();
        (0..outputs.len()).filter(|at| columns.iter().any(|id| outputs[*at].contains(id))).collect()
    };
    let is_used = |at: usize| outputs[at].iter().any(|id| used.contains(id));
    // Inputs that only filter, those that conditions tie to one another as one.
    let mut sets: Vec<Vec<usize>> = (0..inputs.len()).filter(|at| !is_used(*at)).map(|at| vec![at]).collect();
    for term in &conjuncts {
        let places = touched(term);
        let (mut tied, apart): (Vec<_>, Vec<_>) =
            sets.into_iter().partition(|set: &Vec<usize>| set.iter().any(|at| places.contains(at)));
        sets = apart;
        if !tied.is_empty() {
            tied.sort_unstable();
            sets.push(tied.concat());
        }
    }
    let all = sets.iter().map(Vec::len).sum::<usize>() == inputs.len();
    let between = |set: &[usize]| -> Vec<&Expr> {
        let meets = |term: &&Expr| {
            let places = touched(term);
            places.iter().any(|at| set.contains(at)) && places.iter().any(|at| !set.contains(at))
        };
        conjuncts.iter().filter(meets).collect()
    };
    let kept: Vec<usize> = (0..inputs.len()).filter(|at| is_used(*at)).collect();
    sets.retain(|set| {
        let terms: Vec<Expr> = between(set).into_iter().cloned().collect();
        let found = |at: &usize| set.iter().any(|of| is_found_by_index(&inputs[*at], &inputs[*of], &terms));
        !terms.is_empty() && !kept.iter().any(found)
    });
    if sets.is_empty() || all || conjuncts.iter().any(Expr::can_raise) || inputs.iter().any(LogicalPlan::can_raise) {
        return LogicalPlan::InnerJoin { inputs, conjuncts };
    }
    let set_of = |term: &Expr| sets.iter().position(|set| touched(term).iter().any(|at| set.contains(at)));
    let mut parts: Vec<(Vec<LogicalPlan>, Vec<Expr>, Vec<Expr>)> = sets.iter().map(|_| Default::default()).collect();
    let (mut rest, mut rest_terms) = (Vec::new(), Vec::new());
    for term in conjuncts {
        match set_of(&term) {
            Some(set) if touched(&term).iter().all(|at| sets[set].contains(at)) => parts[set].1.push(term),
            Some(set) => parts[set].2.push(term),
            None => rest_terms.push(term),
        }
    }
    for (at, input) in inputs.into_iter().enumerate() {
        match sets.iter().position(|set| set.contains(&at)) {
            Some(set) => parts[set].0.push(input),
            None => rest.push(input),
        }
    }
    let mut plan = as_join(rest, rest_terms);
    for (inputs, own, on) in parts {
        context.log.push(RewriteNote {
            rule: RewriteRule::JoinToSemiJoin,
            change: "a join of which no column is used above became a semi join".into(),
            why: "rows that are the same become one above it, so that it only says which rows stay",
        });
        let join = BinaryJoin::new(JoinKind::Semi, plan, as_join(inputs, own), on);
        plan = if context.is_omitted(RewriteRule::SemiJoinPushdown) { join.into_plan() } else { push(join, context) };
    }
    plan
}

fn as_join(mut inputs: Vec<LogicalPlan>, conjuncts: Vec<Expr>) -> LogicalPlan {
    match inputs.len() {
        1 => inputs.remove(0).filter(conjuncts),
        _ => LogicalPlan::InnerJoin { inputs, conjuncts },
    }
}

/// Whether an index of a larger input leads to the rows that a smaller one asks for.
fn is_found_by_index(larger: &LogicalPlan, smaller: &LogicalPlan, terms: &[Expr]) -> bool {
    let (Some(table), Some(other)) = (scan_of(larger), scan_of(smaller)) else { return false };
    let leads = || {
        let fixed = fixed(larger, terms);
        table
            .indexes
            .iter()
            .any(|index| index.keys.first().is_some_and(|key| key.expr.columns().iter().all(|id| fixed.contains(id))))
    };
    table.source.rows() / MUCH_LARGER > other.source.rows() && leads()
}

fn scan_of(plan: &LogicalPlan) -> Option<&Scan> {
    if let LogicalPlan::Scan(scan) = plan {
        Some(scan)
    } else if let LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } = plan {
        scan_of(input)
    } else {
        None
    }
}
