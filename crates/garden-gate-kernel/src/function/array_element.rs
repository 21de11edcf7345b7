//! `SET array[place] = value` (clause 14.15): the array with another value at a place.

use super::{Arguments, Problem};
use crate::types::index;
use arrow::array::{Array, ArrayRef, AsArray, ListArray};
use arrow::buffer::OffsetBuffer;
use arrow::compute;
use arrow::datatypes::DataType;
use std::sync::Arc;

/// Elements of an array that an assignment may make longer.
const MOST_ELEMENTS: usize = 1_000_000;

/// Each array with the value at the place; one that is shorter is filled up with NULLs.
///
/// # Errors
/// 2200E for an array that is NULL; 2202E for a place that no array has, or that is NULL.
pub(super) fn replaced(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let list = array.as_list::<i32>();
    let (places, values) = (arguments.whole(1), arguments.array(2)?);
    let DataType::List(field) = list.data_type() else { return Err(Problem::Overflow(arguments.result)) };
    let nulls = arrow::array::new_null_array(field.data_type(), 1);
    // Sources of elements: the arrays, the new values, and a NULL.
    let mut picked = Vec::with_capacity(list.values().len() + arguments.rows);
    let mut lengths = Vec::with_capacity(arguments.rows);
    for row in 0..arguments.rows {
        if list.is_null(row) {
            return Err(Problem::NullArray);
        }
        let given = places.get(row).unwrap_or(0);
        let place = usize::try_from(given).ok().filter(|place| (1..=MOST_ELEMENTS).contains(place));
        let place = place.ok_or(Problem::NoPlace { place: given, most: MOST_ELEMENTS })?;
        let start = usize::try_from(list.value_offsets()[row]).unwrap_or(0);
        let length = usize::try_from(list.value_length(row)).unwrap_or(0);
        for at in 1..=length.max(place) {
            picked.push(match at {
                at if at == place => (1, row),
                at if at <= length => (0, start + at - 1),
                _ => (2, 0),
            });
        }
        lengths.push(length.max(place));
    }
    let total = lengths.iter().sum::<usize>();
    if u32::try_from(total).is_err() || i32::try_from(index(total)).is_err() {
        return Err(Problem::NoPlace { place: i64::MAX, most: MOST_ELEMENTS });
    }
    let sources: [&dyn Array; 3] = [list.values().as_ref(), values.as_ref(), nulls.as_ref()];
    let elements = compute::interleave(&sources, &picked).map_err(|_| Problem::Overflow(arguments.result))?;
    Ok(Arc::new(ListArray::new(Arc::clone(field), OffsetBuffer::from_lengths(lengths), elements, None)))
}
