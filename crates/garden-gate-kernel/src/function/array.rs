//! Functions of arrays (clauses 6.24, 6.30, 6.41).

use super::{Arguments, Problem};
use crate::composite;
use crate::logical::ArrayFunction as F;
use crate::types::index;
use arrow::array::{Array, ArrayRef, AsArray, ListArray, UInt32Array, new_null_array};
use arrow::buffer::OffsetBuffer;
use arrow::compute;
use std::sync::Arc;

/// CARDINALITY and the other functions of arrays.
pub(super) fn call(function: F, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let list = array.as_list::<i32>();
    let internal = |_| Problem::Overflow(arguments.result);
    match function {
        F::Cardinality => arguments.wholes(|row| Ok(list.is_valid(row).then(|| length(list, row)))),
        F::Contains => {
            composite::contains(&array, &arguments.array(1)?).map_err(|_| Problem::Overflow(arguments.result))
        }
        F::Element => {
            let places = arguments.whole(1);
            let mut picked: Vec<Option<u32>> = Vec::with_capacity(arguments.rows);
            for row in 0..arguments.rows {
                let Some(place) = places.get(row).filter(|_| list.is_valid(row)) else {
                    picked.push(None);
                    continue;
                };
                let count = length(list, row);
                match usize::try_from(place) {
                    Ok(place) if (1..=count).contains(&place) => picked.push(Some(index(start(list, row) + place - 1))),
                    _ => return Err(Problem::NoElement { place, count }),
                }
            }
            if list.values().is_empty() {
                return Ok(new_null_array(&arguments.result.arrow(), arguments.rows));
            }
            compute::take(list.values(), &UInt32Array::from(picked), None).map_err(internal)
        }
        F::ArrayLimit => {
            let most = arguments.whole(1);
            let too_long = |row: &usize| most.get(*row).is_some_and(|most| i64::from(list.value_length(*row)) > most);
            match (0..arguments.rows).filter(|row| list.is_valid(*row)).find(too_long) {
                Some(row) => Err(Problem::ArrayTooLong { count: length(list, row), most: most.get(row).unwrap_or(0) }),
                None => Ok(array),
            }
        }
        F::TrimArray => trim(list, arguments),
    }
}

fn start(list: &ListArray, row: usize) -> usize {
    usize::try_from(list.value_offsets()[row]).unwrap_or(0)
}

fn length(list: &ListArray, row: usize) -> usize {
    usize::try_from(list.value_length(row)).unwrap_or(0)
}

/// `TRIM_ARRAY(array, count)`: without its last elements.
fn trim(list: &ListArray, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let counts = arguments.whole(1);
    let mut rows = Vec::new();
    let mut lengths = Vec::new();
    let mut valid = Vec::new();
    for row in 0..arguments.rows {
        let given = counts.get(row).filter(|_| list.is_valid(row));
        valid.push(given.is_some());
        let Some(count) = given else {
            lengths.push(0);
            continue;
        };
        let own = length(list, row);
        let dropped = usize::try_from(count).ok().filter(|count| *count <= own);
        let dropped = dropped.ok_or(Problem::NoElement { place: count, count: own })?;
        rows.extend((start(list, row)..start(list, row) + own - dropped).map(index));
        lengths.push(own - dropped);
    }
    let values = compute::take(list.values(), &UInt32Array::from(rows), None);
    let values = values.map_err(|_| Problem::Overflow(arguments.result))?;
    let field = if let arrow::datatypes::DataType::List(field) = list.data_type() {
        Arc::clone(field)
    } else {
        return Err(Problem::Internal("an array was expected"));
    };
    Ok(Arc::new(ListArray::new(field, OffsetBuffer::from_lengths(lengths), values, Some(valid.into()))))
}
