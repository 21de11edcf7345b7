//! Window: gathers all rows, sorts them by partition and order, and computes each function over them. Rows come in that order. Where all
//! rows of a partition have one value, they stay as they came: a hash table numbers the partitions.
//! O(n log n); holds all rows, or where they don't fit into memory, those of one partition.

use super::compile::{Compiler, sort_keys};
use super::filter::select;
use super::join::keys;
use super::pipeline::Sequence;
use super::sort::Sort;
use super::spill::{Order, Rows, RowsBuilder, WholeGroups};
use super::streaming::{internal, places, resolve};
use crate::diagnostic::Result;
use crate::kernel::{
    Batch, GroupTable, OrderColumn, PartitionBounds, PartitionSort, aggregate_partitions, evaluate,
    partition_aggregate, partition_order, sort_options, window,
};
use crate::logical::{Aggregate, ColumnId, Direction, Expr, Nulls, SortKey, WindowCall};
use crate::physical::Node;
use arrow::array::UInt32Array;
use rayon::ThreadPool;
use std::time::Instant;

/// Bytes that a row takes while a window is computed, besides its own: its encoded keys, its place, its copy in the new order, its partition
/// and its group of peers.
const SORTED_ROW: usize = 96;
/// Bytes that a function takes for a row: its frame, its partial results and its value.
const CALL_ROW: usize = 64;

impl<'a> Compiler<'a> {
    /// Values of window functions beside the rows of an input, which are gathered and sorted by partition and order.
    pub(super) fn window(
        &self,
        node: &'a Node,
        partition: &[Expr],
        order: &[SortKey],
        (calls, first): (&[(ColumnId, WindowCall)], Option<u64>),
    ) -> Result<Rows> {
        let input = node.inputs.first().ok_or_else(|| internal("a window has an input"))?;
        let spec = Spec {
            partition: partition.iter().map(|expr| resolve(expr, &input.output)).collect::<Result<_>>()?,
            order: sort_keys(order, &input.output)?,
            calls: calls
                .iter()
                .map(|(_, call)| call.clone().map_exprs(&mut |expr| resolve(&expr, &input.output)))
                .collect::<Result<_>>()?,
            first,
        };
        let layout: Vec<ColumnId> = input.output.iter().copied().chain(calls.iter().map(|(id, _)| *id)).collect();
        let output = places(&node.output, &layout)?;
        let overhead = SORTED_ROW + spec.calls.len() * CALL_ROW;
        let rows = self.gather(input, &self.room(node).with_overhead(overhead))?;
        if rows.is_spilled() {
            return self.window_in_parts(node, &spec, (rows, overhead), &output);
        }
        let (all, mut held) = self.in_memory(input, rows)?;
        if all.rows == 0 {
            return Ok(Rows::default());
        }
        let start = Instant::now();
        held.add(all.bytes())?;
        let done = self.windows(&spec, &all)?;
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
        }
        drop((all, held));
        Rows::counted(vec![select(&done, &output)], &self.room(node))
    }

    /// Sorts by partition and order in files, and works whole partitions out one after the other.
    fn window_in_parts(
        &self,
        node: &'a Node,
        spec: &Spec,
        (rows, overhead): (Rows, usize),
        output: &[usize],
    ) -> Result<Rows> {
        let start = Instant::now();
        let room = self.room(node);
        let plain = |expr: &Expr| SortKey { expr: expr.clone(), direction: Direction::Ascending, nulls: Nulls::Last };
        let partition: Vec<SortKey> = spec.partition.iter().map(plain).collect();
        let keys = partition.iter().cloned().chain(spec.order.iter().cloned()).collect();
        let wide = room.clone().with_overhead(overhead);
        let sorted = Sort::new(wide.clone(), keys, node.inputs[0].output.len()).sort(rows, self.run.batch_rows)?;
        let order = Order::new(&partition)?;
        let mut partitions = WholeGroups::new(sorted, &order, &wide);
        let mut done = RowsBuilder::new(room.clone());
        let mut at = Sequence::default();
        while let Some(batch) = partitions.next()? {
            done.push(at, select(&self.windows(spec, &batch)?, output))?;
            at.morsel += 1;
        }
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
        }
        Ok(done.into_rows())
    }

    /// The rows sorted by partition and order, and after their columns what each function gives.
    fn windows(&self, spec: &Spec, all: &Batch) -> Result<Batch> {
        if let Some(aggregates) = spec.of_partitions() {
            return self.of_partitions(&spec.partition, &aggregates, all);
        }
        let (mut rows, layout) = sorted(all, spec, self.threads()?)?;
        for call in &spec.calls {
            self.run.control.check()?;
            let values = window(call, &rows, &layout, &spec.order)?;
            rows.columns.push(values);
        }
        Ok(rows)
    }

    /// The rows as they came, and after their columns what each function gives for their partition.
    fn of_partitions(&self, partition: &[Expr], aggregates: &[&Aggregate], all: &Batch) -> Result<Batch> {
        let keys = keys(partition, all)?;
        let mut table = GroupTable::new(keys.iter().map(|key| key.data_type().clone()).collect())?;
        let mut partition = Vec::with_capacity(all.rows);
        table.assign(&keys, all.rows, &mut partition)?;
        let mut rows = all.clone();
        for aggregate in aggregates {
            self.run.control.check()?;
            rows.columns.push(aggregate_partitions(aggregate, all, &partition, table.len())?);
        }
        Ok(rows)
    }
}

/// What is computed, over the columns of the input.
struct Spec {
    partition: Vec<Expr>,
    order: Vec<SortKey>,
    calls: Vec<WindowCall>,
    /// How many rows of each partition are wanted.
    first: Option<u64>,
}

impl Spec {
    /// The aggregates, where all rows of a partition have one value, so that none has to be moved.
    fn of_partitions(&self) -> Option<Vec<&Aggregate>> {
        let is_plain = self.order.is_empty() && self.first.is_none();
        self.calls.iter().map(partition_aggregate).collect::<Option<_>>().filter(|_| is_plain)
    }
}

/// The rows by partition and order, of each partition the first ones only where no more are wanted.
fn sorted(all: &Batch, spec: &Spec, threads: Option<&ThreadPool>) -> Result<(Batch, PartitionBounds)> {
    let partition = keys(&spec.partition, all)?;
    let column = |key: &SortKey| {
        let values = evaluate(&key.expr, all)?.into_array(all.rows)?;
        Ok(OrderColumn { values, options: sort_options(key) })
    };
    let order = spec.order.iter().map(column).collect::<Result<Vec<_>>>()?;
    let first = spec.first.map(|first| usize::try_from(first).unwrap_or(usize::MAX));
    let sort = PartitionSort { order: &order, first, threads };
    let (places, layout) = partition_order(&partition, all.rows, &sort)?;
    Ok((all.take_with(&UInt32Array::from(places), threads)?, layout))
}
