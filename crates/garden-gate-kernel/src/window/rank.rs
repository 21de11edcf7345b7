use super::PartitionBounds;
use crate::diagnostic::{Error, Result};
use crate::logical::WindowFunction as W;
use crate::problem::Problem;
use crate::types::approximate;
use arrow::array::{Array, ArrayRef, AsArray, Float64Array, Int64Array};
use arrow::datatypes::Int64Type;
use std::sync::Arc;

fn count(value: usize) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}

/// Places in the order: of rows, of groups of peers, and as shares of the partition.
pub(super) fn rank(function: &W, layout: &PartitionBounds) -> ArrayRef {
    let rows = layout.partition.len();
    let share = |row: usize| {
        let (partition, peers) = (layout.partition_of(row), layout.peers_of(row));
        if let W::CumeDist = function {
            approximate(peers.end - partition.start) / approximate(partition.len())
        } else if partition.len() == 1 {
            0.0
        } else {
            approximate(peers.start - partition.start) / approximate(partition.len() - 1)
        }
    };
    let place = |row: usize| {
        let partition = layout.partition_of(row);
        count(
            1 + if let W::RowNumber = function {
                row - partition.start
            } else if let W::DenseRank = function {
                (layout.group[row] - layout.group[partition.start]) as usize
            } else {
                layout.peers_of(row).start - partition.start
            },
        )
    };
    if let W::PercentRank | W::CumeDist = function {
        Arc::new((0..rows).map(|row| Some(share(row))).collect::<Float64Array>())
    } else {
        Arc::new((0..rows).map(|row| Some(place(row))).collect::<Int64Array>())
    }
}

/// The number of the part when each partition is cut into so many, the first ones one row longer where it does not come out even.
pub(super) fn ntile(parts: &ArrayRef, layout: &PartitionBounds) -> Result<ArrayRef> {
    let parts = parts.as_primitive::<Int64Type>();
    let mut tiles = Vec::with_capacity(parts.len());
    for row in 0..parts.len() {
        let partition = layout.partition_of(row);
        if parts.is_null(row) {
            tiles.push(None);
            continue;
        }
        let wanted = usize::try_from(parts.value(row)).ok().filter(|parts| *parts > 0);
        let wanted = wanted.ok_or_else(|| Error::from_facts(&Problem::NoTile { parts: parts.value(row) }))?;
        let (size, longer) = (partition.len() / wanted, partition.len() % wanted);
        let at = row - partition.start;
        let long_rows = longer * (size + 1);
        let tile = if at < long_rows { at / (size + 1) } else { longer + (at - long_rows) / size.max(1) };
        tiles.push(Some(count(tile + 1)));
    }
    Ok(Arc::new(Int64Array::from(tiles)))
}
