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
pub fn evaluate(expr: &Expr, batch: &Batch) -> Result<Lane> {
    match evaluate_at_once(expr, batch) {
        Err(error) if is_too_wide(&error, batch.rows) => {
            let values = |part: &Batch| evaluate(expr, part)?.into_array(part.rows);
            let [first, second] = halves(batch);
            join(&values(&first)?, &values(&second)?).map(Lane::Array)
        }
        other => other,
    }
}

/// [`evaluate`] for the rows that are chosen; the others come out as NULL.
pub fn evaluate_where(expr: &Expr, batch: &Batch, chosen: &BooleanArray) -> Result<ArrayRef> {
    match evaluate_where_at_once(expr, batch, chosen) {
        Err(error) if is_too_wide(&error, batch.rows) => {
            let [first, second] = halves(batch);
            let before = evaluate_where(expr, &first, &chosen.slice(0, first.rows))?;
            let after = evaluate_where(expr, &second, &chosen.slice(first.rows, second.rows))?;
            join(&before, &after)
        }
        other => other,
    }
}

/// Computes something of a batch, or of its parts in order where the batch is too wide, and gives each outcome to `take`.
pub fn in_parts<T>(
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

fn join(first: &ArrayRef, second: &ArrayRef) -> Result<ArrayRef> {
    reserve(first.get_buffer_memory_size().saturating_add(second.get_buffer_memory_size()), 1)?;
    Ok(arrow::compute::concat(&[first.as_ref(), second.as_ref()])?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::control::{Control, Interrupt, Limits, enter};
    use crate::types::index;
    use arrow::array::{AsArray, UInt32Array};
    use std::sync::Arc;

    /// Fails for more than `most` rows, as a kernel does whose array would be too wide.
    fn sizes(rows: usize, most: usize) -> Vec<usize> {
        let numbers: ArrayRef = Arc::new((0..index(rows)).collect::<UInt32Array>());
        let batch = Batch::new(vec![numbers], rows);
        let (mut found, mut seen) = (Vec::new(), Vec::new());
        let compute = |part: &Batch| if part.rows > most { Err(too_wide()) } else { Ok(part.clone()) };
        let flow = in_parts(&batch, &compute, &mut |part| {
            found.push(part.rows);
            seen.extend(part.columns[0].as_primitive::<arrow::datatypes::UInt32Type>().values().iter().copied());
            Ok(ControlFlow::Continue(()))
        });
        assert!(flow.is_ok() && seen == (0..index(rows)).collect::<Vec<_>>(), "each row once, in order");
        found
    }

    fn too_wide() -> Error {
        Error::new(SqlState::MEMORY, "too wide")
    }

    #[test]
    fn a_batch_is_halved_until_it_fits() {
        assert_eq!(sizes(8, 8), [8]);
        assert_eq!(sizes(8, 3), [2, 2, 2, 2]);
        assert_eq!(sizes(5, 2), [2, 1, 2]);
        assert_eq!(sizes(1, 1), [1]);
        assert_eq!(sizes(0, 1), [0]);
    }

    #[test]
    fn what_one_row_is_too_wide_for_is_an_error() {
        let control = Control::new(&Interrupt::default(), Limits { memory: Some(1 << 20), ..Limits::default() });
        let _entered = enter(Some(&control));
        let batch = Batch::new(Vec::new(), 4);
        let mut tries = std::cell::Cell::new(0);
        let compute = |part: &Batch| {
            tries.set(tries.get() + 1);
            reserve((2 << 20) * part.rows, part.rows)
        };
        let outcome = in_parts(&batch, &compute, &mut |()| Ok(ControlFlow::Continue(())));
        assert_eq!(outcome.unwrap_err().sqlstate(), SqlState::MEMORY);
        assert_eq!(*tries.get_mut(), 3, "4 rows, 2 rows, 1 row");
    }
}
