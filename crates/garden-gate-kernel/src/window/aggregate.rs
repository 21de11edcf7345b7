//! Aggregates over frames. A frame that is an entire partition is computed once; other frames are put together from a tree whose nodes
//! hold the partial results of 16 nodes below: at most 30 of them a level. DISTINCT and the aggregates that need the order of their
//! rows have no partial results: their frames are computed one by one.

use super::frame::Frame as FrameRows;
use super::{PartitionBounds, nested};
use crate::aggregate::of_frames;
use crate::control::{Turns, checkpoint};
use crate::diagnostic::Result;
use crate::logical::{Aggregate, Expr, ExprKind, Frame, WindowCall, WindowFunction};
use crate::types::{FrameBound, FrameExclusion, FrameUnit, Value, index};
use crate::{Accumulator, Batch, GroupMap, Groups, accumulator, aggregate_inputs, evaluate, kept};
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, UInt32Array};
use arrow::compute;
use std::borrow::Cow;
use std::ops::Range;

/// Children of a node.
const FANOUT: usize = 16;
/// Pairs of a node and a row that are gathered before they are put in.
pub(super) const BLOCK: usize = 1 << 16;

/// The aggregate of a call that, without an order, has one value for all rows of a partition: its frame is all of it.
pub fn partition_aggregate(call: &WindowCall) -> Option<&Aggregate> {
    let Frame { unit, start, end, exclude } = &call.frame;
    let from_first = matches!(start, FrameBound::UnboundedPreceding);
    // Without an order all rows are peers of the current one.
    let of_peers = !matches!(unit, FrameUnit::Rows);
    let whole = match end {
        FrameBound::UnboundedFollowing => from_first || of_peers && matches!(start, FrameBound::CurrentRow),
        FrameBound::CurrentRow => of_peers && (from_first || matches!(start, FrameBound::CurrentRow)),
        FrameBound::UnboundedPreceding | FrameBound::Preceding(_) | FrameBound::Following(_) => false,
    };
    let is_plain = matches!(exclude, FrameExclusion::NoOthers) && whole;
    if let WindowFunction::Aggregate(aggregate) = &call.function
        && is_plain
        && !nested::is_nested(aggregate)
    {
        Some(aggregate)
    } else {
        None
    }
}

/// For each row the value of such an aggregate for the partition that it is in; no row is moved. O(rows).
///
/// # Errors
/// As the aggregate.
pub fn aggregate_partitions(
    aggregate: &Aggregate,
    batch: &Batch,
    partition: &[u32],
    partitions: usize,
) -> Result<ArrayRef> {
    AggregateInput::new(aggregate, batch)?.of_partitions(partition, partitions)
}

/// An aggregate over the frame of each row: once a partition for the default frames, by adding and taking away rows where the aggregate
/// can, else from the values of blocks of rows.
pub(super) fn aggregate(
    aggregate: &Aggregate,
    batch: &Batch,
    layout: &PartitionBounds,
    frames: &[FrameRows],
) -> Result<ArrayRef> {
    if nested::is_nested(aggregate) {
        return nested::aggregate(aggregate, batch, layout, frames);
    }
    let rows = AggregateInput::new(aggregate, batch)?;
    let whole = frames
        .iter()
        .enumerate()
        .all(|(row, frame)| frame[0] == layout.partition_of(row) && frame[1].is_empty() && frame[2].is_empty());
    if whole {
        return rows.of_partitions(&layout.partition, layout.partitions.len());
    }
    if let Some(values) = of_frames(aggregate, (&rows.inputs, rows.filter.as_ref()), frames)? {
        return Ok(values);
    }
    if !accumulator(aggregate)?.is_mergeable() {
        return one_by_one(&rows, frames);
    }
    Tree::new(&rows, batch.rows)?.results(&rows, frames)
}

/// The aggregate with arguments that are computed only where FILTER keeps the row, where they can fail.
pub(super) fn only_where_kept(aggregate: &Aggregate) -> Cow<'_, Aggregate> {
    let Some(filter) = &aggregate.filter else { return Cow::Borrowed(aggregate) };
    if !aggregate.arguments.iter().any(Expr::can_raise) {
        return Cow::Borrowed(aggregate);
    }
    let guarded = |argument: &Expr| {
        let (sql_type, span) = (argument.sql_type(), argument.span());
        let null = Expr::literal(Value::Null, sql_type, span);
        Expr::new(ExprKind::Case(vec![(filter.clone(), argument.clone())], Box::new(null)), sql_type, span)
    };
    let arguments = aggregate.arguments.iter().map(guarded).collect();
    Cow::Owned(Aggregate { arguments, ..aggregate.clone() })
}

/// What the aggregate is computed from, row by row.
struct AggregateInput<'a> {
    aggregate: &'a Aggregate,
    inputs: Vec<ArrayRef>,
    filter: Option<BooleanArray>,
}

impl<'a> AggregateInput<'a> {
    fn new(aggregate: &'a Aggregate, batch: &Batch) -> Result<Self> {
        let inputs = aggregate_inputs(&only_where_kept(aggregate), batch)?;
        let filter = match &aggregate.filter {
            Some(filter) => Some(kept(evaluate(filter, batch)?.into_array(batch.rows)?.as_boolean())),
            None => None,
        };
        Ok(Self { aggregate, inputs, filter })
    }

