//! What the conjuncts of a scan ask of single columns, for a source that can omit rows.

use super::index_read::{Key, as_key};
use crate::catalog::{ColumnConjunct, ColumnTest};
use crate::kernel::value_at;
use crate::logical::{CompareOp, Expr, ExprKind, Scan};
use crate::types::Value;
use std::ops::Bound;

/// The conjuncts that compare a column with constants, as tests of its values. A test holds wherever its conjunct does.
pub(super) fn conjuncts(scan: &Scan) -> Vec<ColumnConjunct> {
    let mut found = Vec::new();
    for term in &scan.filter {
        let Some((column, op, constants)) = compared(scan, term) else { continue };
        let sql_type = scan.source.columns()[column].sql_type;
        let mut values = Vec::with_capacity(constants.len());
        for constant in constants {
            // A row that is compared with NULL is to be counted as UNKNOWN; what cannot be computed fails when a row reaches it, if one does.
            let Ok(Key::Value(value, is_exact)) = as_key(constant, sql_type) else { break };
            values.push((value_at(&value, sql_type, 0), is_exact));
        }
        if values.len() == constants.len() {
            found.extend(test(op, values).map(|test| ColumnConjunct { column, test }));
        }
    }
    found
}

/// The column that a conjunct is about, by its place in the table, and the constants it is compared with, any of which may do.
fn compared<'e>(scan: &Scan, term: &'e Expr) -> Option<(usize, CompareOp, &'e [Expr])> {
    let place = |expr: &Expr| {
        if let ExprKind::Column(id) = expr.kind() {
            let (_, place) = *scan.columns.iter().find(|(known, _)| known == id)?;
            (scan.source.columns().get(place)?.sql_type == expr.sql_type()).then_some(place)
        } else {
            None
        }
    };
    let constant = |expr: &Expr| expr.columns().is_empty() && !expr.has_subquery();
    if let ExprKind::Compare(op, sides) = term.kind() {
        match sides.as_ref() {
            [left, right] if constant(right) => Some((place(left)?, *op, std::slice::from_ref(right))),
            [left, right] if constant(left) => Some((place(right)?, op.flipped(), std::slice::from_ref(left))),
            _ => None,
        }
    } else if let ExprKind::In(operand, list) = term.kind()
        && list.iter().all(constant)
    {
        Some((place(operand)?, CompareOp::Equal, list))
    } else {
        None
    }
}

/// The test of values that a comparison is. Of a constant that is not a value of the column's type there is the nearest one, on whichever
/// side; no value lies between the two, so that including it omits nothing.
fn test(op: CompareOp, values: Vec<(Value, bool)>) -> Option<ColumnTest> {
    let exact = values.iter().all(|(_, is_exact)| *is_exact);
    let mut values = values.into_iter().map(|(value, _)| value);
    let bound = |value: Value, is_open: bool| {
        if is_open && exact { Bound::Excluded(value) } else { Bound::Included(value) }
    };
    Some(match op {
        CompareOp::Equal => ColumnTest::OneOf(values.collect()),
        CompareOp::NotEqual => return None,
        CompareOp::Less | CompareOp::LessOrEqual => {
            ColumnTest::Between(Bound::Unbounded, bound(values.next()?, op == CompareOp::Less))
        }
        CompareOp::Greater | CompareOp::GreaterOrEqual => {
            ColumnTest::Between(bound(values.next()?, op == CompareOp::Greater), Bound::Unbounded)
        }
    })
}
