//! `fold constants`
//!
//! ```text
//! day > DATE '2024-01-01' + INTERVAL '1' MONTH   →   day > DATE '2024-02-01'
//! WHERE 1 = 2                                     →   no rows
//! WHERE sun = NULL                                →   no rows
//! ```
//! Condition: no column below, and evaluation does not fail; what fails stays and fails when a row reaches it, if one does.
//! A condition that folds to FALSE or UNKNOWN keeps no row, since WHERE keeps only TRUE (clause 7.12).

use super::{Rule, RuleContext};
use crate::diagnostic::Result;
use crate::logical::{Expr, ExprKind, LogicalPlan, Printer, RewriteNote, RewriteRule};
use crate::types::Value;

pub(super) struct FoldConstants;

impl Rule for FoldConstants {
    fn name(&self) -> RewriteRule {
        RewriteRule::FoldConstants
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        Ok(if let LogicalPlan::Filter { input, conjuncts } = plan {
            match fold_conjuncts(conjuncts, context) {
                Some(conjuncts) if conjuncts.is_empty() => *input,
                Some(conjuncts) => LogicalPlan::Filter { input, conjuncts },
                None => LogicalPlan::Empty(input.output()),
            }
        } else if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
            match fold_conjuncts(conjuncts, context) {
                Some(conjuncts) => LogicalPlan::InnerJoin { inputs, conjuncts },
                None => LogicalPlan::Empty(inputs.iter().flat_map(LogicalPlan::output).collect()),
            }
        } else {
            plan.map_exprs(&mut |expr| Ok::<_, crate::diagnostic::Error>(fold_logged(expr, context)))?
        })
    }
}

/// The conjuncts that are left; `None` when one of them is never TRUE.
fn fold_conjuncts(conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> Option<Vec<Expr>> {
    let mut left = Vec::new();
    for conjunct in conjuncts {
        // What is left of a term may be a conjunction itself: each part of it is a term of its own.
        for term in fold_logged(conjunct, context).into_conjuncts() {
            if let ExprKind::Literal(Value::Boolean(false) | Value::Null) = term.kind() {
                return None;
            } else {
                left.push(term)
            }
        }
    }
    Some(left)
}

fn fold_logged(expr: Expr, context: &mut RuleContext<'_>) -> Expr {
    let before = expr.clone();
    let mut changed = false;
    let folded = fold(expr, &mut changed);
    if changed {
        let printer = Printer::new(context.columns);
        context.log.push(RewriteNote {
            rule: RewriteRule::FoldConstants,
            change: format!("{} became {}", printer.expr(&before), printer.expr(&folded)),
            why: "it has the same value for every row",
        });
    }
    folded
}

fn fold(expr: Expr, changed: &mut bool) -> Expr {
    let Ok(expr) = expr.map_children(&mut |child| Ok::<_, std::convert::Infallible>(fold(child, changed)));
    if meets_null(&expr) {
        *changed = true;
        return Expr::literal(Value::Null, expr.sql_type(), expr.span());
    }
    let is_leaf =
        matches!(expr.kind(), ExprKind::Literal(_) | ExprKind::Parameter(..) | ExprKind::Column(_) | ExprKind::Slot(_));
    // Where a part is lazy, one that did not fold may not be reached; elsewhere it would fail, or be too long, once more.
    let is_lazy = matches!(
        expr.kind(),
        ExprKind::Case(..) | ExprKind::Coalesce(_) | ExprKind::And(_) | ExprKind::Or(_) | ExprKind::In(..)
    );
    let is_value = |child: &Expr| matches!(child.kind(), ExprKind::Literal(_) | ExprKind::Parameter(..));
    let mut constant = true;
    expr.kind().for_each_child(|child| constant &= child.is_constant() && (is_lazy || is_value(child)));
    if is_leaf || !constant || matches!(expr.kind(), ExprKind::Subquery(_)) {
        return expr;
    }
    match crate::kernel::evaluate_constant(&expr) {
        Ok(value) if value.is_small() => {
            *changed = true;
            Expr::literal(value, expr.sql_type(), expr.span())
        }
        // A long text stays as its expression, which says it in fewer words.
        Ok(_) | Err(_) => expr,
    }
}

/// Whether an operand is NULL and makes the entire NULL, and nothing in it can fail: `sun = NULL` is UNKNOWN for every row.
fn meets_null(expr: &Expr) -> bool {
    let strict = matches!(expr.kind(), ExprKind::Compare(..) | ExprKind::Arithmetic(..) | ExprKind::Concat(_));
    let mut null = false;
    let mut raises = false;
    expr.kind().for_each_child(|child| {
        null |= matches!(child.kind(), ExprKind::Literal(Value::Null));
        raises |= child.can_raise();
    });
    strict && null && !raises
}
