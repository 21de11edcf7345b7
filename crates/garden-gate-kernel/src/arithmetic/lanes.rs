//! The loops: one over two arrays, one where a side is the same for all rows.

use crate::Lane;
use arrow::array::{Array, ArrowPrimitiveType, AsArray, PrimitiveArray};

/// A side of an operation.
pub(super) struct Side<'a, T: ArrowPrimitiveType> {
    pub(super) array: &'a PrimitiveArray<T>,
    pub(super) constant: bool,
}

// Derived, these would ask the lane's type to be copied as well.
impl<T: ArrowPrimitiveType> Clone for Side<'_, T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T: ArrowPrimitiveType> Copy for Side<'_, T> {}

/// One operand of a loop.
pub(super) fn side<T: ArrowPrimitiveType>(lane: &Lane) -> Side<'_, T> {
    Side { array: lane.array().as_primitive::<T>(), constant: lane.is_constant() }
}

/// `f` for every row; it must not fail, so garbage under a NULL does no harm.
pub(super) fn zip<A, B, O>(
    left: Side<'_, A>,
    right: Side<'_, B>,
    f: impl Fn(A::Native, B::Native) -> O::Native,
) -> PrimitiveArray<O>
where
    A: ArrowPrimitiveType,
    B: ArrowPrimitiveType,
    O: ArrowPrimitiveType,
{
    match (left.constant, right.constant) {
        (true, false) if left.array.is_null(0) => PrimitiveArray::new_null(right.array.len()),
        (true, false) => {
            let a = left.array.value(0);
            right.array.unary(|b| f(a, b))
        }
        (false, true) if right.array.is_null(0) => PrimitiveArray::new_null(left.array.len()),
        (false, true) => {
            let b = right.array.value(0);
            left.array.unary(|a| f(a, b))
        }
        // Lengths are equal by construction of a batch; unequal ones would be cut to the shorter.
        _ => {
            let nulls = arrow::buffer::NullBuffer::union(left.array.nulls(), right.array.nulls());
            let values = left.array.values().iter().zip(right.array.values()).map(|(a, b)| f(*a, *b)).collect();
            PrimitiveArray::new(values, nulls)
        }
    }
}

/// `f` for every row without a NULL; the first failure ends it.
pub(super) fn try_zip<A, B, O, E>(
    left: Side<'_, A>,
    right: Side<'_, B>,
    f: impl Fn(A::Native, B::Native) -> Result<O::Native, E>,
) -> Result<PrimitiveArray<O>, E>
where
    A: ArrowPrimitiveType,
    B: ArrowPrimitiveType,
    O: ArrowPrimitiveType,
{
    match (left.constant, right.constant) {
        (true, false) if left.array.is_null(0) => Ok(PrimitiveArray::new_null(right.array.len())),
        (true, false) => {
            let a = left.array.value(0);
            right.array.try_unary(|b| f(a, b))
        }
        (false, true) if right.array.is_null(0) => Ok(PrimitiveArray::new_null(left.array.len())),
        (false, true) => {
            let b = right.array.value(0);
            left.array.try_unary(|a| f(a, b))
        }
        _ => {
            let nulls = arrow::buffer::NullBuffer::union(left.array.nulls(), right.array.nulls());
            let valid = |row: usize| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
            let rows = left.array.values().iter().zip(right.array.values()).enumerate();
            let values: Result<Vec<O::Native>, E> =
                rows.map(|(row, (a, b))| if valid(row) { f(*a, *b) } else { Ok(O::Native::default()) }).collect();
            Ok(PrimitiveArray::new(values?.into(), nulls))
        }
    }
}
