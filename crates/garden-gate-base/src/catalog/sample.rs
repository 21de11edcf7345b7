use super::Segment;
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute;

/// A number below `bound` that looks drawn, always the same for the same `number` (the finaliser of splitmix64, Steele et al., OOPSLA 2014).
#[must_use]
#[expect(clippy::cast_possible_truncation, reason = "a remainder is below its divisor")]
pub fn scattered(number: usize, bound: usize) -> usize {
    let mut mixed = (number as u64).wrapping_add(1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    mixed = (mixed ^ mixed >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    mixed = (mixed ^ mixed >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
    ((mixed ^ mixed >> 31) % bound.max(1) as u64) as usize
}

/// About so many of the rows of segments: one that looks drawn from each of as many equal stretches. Rows at equal distances would meet or
/// miss together what repeats itself, and neighbours say the same. O(rows of the sample).
pub fn of_segments(segments: &[Segment], rows: usize) -> Result<Segment> {
    let all: usize = segments.iter().map(|segment| segment.rows).sum();
    let width = segments.first().map_or(0, |segment| segment.columns.len());
    let every = (all / rows.max(1)).max(1);
    let mut parts: Vec<Vec<ArrayRef>> = vec![Vec::new(); width];
    let mut count = 0;
    for segment in segments {
        let drawn = |start: usize| index(start + scattered(start, every.min(segment.rows - start)));
        let places: Vec<u32> = (0..segment.rows).step_by(every).map(drawn).collect();
        count += places.len();
        let places = UInt32Array::from(places);
        for (part, column) in parts.iter_mut().zip(&segment.columns) {
            part.push(if every == 1 { column.clone() } else { compute::take(column, &places, None)? });
        }
    }
    let columns = parts.iter().map(|part| {
        let part: Vec<&dyn Array> = part.iter().map(AsRef::as_ref).collect();
        Ok(compute::concat(&part)?)
    });
    Ok(Segment { columns: columns.collect::<Result<_>>()?, rows: if every == 1 { all } else { count } })
}
