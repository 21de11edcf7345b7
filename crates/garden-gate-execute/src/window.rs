//! Window: gathers all rows, sorts them by partition and order, and computes each function over them. Rows come in that order.
//! O(n log n); holds all rows, or where they don't fit into memory, those of one partition.

use super::compile::{Compiler, sort_keys};
use super::filter::select;
use super::join::keys;
use super::pipeline::Sequence;
use super::sort::Sort;
use super::spill::{Order, Rows, RowsBuilder, WholeGroups};
use super::streaming::{internal, places, resolve};
use crate::diagnostic::Result;
use crate::kernel::{Batch, PartitionBounds, sort_options, window};
use crate::logical::{ColumnId, Direction, Expr, Nulls, SortKey, WindowCall};
use crate::physical::Node;
use crate::types::index;
use arrow::array::UInt32Array;
use arrow::row::{self, RowConverter, SortField};
use std::time::Instant;

/// Bytes that a row takes while a window is computed, besides its own: its encoded keys, its place, its copy in the new order, its partition
/// and its group of peers.
const SORTED_ROW: usize = 96;
/// Bytes that a function takes for a row: its frame, its partial results and its value.
const CALL_ROW: usize = 64;

impl<'a> Compiler<'a> {
    pub(super) fn window(
        &self,
        node: &'a Node,
        partition: &[Expr],
        order: &[SortKey],
        calls: &[(ColumnId, WindowCall)],
    ) -> Result<Rows> {
        let input = node.inputs.first().ok_or_else(|| internal("a window has an input"))?;
        let spec = Spec {
            partition: partition.iter().map(|expr| resolve(expr, &input.output)).collect::<Result<_>>()?,
            order: sort_keys(order, &input.output)?,
            calls: calls
                .iter()
                .map(|(_, call)| call.clone().map_exprs(&mut |expr| resolve(&expr, &input.output)))
                .collect::<Result<_>>()?,
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
        let (mut rows, layout) = sorted(all, &spec.partition, &spec.order)?;
        for call in &spec.calls {
            self.run.control.check()?;
            let values = window(call, &rows, &layout, &spec.order)?;
            rows.columns.push(values);
        }
        Ok(rows)
    }
}

/// What is computed, over the columns of the input.
struct Spec {
    partition: Vec<Expr>,
    order: Vec<SortKey>,
    calls: Vec<WindowCall>,
}

/// Keys whose bytes compare as the rows are to be ordered.
fn encoded(exprs: &[Expr], options: &[arrow::compute::SortOptions], batch: &Batch) -> Result<Option<row::Rows>> {
    if exprs.is_empty() {
        return Ok(None);
    }
    let field = |(expr, options): (&Expr, &arrow::compute::SortOptions)| {
        SortField::new_with_options(expr.sql_type().arrow(), *options)
    };
    let converter = RowConverter::new(exprs.iter().zip(options).map(field).collect())?;
    Ok(Some(converter.convert_columns(&keys(exprs, batch)?)?))
}

fn sorted(all: &Batch, partition: &[Expr], order: &[SortKey]) -> Result<(Batch, PartitionBounds)> {
    let plain = vec![arrow::compute::SortOptions { descending: false, nulls_first: false }; partition.len()];
    let partitions = encoded(partition, &plain, all)?;
    let exprs: Vec<Expr> = order.iter().map(|key| key.expr.clone()).collect();
    let options: Vec<_> = order.iter().map(sort_options).collect();
    let peers = encoded(&exprs, &options, all)?;
    let compare = |rows: &Option<row::Rows>, a: u32, b: u32| {
        rows.as_ref().map_or(std::cmp::Ordering::Equal, |rows| rows.row(a as usize).cmp(&rows.row(b as usize)))
    };
    let mut places: Vec<u32> = (0..index(all.rows)).collect();
    if partitions.is_some() || peers.is_some() {
        crate::control::sort_by(&mut places, |a, b| {
            compare(&partitions, *a, *b).then_with(|| compare(&peers, *a, *b)).then_with(|| a.cmp(b))
        })?;
    }
    let differs = |rows: &Option<row::Rows>, row: usize| compare(rows, places[row - 1], places[row]).is_ne();
    let layout = PartitionBounds::new(all.rows, |row| differs(&partitions, row), |row| differs(&peers, row));
    Ok((all.take(&UInt32Array::from(places))?, layout))
}
