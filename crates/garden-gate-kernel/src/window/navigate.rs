use super::PartitionBounds;
use super::frame::Frame;
use crate::diagnostic::{Error, Result};
use crate::logical::{WindowCall, WindowFunction as W};
use crate::problem::Problem;
use crate::types::index;
use arrow::array::{Array, ArrayRef, AsArray, UInt32Array, new_null_array};
use arrow::compute;
use arrow::datatypes::Int64Type;

/// LEAD and LAG: the value so many rows further on or back in the partition, or a default.
pub(super) fn shifted(call: &WindowCall, arguments: &[ArrayRef], layout: &PartitionBounds) -> Result<ArrayRef> {
    let values = &arguments[0];
    let offsets = arguments.get(1).map(|offsets| offsets.as_primitive::<Int64Type>());
    let lead = matches!(call.function, W::Lead);
    // Places that count, and for each row how many of them come before it.
    let (places, before) = counted(values, call.ignore_nulls);
    let target = |row: usize| -> Option<usize> {
        let offset = match offsets {
            Some(offsets) if offsets.is_null(row) => return None,
            Some(offsets) => offsets.value(row),
            None => 1,
        };
        let offset = if lead { offset } else { -offset };
        if offset == 0 {
            return Some(row);
        }
        let own = places.get(before[row]).is_some_and(|place| *place as usize == row);
        let at = i64::from(index(before[row]));
        let wanted = if offset > 0 { at + offset - i64::from(!own) } else { at + offset };
        let place = *places.get(usize::try_from(wanted).ok()?)? as usize;
        layout.partition_of(row).contains(&place).then_some(place)
    };
    let picked: Vec<Option<usize>> = (0..values.len()).map(target).collect();
    let default = match arguments.get(2) {
        Some(default) => ArrayRef::clone(default),
        None => new_null_array(values.data_type(), values.len()),
    };
    let order: Vec<(usize, usize)> =
        picked.iter().enumerate().map(|(row, place)| place.map_or((1, row), |place| (0, place))).collect();
    Ok(compute::interleave(&[values.as_ref(), default.as_ref()], &order)?)
}

/// The rows whose values count, and for each row (and the end) how many come before it.
fn counted(values: &ArrayRef, ignore_nulls: bool) -> (Vec<u32>, Vec<usize>) {
    let mut places = Vec::new();
    let mut before = Vec::with_capacity(values.len() + 1);
    for row in 0..values.len() {
        before.push(places.len());
        if !ignore_nulls || values.is_valid(row) {
            places.push(index(row));
        }
    }
    before.push(places.len());
    (places, before)
}

/// `FIRST_VALUE`, `LAST_VALUE` and `NTH_VALUE` of the frame.
pub(super) fn in_frame(call: &WindowCall, arguments: &[ArrayRef], frames: &[Frame]) -> Result<ArrayRef> {
    let values = &arguments[0];
    let numbers = arguments.get(1).map(|numbers| numbers.as_primitive::<Int64Type>());
    let from_last = call.from_last || matches!(call.function, W::LastValue);
    let (places, before) = counted(values, call.ignore_nulls);
    let mut picked: Vec<Option<u32>> = Vec::with_capacity(frames.len());
    for (row, frame) in frames.iter().enumerate() {
        let number = match numbers {
            Some(numbers) if numbers.is_null(row) => {
                picked.push(None);
                continue;
            }
            Some(numbers) => numbers.value(row),
            None => 1,
        };
        let mut left =
            usize::try_from(number - 1).map_err(|_| Error::from_facts(&Problem::BadNth { number }).at(call.span))?;
        let mut found = None;
        let mut look = |range: &std::ops::Range<usize>| {
            let (low, high) = (before[range.start], before[range.end]);
            if found.is_none() && low < high {
                if left < high - low {
                    found = Some(places[if from_last { high - 1 - left } else { low + left }]);
                } else {
                    left -= high - low;
                }
            }
        };
        if from_last {
            frame.iter().rev().for_each(&mut look);
        } else {
            frame.iter().for_each(&mut look);
        }
        picked.push(found);
    }
    Ok(compute::take(values, &UInt32Array::from(picked), None)?)
}
