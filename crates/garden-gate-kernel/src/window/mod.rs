//! Window functions (clause 6.11) over rows that are sorted by partition and order.
//!
//! Frames slide over the rows: what an aggregate needs is kept in a tree of partial results, so that a frame of any size is put together
//! from O(log n) of them (Leis, Kundhikanjana, Kemper, Neumann: VLDB 2015).

mod aggregate;
mod frame;
mod navigate;
mod nested;
mod rank;

pub use aggregate::{aggregate_partitions, partition_aggregate};

use super::{Batch, evaluate};
use crate::catalog::Sequence;
use crate::diagnostic::{Error, Result, SqlState};
use crate::logical::{SortKey, WindowCall, WindowFunction as W};
use crate::types::{SqlType, index};
use arrow::array::{ArrayRef, Int64Array};
use std::ops::Range;
use std::sync::Arc;

/// Where partitions and groups of peers begin and end.
#[derive(Debug)]
pub struct PartitionBounds {
    /// For each row the partition it is in.
    pub partition: Vec<u32>,
    pub partitions: Vec<Range<usize>>,
    /// For each row the group of peers it is in.
    pub group: Vec<u32>,
    pub groups: Vec<Range<usize>>,
}

impl PartitionBounds {
    /// From where each partition ends, and the rows within one at which a group of peers begins. A partition without rows is none.
    pub fn of_ends(ends: &[usize], new_group: impl Fn(usize) -> bool) -> Self {
        let rows = ends.last().copied().unwrap_or(0);
        let mut layout = Self {
            partition: Vec::with_capacity(rows),
            partitions: Vec::with_capacity(ends.len()),
            group: Vec::with_capacity(rows),
            groups: Vec::with_capacity(ends.len()),
        };
        let mut start = 0;
        for end in ends {
            let number = index(layout.partitions.len());
            if *end > start {
                layout.partitions.push(start..*end);
            }
            layout.partition.extend(std::iter::repeat_n(number, end - start));
            for row in start..*end {
                match layout.groups.last_mut() {
                    Some(group) if row > start && !new_group(row) => group.end = row + 1,
                    _ => layout.groups.push(row..row + 1),
                }
                layout.group.push(index(layout.groups.len() - 1));
            }
            start = *end;
        }
        layout
    }

    fn partition_of(&self, row: usize) -> Range<usize> {
        self.partitions[self.partition[row] as usize].clone()
    }

    fn peers_of(&self, row: usize) -> Range<usize> {
        self.groups[self.group[row] as usize].clone()
    }
}

/// The value of a window function for every row of a batch in its order; expressions are resolved to slots.
///
/// # Errors
/// 22013 for a distance that is negative or NULL, 22014 and 22016 for a bad count; whatever expressions raise.
pub fn window(call: &WindowCall, batch: &Batch, layout: &PartitionBounds, order: &[SortKey]) -> Result<ArrayRef> {
    let arguments = call
        .arguments
        .iter()
        .map(|argument| evaluate(argument, batch)?.into_array(batch.rows))
        .collect::<Result<Vec<_>>>()?;
    match &call.function {
        W::RowNumber | W::Rank | W::DenseRank | W::PercentRank | W::CumeDist => Ok(rank::rank(&call.function, layout)),
        W::NextValue(sequence) => numbers(sequence, batch.rows).map_err(|error| error.at(call.span)),
        W::Ntile => rank::ntile(&arguments[0], layout).map_err(|error| error.at(call.span)),
        W::Lead | W::Lag => navigate::shifted(call, &arguments, layout),
        W::FirstValue | W::LastValue | W::NthValue => {
            let frames = frame::frames(call, batch, layout, order)?;
            navigate::in_frame(call, &arguments, &frames)
        }
        W::Aggregate(aggregate) => {
            let frames = frame::frames(call, batch, layout, order)?;
            aggregate::aggregate(aggregate, batch, layout, &frames)
        }
    }
}

/// The next numbers of a sequence.
fn numbers(sequence: &Sequence, rows: usize) -> Result<ArrayRef> {
    let taken = sequence.take(rows).ok_or_else(|| {
        let message = format!("sequence {:?} has no number left", sequence.name);
        Error::new(SqlState::SEQUENCE_EXHAUSTED, message).with_help("ALTER SEQUENCE gives it other bounds, or CYCLE")
    })?;
    let numbers: ArrayRef = Arc::new(Int64Array::from(taken));
    super::cast_values(&numbers, SqlType::BigInt, sequence.numbers.sql_type)
}
