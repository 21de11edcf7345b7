use super::Segment;
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute;

/// Rows that lie next to each other in a sample: cheaper to get than single ones, few enough to be spread.
const RUN: usize = 16;

/// About so many of the rows of segments, in short runs spread evenly. O(rows of the sample).
pub fn of_segments(segments: &[Segment], rows: usize) -> Result<Segment> {
    let all: usize = segments.iter().map(|segment| segment.rows).sum();
    let width = segments.first().map_or(0, |segment| segment.columns.len());
    let every = (all / rows.max(1)).max(1);
    let mut parts: Vec<Vec<ArrayRef>> = vec![Vec::new(); width];
    let mut count = 0;
    for segment in segments {
        let runs = (0..segment.rows).step_by(RUN * every);
        let places: Vec<u32> = runs.flat_map(|start| (start..segment.rows.min(start + RUN)).map(index)).collect();
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
