//! `simplify predicates`
//!
//! ```text
//! x > 5 AND x > 3              →   x > 5
//! x > 5 AND x < 3              →   no rows
//! x = 1 OR x = 2 OR x = 3      →   x IN (1, 2, 3)
//! ```
//! Condition: the terms compare one column with constants of its type. What follows from another term has the same truth value wherever
//! that is TRUE, and a filter keeps TRUE only. Terms that are never TRUE together leave no row. OR and IN are the same by definition
//! (clause 8.4), UNKNOWN for NULL as well.

use super::{Rule, RuleContext};
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::kernel::evaluate_constant;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, KnownExprs, LogicalPlan, Printer, RewriteNote, RewriteRule};
use crate::types::{SqlType, Value};

pub(super) struct SimplifyPredicates;

const NAME: RewriteRule = RewriteRule::SimplifyPredicates;

impl Rule for SimplifyPredicates {
    fn name(&self) -> RewriteRule {
        RewriteRule::SimplifyPredicates
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        Ok(match plan {
            LogicalPlan::Filter { input, conjuncts } => match tidied(conjuncts, context) {
                Some(conjuncts) => input.filter(conjuncts),
                None => LogicalPlan::Empty(input.output()),
            },
            LogicalPlan::Scan(mut scan) => match tidied(std::mem::take(&mut scan.filter), context) {
                Some(filter) => {
                    scan.filter = filter;
                    LogicalPlan::Scan(scan)
                }
                None => LogicalPlan::Empty(LogicalPlan::Scan(scan).output()),
            },
            LogicalPlan::InnerJoin { inputs, conjuncts } => {
                let is_empty = |input: &LogicalPlan| matches!(input, LogicalPlan::Empty(_));
                let conjuncts = conjuncts.into_iter().map(|term| or_to_in(term, context)).collect();
                if inputs.iter().any(is_empty) {
                    LogicalPlan::Empty(inputs.iter().flat_map(LogicalPlan::output).collect())
                } else {
                    LogicalPlan::InnerJoin { inputs, conjuncts }
                }
            }
            other @ (LogicalPlan::OneRow
            | LogicalPlan::Empty(_)
            | LogicalPlan::Values { .. }
            | LogicalPlan::Project { .. }
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
        })
    }
}

/// A comparison of something with a constant, the constant on the right side.
fn comparison(term: &Expr) -> Option<(&Expr, CompareOp, &Expr)> {
    let ExprKind::Compare(op, sides) = term.kind() else { return None };
    let (left, right) = (&sides[0], &sides[1]);
    let is_literal = |expr: &Expr| matches!(expr.kind(), ExprKind::Literal(value) if !value.is_null());
    let is_column = |expr: &Expr| matches!(expr.kind(), ExprKind::Column(_));
    match (is_column(left) && is_literal(right), is_column(right) && is_literal(left)) {
        (true, _) => Some((left, *op, right)),
        (_, true) => Some((right, op.flipped(), left)),
        _ => None,
    }
}

/// Whether a comparison of two constants of one type holds.
fn holds(op: CompareOp, a: &Expr, b: &Expr) -> Option<bool> {
    if a.sql_type().arrow() != b.sql_type().arrow() || matches!(a.sql_type(), SqlType::Array(_) | SqlType::Row(_)) {
        return None;
    }
    match evaluate_constant(&Expr::compare(op, a.clone(), b.clone(), a.span())) {
        Ok(Value::Boolean(truth)) => Some(truth),
        _ => None,
    }
}

/// How one term appears to another about the same column.
#[derive(PartialEq)]
enum Relation {
    /// The other follows from this one.
    Implies,
    /// Both are never TRUE together.
    Excludes,
    Neither,
}

fn relation((op, value): (CompareOp, &Expr), (other, bound): (CompareOp, &Expr)) -> Option<Relation> {
    use CompareOp as C;
    let is = |test: CompareOp| holds(test, value, bound);
    Some(match (op, other) {
        // The value itself tells.
        (C::Equal, _) => match holds(other, value, bound)? {
            true => Relation::Implies,
            false => Relation::Excludes,
        },
        (C::Greater, C::Greater) | (C::GreaterOrEqual, C::GreaterOrEqual) | (C::Greater, C::GreaterOrEqual)
            if is(C::GreaterOrEqual)? =>
        {
            Relation::Implies
        }
        (C::GreaterOrEqual, C::Greater) if is(C::Greater)? => Relation::Implies,
        (C::Less, C::Less) | (C::LessOrEqual, C::LessOrEqual) | (C::Less, C::LessOrEqual) if is(C::LessOrEqual)? => {
            Relation::Implies
        }
        (C::LessOrEqual, C::Less) if is(C::Less)? => Relation::Implies,
        (C::Greater, C::Less | C::LessOrEqual) | (C::GreaterOrEqual, C::Less) if is(C::GreaterOrEqual)? => {
            Relation::Excludes
        }
        (C::GreaterOrEqual, C::LessOrEqual) if is(C::Greater)? => Relation::Excludes,
        (C::Greater, C::NotEqual) if is(C::GreaterOrEqual)? => Relation::Implies,
        (C::GreaterOrEqual, C::NotEqual) if is(C::Greater)? => Relation::Implies,
        (C::Less, C::NotEqual) if is(C::LessOrEqual)? => Relation::Implies,
        (C::LessOrEqual, C::NotEqual) if is(C::Less)? => Relation::Implies,
        _ => Relation::Neither,
    })
}

/// The conjuncts without those that follow from others; `None` when two of them are never TRUE together.
fn tidied(conjuncts: Vec<Expr>, context: &mut RuleContext<'_>) -> Option<Vec<Expr>> {
    let conjuncts: Vec<Expr> = conjuncts.into_iter().map(|term| or_to_in(term, context)).collect();
    let mut dropped = vec![false; conjuncts.len()];
    drop_repeated(&conjuncts, &mut dropped);
    drop_implied(&conjuncts, &mut dropped, context)?;
    Some(conjuncts.into_iter().zip(dropped).filter(|(_, dropped)| !dropped).map(|(term, _)| term).collect())
}

/// Drops terms that say the same as another; the one that was written stays.
fn drop_repeated(conjuncts: &[Expr], dropped: &mut [bool]) {
    let mut known = KnownExprs::default();
    for (at, term) in conjuncts.iter().enumerate() {
        let Some(first) = known.place_of(conjuncts, at).filter(|_| !term.can_raise()) else { continue };
        if conjuncts[first].is_implied() && !term.is_implied() && !dropped[first] {
            dropped[first] = true;
            known.replace(conjuncts, first, at);
        } else {
            dropped[at] = true;
        }
    }
}

/// A comparison of a column with a constant, and its place among the terms.
type Compared<'e> = (usize, (CompareOp, &'e Expr));

