//! `push filters down`
//!
//! ```text
//! filter a.x = 1 AND a.id = b.id        join a.id = b.id
//!   join                          →       scan a  [a.x = 1]
//!     scan a, scan b                      scan b
//! ```
//! Condition: the term uses columns of one input only (it goes into that input) or of several (it becomes a join condition);
//! above a grouping, only the grouping columns, and there is at least one. Inner joins and groupings keep or drop whole rows by
//! such a term, so a row it is not TRUE for contributes nothing either way. A term that can fail is not moved below a join or
//! grouping, lest it fail for a row that would never have reached it.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan, Printer, RewriteNote};

pub(super) struct PushFilters;

impl Rule for PushFilters {
    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = match plan {
            LogicalPlan::Filter { input, conjuncts } => push(*input, conjuncts, context),
            LogicalPlan::Join { inputs, conjuncts } => {
                let (down, keep): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(|term| !term.can_raise());
                into_join(inputs, keep, down, "ON", context)
            }
            other => other,
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

fn push(input: LogicalPlan, conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> LogicalPlan {
    match input {
        LogicalPlan::Scan(mut scan) => {
            scan.filter.extend(conjuncts);
            LogicalPlan::Scan(scan)
        }
        LogicalPlan::Filter { input, conjuncts: mut inner } => {
            inner.extend(conjuncts);
            push(*input, inner, context)
        }
        LogicalPlan::Join { inputs, conjuncts: on } => {
            let (down, stay): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(|term| !term.can_raise());
            let (on_down, mut kept) = on.into_iter().partition::<Vec<Expr>, _>(|term| !term.can_raise());
            // Conditions of ON come before those of WHERE, as they were written.
            let joined = into_join(inputs, Vec::new(), on_down, "ON", context);
            let LogicalPlan::Join { inputs, conjuncts } = joined else { return filter(joined, stay) };
            kept.splice(0..0, conjuncts);
            filter(into_join(inputs, kept, down, "WHERE", context), stay)
        }
        LogicalPlan::Aggregate { input, keys, aggregates } if !keys.is_empty() => {
            let plain: Vec<ColumnId> = keys
                .iter()
                .filter(|(id, key)| matches!(key.kind(), ExprKind::Column(own) if own == id))
                .map(|(id, _)| *id)
                .collect();
            let below = |term: &Expr| {
                let used = term.columns();
                !used.is_empty() && !term.can_raise() && used.iter().all(|id| plain.contains(id))
            };
            let (down, stay): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(below);
            for term in &down {
                log(
                    context,
                    term,
                    "moved from HAVING below the grouping",
                    "it tests grouping columns, which all rows of a group share",
                );
            }
            let input = if down.is_empty() { *input } else { push(*input, down, context) };
            filter(LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }, stay)
        }
        other => filter(other, conjuncts),
    }
}

/// Gives each of `down` to the one input it concerns; the others join `conjuncts`.
fn into_join(
    mut inputs: Vec<LogicalPlan>,
    mut conjuncts: Vec<Expr>,
    down: Vec<Expr>,
    clause: &str,
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    for term in down {
        let used = term.columns();
        let owner = inputs.iter().position(|input| {
            let output = input.output();
            !used.is_empty() && used.iter().all(|id| output.contains(id))
        });
        match owner {
            Some(at) => {
                let change = format!("moved from {clause} to where its table is read");
                log(context, &term, &change, "an inner join drops a row that one of its inputs lacks");
                let input = std::mem::replace(&mut inputs[at], LogicalPlan::OneRow);
                inputs[at] = push(input, vec![term], context);
            }
            None => conjuncts.push(term),
        }
    }
    LogicalPlan::Join { inputs, conjuncts }
}

fn filter(input: LogicalPlan, conjuncts: Vec<Expr>) -> LogicalPlan {
    if conjuncts.is_empty() { input } else { LogicalPlan::Filter { input: Box::new(input), conjuncts } }
}

fn log(context: &mut RuleContext<'_>, term: &Expr, change: &str, why: &'static str) {
    let change = format!("{} {change}", Printer::new(context.columns).expr(term));
    context.log.push(RewriteNote { rule: "push filters down", change, why });
}
