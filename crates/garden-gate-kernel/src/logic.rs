//! Three-valued logic (clause 6.39): NULL of BOOLEAN is UNKNOWN.

use super::evaluate::{evaluate, evaluate_array};
use super::{Batch, Lane};
use crate::diagnostic::Result;
use crate::logical::{Expr, Test};
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, UInt32Array, new_null_array};
use arrow::buffer::BooleanBuffer;
use arrow::compute;
use std::sync::Arc;

/// The rows for which a condition is TRUE.
pub fn kept(condition: &BooleanArray) -> BooleanArray {
    if condition.null_count() == 0 { condition.clone() } else { BooleanArray::new(true_bits(condition), None) }
}

/// Rows for which a condition is TRUE: neither FALSE nor UNKNOWN.
pub fn count_true(condition: &BooleanArray) -> usize {
    true_bits(condition).count_set_bits()
}

fn true_bits(condition: &BooleanArray) -> BooleanBuffer {
    condition.nulls().map_or_else(|| condition.values().clone(), |nulls| condition.values() & nulls.inner())
}

/// FALSE as a mask without NULLs.
fn false_bits(condition: &BooleanArray) -> BooleanBuffer {
    let values = !condition.values();
    condition.nulls().map_or(values.clone(), |nulls| &values & nulls.inner())
}

/// Terms in the order they are written. A term that can fail is computed only for rows not settled before it, so that
/// `b <> 0 AND a / b > 1` never divides by zero.
pub(super) fn and(terms: &[Expr], batch: &Batch) -> Result<Lane> {
    fold(terms, batch, |sofar, next| Ok(compute::and_kleene(sofar, next)?), |sofar| !&false_bits(sofar))
}

/// OR in three-valued logic: TRUE wins over UNKNOWN. A term that can fail is evaluated for the rows that no earlier one makes TRUE.
pub(super) fn or(terms: &[Expr], batch: &Batch) -> Result<Lane> {
    fold(terms, batch, |sofar, next| Ok(compute::or_kleene(sofar, next)?), |sofar| !&true_bits(sofar))
}

fn fold(
    terms: &[Expr],
    batch: &Batch,
    combine: impl Fn(&BooleanArray, &BooleanArray) -> Result<BooleanArray>,
    open: impl Fn(&BooleanArray) -> BooleanBuffer,
) -> Result<Lane> {
    let mut sofar: Option<BooleanArray> = None;
    for term in terms {
        let next = match &sofar {
            Some(sofar) if term.can_raise() => evaluate_where(term, batch, &BooleanArray::new(open(sofar), None))?,
            _ => evaluate_array(term, batch)?,
        };
        let next = next.as_boolean();
        sofar = Some(match &sofar {
            None => next.clone(),
            Some(sofar) => combine(sofar, next)?,
        });
    }
    let result = sofar.unwrap_or_else(|| BooleanArray::new(BooleanBuffer::new_set(batch.rows), None));
    Ok(Lane::Array(Arc::new(result)))
}

/// The value of `expr` for the rows of `mask`, NULL for the others, which are not computed.
pub(super) fn evaluate_where(expr: &Expr, batch: &Batch, mask: &BooleanArray) -> Result<ArrayRef> {
    let count = mask.values().count_set_bits();
    if count == batch.rows {
        return evaluate_array(expr, batch);
    }
    if count == 0 {
        // Not even a constant part is computed for rows that are not there: 1 / 0 would fail.
        return Ok(new_null_array(&expr.sql_type().arrow(), batch.rows));
    }
    let dense = evaluate_array(expr, &batch.filter(mask, count)?)?;
    Ok(compute::take(&dense, &ranks(mask), None)?)
}

/// For each row of `mask` its rank among those set; NULL for the others.
fn ranks(mask: &BooleanArray) -> UInt32Array {
    let mut next = 0;
    mask.values()
        .iter()
        .map(|set| {
            set.then(|| {
                next += 1;
                next - 1
            })
        })
        .collect()
}

/// NOT in three-valued logic: of UNKNOWN, UNKNOWN.
pub(super) fn not(operand: &Lane) -> Result<Lane> {
    Ok(Lane::like(Arc::new(compute::not(operand.array().as_boolean())?), operand.is_constant()))
}

/// `IS NULL | TRUE | FALSE | UNKNOWN`: never UNKNOWN itself.
pub(super) fn is(operand: &Lane, test: Test) -> Result<Lane> {
    let array = operand.array();
    let result = match test {
        Test::Null | Test::Unknown => compute::is_null(array)?,
        Test::True => BooleanArray::new(true_bits(array.as_boolean()), None),
        Test::False => BooleanArray::new(false_bits(array.as_boolean()), None),
    };
    Ok(Lane::like(Arc::new(result), operand.is_constant()))
}

/// A condition for every row of a batch.
pub(super) fn condition(expr: &Expr, batch: &Batch) -> Result<BooleanArray> {
    Ok(evaluate(expr, batch)?.into_array(batch.rows)?.as_boolean().clone())
}
