//! `mark join to semi join`
//!
//! ```text
//! filter m AND …                  filter …
//!   mark join → m        →          semi join            (anti join for NOT m)
//! ```
//! Condition: the truth value of the mark join is used in this one place, as a term of its own. A filter keeps TRUE only: the rows
//! with a match; under NOT, those for which it is FALSE, so a NULL on either side of NOT IN keeps its effect.

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Expr, ExprKind, JoinKind, LogicalPlan, RewriteNote, RewriteRule};

pub(super) struct MarkToSemiJoin;

impl Rule for MarkToSemiJoin {
    fn name(&self) -> RewriteRule {
        RewriteRule::MarkToSemiJoin
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = match plan {
            LogicalPlan::Filter { mut input, conjuncts } => {
                let mut left = Vec::new();
                for (at, conjunct) in conjuncts.iter().enumerate() {
                    let others = conjuncts.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, expr)| expr);
                    match mark_of(conjunct) {
                        Some((mark, kind)) if !is_used(mark, others, &input) && change(&mut input, mark, kind) => {
                            let (change, why) = if kind == JoinKind::Semi {
                                ("a query in a condition became a semi join", "only rows with a match are kept")
                            } else {
                                ("a query under NOT became an anti join", "only rows without a match are kept")
                            };
                            context.log.push(RewriteNote {
                                rule: RewriteRule::MarkToSemiJoin,
                                change: change.into(),
                                why,
                            });
                        }
                        _ => left.push(conjunct.clone()),
                    }
                }
                input.filter(left)
            }
            other => other,
        };
        plan.map_inputs(&mut |input| self.apply(input, context))
    }
}

/// The mark that a term is, and what the join becomes by it.
fn mark_of(conjunct: &Expr) -> Option<(ColumnId, JoinKind)> {
    match conjunct.kind() {
        ExprKind::Column(id) => Some((*id, JoinKind::Semi)),
        ExprKind::Not(inner) => match inner.kind() {
            ExprKind::Column(id) => Some((*id, JoinKind::Anti)),
            _ => None,
        },
        _ => None,
    }
}

fn is_used<'e>(mark: ColumnId, mut others: impl Iterator<Item = &'e Expr>, input: &LogicalPlan) -> bool {
    let uses = |expr: &Expr| expr.columns().contains(&mark);
    if others.any(uses) {
        return true;
    }
    let mut used = false;
    input.walk(&mut |node| node.for_each_expr(|expr| used |= uses(expr)));
    used
}

/// Finds the mark join on the way down and changes it.
fn change(plan: &mut LogicalPlan, mark: ColumnId, kind: JoinKind) -> bool {
    match plan {
        LogicalPlan::Join(join) if join.mark == Some(mark) && join.kind == JoinKind::Mark => {
            join.kind = kind;
            join.mark = None;
            true
        }
        LogicalPlan::Join(join) if join.kind != JoinKind::Full => change(&mut join.left, mark, kind),
        LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } => change(input, mark, kind),
        _ => false,
    }
}