    /// Every row in the group that is its partition, whose result it gets.
    fn of_partitions(&self, partition: &[u32], partitions: usize) -> Result<ArrayRef> {
        let mut state = accumulator(self.aggregate)?;
        if self.filter.is_none() {
            state.update(Groups::Each { ids: partition, groups: partitions }, &self.inputs)?;
        } else {
            let all: Vec<u32> = (0..index(partition.len())).collect();
            self.put(state.as_mut(), GroupMap { from: &all, to: partition }, partitions)?;
        }
        let results = state.finish(partitions)?;
        Ok(compute::take(&results, &UInt32Array::from(partition.to_vec()), None)?)
    }

    /// Puts each of the rows `from` into the group beside it.
    fn put(&self, state: &mut dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let (from, to): (Vec<u32>, Vec<u32>) = match &self.filter {
            Some(filter) => from.iter().zip(to).filter(|(row, _)| filter.value(**row as usize)).unzip(),
            None => (from.to_vec(), to.to_vec()),
        };
        let rows = UInt32Array::from(from);
        let inputs =
            self.inputs.iter().map(|input| compute::take(input, &rows, None)).collect::<Result<Vec<_>, _>>()?;
        state.update(Groups::Each { ids: &to, groups }, &inputs)
    }
}

/// Each frame by itself; a frame that is the same as that of the row before is not computed again.
fn one_by_one(rows: &AggregateInput<'_>, frames: &[FrameRows]) -> Result<ArrayRef> {
    let mut different: Vec<&FrameRows> = Vec::new();
    let mut which = Vec::with_capacity(frames.len());
    for frame in frames {
        if different.last().is_none_or(|last| *last != frame) {
            different.push(frame);
        }
        which.push(index(different.len() - 1));
    }
    let mut parts: Vec<ArrayRef> = Vec::new();
    let mut state = accumulator(rows.aggregate)?;
    let (mut from, mut to, mut first) = (Vec::new(), Vec::new(), 0);
    for (number, frame) in different.iter().enumerate() {
        checkpoint()?;
        for row in frame.iter().cloned().flatten() {
            from.push(index(row));
            to.push(index(number - first));
        }
        if from.len() > BLOCK || number + 1 == different.len() {
            let groups = number + 1 - first;
            rows.put(state.as_mut(), GroupMap { from: &from, to: &to }, groups)?;
            parts.push(std::mem::replace(&mut state, accumulator(rows.aggregate)?).finish(groups)?);
            from.clear();
            to.clear();
            first = number + 1;
        }
    }
    if parts.is_empty() {
        return state.finish(0);
    }
    let all = compute::concat(&parts.iter().map(AsRef::as_ref).collect::<Vec<&dyn Array>>())?;
    Ok(compute::take(&all, &UInt32Array::from(which), None)?)
}

/// Partial results of 16 rows, of 16 times 16 rows, and so on.
struct Tree {
    levels: Vec<Box<dyn Accumulator>>,
}

impl Tree {
    fn new(rows: &AggregateInput<'_>, count: usize) -> Result<Self> {
        let mut levels: Vec<Box<dyn Accumulator>> = Vec::new();
        let mut nodes = count;
        while nodes > FANOUT {
            let children: Vec<u32> = (0..index(nodes)).collect();
            let parents: Vec<u32> = (0..nodes).map(|node| index(node / FANOUT)).collect();
            let above = nodes.div_ceil(FANOUT);
            let mut level = accumulator(rows.aggregate)?;
            match levels.last() {
                None => rows.put(level.as_mut(), GroupMap { from: &children, to: &parents }, above)?,
                Some(below) => level.merge(below.as_ref(), GroupMap { from: &children, to: &parents }, above)?,
            }
            levels.push(level);
            nodes = above;
        }
        Ok(Self { levels })
    }

    fn results(&self, rows: &AggregateInput<'_>, frames: &[FrameRows]) -> Result<ArrayRef> {
        let mut state = accumulator(rows.aggregate)?;
        let mut turns = Turns::new();
        let mut pairs: Vec<(Vec<u32>, Vec<u32>)> = vec![(Vec::new(), Vec::new()); self.levels.len() + 1];
        for (row, frame) in frames.iter().enumerate() {
            turns.turn()?;
            for range in frame {
                self.cover(range.clone(), index(row), &mut pairs);
            }
            if pairs.iter().any(|(nodes, _)| nodes.len() > BLOCK) || row + 1 == frames.len() {
                for (level, (nodes, to)) in pairs.iter_mut().enumerate() {
                    match level.checked_sub(1) {
                        None => rows.put(state.as_mut(), GroupMap { from: nodes, to }, frames.len())?,
                        Some(above) => {
                            state.merge(self.levels[above].as_ref(), GroupMap { from: nodes, to }, frames.len())?
                        }
                    }
                    nodes.clear();
                    to.clear();
                }
            }
        }
        state.finish(frames.len())
    }

    /// The fewest nodes that make up a run of rows.
    fn cover(&self, mut range: Range<usize>, row: u32, pairs: &mut [(Vec<u32>, Vec<u32>)]) {
        for (level, (nodes, to)) in pairs.iter_mut().enumerate() {
            let mut add = |node: usize| {
                nodes.push(index(node));
                to.push(row);
            };
            if level == self.levels.len() || range.len() <= FANOUT {
                range.for_each(add);
                return;
            }
            while !range.start.is_multiple_of(FANOUT) {
                add(range.start);
                range.start += 1;
            }
            while !range.end.is_multiple_of(FANOUT) {
                range.end -= 1;
                add(range.end);
            }
            range = range.start / FANOUT..range.end / FANOUT;
        }
    }
}