/// Drops comparisons that follow from others of the same column; `None` when two are never TRUE together. Comparisons by `<>` tell
/// nothing of each other, and of the others few are left, so that each term is compared with few.
fn drop_implied(conjuncts: &[Expr], dropped: &mut [bool], context: &mut RuleContext<'_>) -> Option<()> {
    let mut kept: HashMap<ColumnId, Vec<Compared<'_>>> = HashMap::default();
    let mut unequal: Vec<(ColumnId, Compared<'_>)> = Vec::new();
    for (at, term) in conjuncts.iter().enumerate().filter(|(at, _)| !dropped[*at]).collect::<Vec<_>>() {
        let Some((column, op, value)) = comparison(term) else { continue };
        let ExprKind::Column(id) = column.kind() else { continue };
        if op == CompareOp::NotEqual {
            unequal.push((*id, (at, (op, value))));
            continue;
        }
        let kept = kept.entry(*id).or_default();
        let mut number = 0;
        while let Some((other, known)) = kept.get(number).copied() {
            match relation(known, (op, value)) {
                Some(Relation::Excludes) => return excluded(conjuncts, (other, at), context),
                Some(Relation::Implies) => {
                    implied(conjuncts, (other, at), context);
                    dropped[at] = true;
                    break;
                }
                Some(Relation::Neither) | None => {}
            }
            match relation((op, value), known) {
                Some(Relation::Excludes) => return excluded(conjuncts, (at, other), context),
                Some(Relation::Implies) => {
                    implied(conjuncts, (at, other), context);
                    dropped[other] = true;
                    kept.remove(number);
                }
                Some(Relation::Neither) | None => number += 1,
            }
        }
        if !dropped[at] {
            kept.push((at, (op, value)));
        }
    }
    for (id, (at, term)) in unequal {
        for (other, known) in kept.get(&id).into_iter().flatten() {
            match relation(*known, term) {
                Some(Relation::Excludes) => return excluded(conjuncts, (*other, at), context),
                Some(Relation::Implies) => {
                    implied(conjuncts, (*other, at), context);
                    dropped[at] = true;
                    break;
                }
                Some(Relation::Neither) | None => {}
            }
        }
    }
    Some(())
}

fn implied(conjuncts: &[Expr], (term, follows): (usize, usize), context: &mut RuleContext<'_>) {
    let printer = Printer::new(context.columns);
    let change = format!("{} was dropped beside {}", printer.expr(&conjuncts[follows]), printer.expr(&conjuncts[term]));
    context.log.push(RewriteNote { rule: NAME, change, why: "it follows from it" });
}

fn excluded(conjuncts: &[Expr], (term, other): (usize, usize), context: &mut RuleContext<'_>) -> Option<()> {
    let printer = Printer::new(context.columns);
    let change = format!("{} AND {} leave no rows", printer.expr(&conjuncts[term]), printer.expr(&conjuncts[other]));
    context.log.push(RewriteNote { rule: NAME, change, why: "they are never TRUE together" });
    None
}

/// `x = 1 OR x = 2` as `x IN (1, 2)`, wherever all terms are such.
fn or_to_in(term: Expr, context: &mut RuleContext<'_>) -> Expr {
    let ExprKind::Or(terms) = term.kind() else { return term };
    let mut column: Option<Expr> = None;
    let mut values: Vec<Expr> = Vec::new();
    let mut seen = KnownExprs::default();
    for part in terms {
        let (found, more) = if let ExprKind::In(operand, list) = part.kind() {
            ((**operand).clone(), list.clone())
        } else {
            match comparison(part) {
                Some((found, CompareOp::Equal, value)) => (found.clone(), vec![value.clone()]),
                _ => return term,
            }
        };
        let is_column = matches!(found.kind(), ExprKind::Column(_));
        let constants = more.iter().all(|value| matches!(value.kind(), ExprKind::Literal(_)));
        if !is_column || !constants || column.as_ref().is_some_and(|known| !known.same_as(&found)) {
            return term;
        }
        column = Some(found);
        for value in more {
            values.push(value);
            if seen.place_of(&values, values.len() - 1).is_some() {
                values.pop();
            }
        }
    }
    let Some(column) = column else { return term };
    let list = Expr::new(ExprKind::In(Box::new(column), values), SqlType::Boolean, term.span());
    let printer = Printer::new(context.columns);
    let change = format!("{} became {}", printer.expr(&term), printer.expr(&list));
    context.log.push(RewriteNote { rule: NAME, change, why: "IN is an OR of equalities" });
    list
}
