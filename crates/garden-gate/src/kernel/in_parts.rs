//! Evaluation of wide batches: where a batch's values, or those on the way to them, would take more than their share of the memory, its two
//! halves are evaluated one after the other.
//!
//! `CHAR_LENGTH(LPAD(t, 20000) || u)` over 8192 rows makes 160 MB of text for 32 kB of numbers. Kernels ask [`reserve`] before they make an
//! array; it refuses one that is too large for several rows, and only what is too large for a single row is the statement's error.
//! O(log rows) attempts more than there are parts.

use super::evaluate::evaluate as evaluate_at_once;
use super::logic::evaluate_where as evaluate_where_at_once;
use super::{Batch, Lane};
use crate::control::reserve;
use crate::diagnostic::{Error, Result, SqlState};
use crate::logical::Expr;
use arrow::array::{Array, ArrayRef, BooleanArray};
use std::ops::ControlFlow;

/// The value of an expression for every row of a batch; columns must have been resolved to slots.
///
/// # Errors
/// Those of the row that fails first in the expression's own order: 22003, 22012, 22007, 22018, 2201x; HY001 where the value of one row, or
/// the values of all, are more than the memory limit allows.
pub(crate) fn evaluate(expr: &Expr, batch: &Batch) -> Result<Lane> {
    match evaluate_at_once(expr, batch) {
        Err(error) if is_too_wide(&error, batch.rows) => {
            let values = |part: Batch| evaluate(expr, &part)?.into_array(part.rows);
            join(halves(batch).map(values)).map(Lane::Array)
        }
        other => other,
    }
}

/// [`evaluate`] for the rows that are chosen; the others come out as NULL.
pub(crate) fn evaluate_where(expr: &Expr, batch: &Batch, chosen: &BooleanArray) -> Result<ArrayRef> {
    match evaluate_where_at_once(expr, batch, chosen) {
        Err(error) if is_too_wide(&error, batch.rows) => {
            let mut start = 0;
            let values = halves(batch).map(|part| {
                let chosen = chosen.slice(start, part.rows);
                start += part.rows;
                evaluate_where(expr, &part, &chosen)
            });
            join(values)
        }
        other => other,
    }
}

/// Computes something of a batch, or of its parts in order where the batch is too wide, and gives each outcome to `take`.
pub(crate) fn in_parts<T>(
    batch: &Batch,
    compute: &dyn Fn(&Batch) -> Result<T>,
    take: &mut dyn FnMut(T) -> Result<ControlFlow<()>>,
) -> Result<ControlFlow<()>> {
    match compute(batch) {
        Err(error) if is_too_wide(&error, batch.rows) => {
            for part in halves(batch) {
                if in_parts(&part, compute, take)?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
            Ok(ControlFlow::Continue(()))
        }
        other => take(other?),
    }
}

fn is_too_wide(error: &Error, rows: usize) -> bool {
    rows > 1 && error.sqlstate() == SqlState::MEMORY
}

fn halves(batch: &Batch) -> [Batch; 2] {
    let middle = batch.rows / 2;
    [batch.slice(0, middle), batch.slice(middle, batch.rows - middle)]
}

fn join(parts: [Result<ArrayRef>; 2]) -> Result<ArrayRef> {
    let [first, second] = parts;
    let (first, second) = (first?, second?);
    reserve(first.get_buffer_memory_size().saturating_add(second.get_buffer_memory_size()), 1)?;
    Ok(arrow::compute::concat(&[first.as_ref(), second.as_ref()])?)
}
