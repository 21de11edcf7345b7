//! Window: gathers all rows, sorts them by partition and order, and computes each function over them. Rows come in that order.
//! O(n log n); holds all rows.

use super::compile::{Compiler, sort_keys};
use super::filter::select;
use super::join::keys;
use super::streaming::{internal, places, resolve};
use crate::diagnostic::Result;
use crate::kernel::{Batch, Layout, sort_options, window};
use crate::logical::{ColumnId, Expr, SortKey, WindowCall};
use crate::physical::Node;
use crate::types::index;
use arrow::array::UInt32Array;
use arrow::row::{RowConverter, Rows, SortField};
use std::time::Instant;

impl<'a> Compiler<'a> {
    pub(super) fn window(
        &self,
        node: &'a Node,
        partition: &[Expr],
        order: &[SortKey],
        calls: &[(ColumnId, WindowCall)],
    ) -> Result<Vec<Batch>> {
        let input = node.inputs.first().ok_or_else(|| internal("a window has an input"))?;
        let all = self.gathered(input)?;
        if all.rows == 0 {
            return Ok(Vec::new());
        }
        let start = Instant::now();
        self.run.control.hold(all.bytes())?;
        let partition = partition.iter().map(|expr| resolve(expr, &input.output)).collect::<Result<Vec<_>>>()?;
        let order = sort_keys(order, &input.output)?;
        let (mut rows, layout) = sorted(&all, &partition, &order)?;
        drop(all);
        for (_, call) in calls {
            self.run.control.check()?;
            let call = call.clone().map_exprs(&mut |expr| resolve(&expr, &input.output))?;
            let values = window(&call, &rows, &layout, &order)?;
            rows.columns.push(values);
        }
        if let Some(measure) = self.measure(node) {
            measure.add_time(start.elapsed());
        }
        let layout: Vec<ColumnId> = input.output.iter().copied().chain(calls.iter().map(|(id, _)| *id)).collect();
        Ok(vec![select(&rows, &places(&node.output, &layout)?)])
    }
}

/// Keys whose bytes compare as the rows are to be ordered.
fn encoded(exprs: &[Expr], options: &[arrow::compute::SortOptions], batch: &Batch) -> Result<Option<Rows>> {
    if exprs.is_empty() {
        return Ok(None);
    }
    let field = |(expr, options): (&Expr, &arrow::compute::SortOptions)| {
        SortField::new_with_options(expr.sql_type().arrow(), *options)
    };
    let converter = RowConverter::new(exprs.iter().zip(options).map(field).collect())?;
    Ok(Some(converter.convert_columns(&keys(exprs, batch)?)?))
}

fn sorted(all: &Batch, partition: &[Expr], order: &[SortKey]) -> Result<(Batch, Layout)> {
    let plain = vec![arrow::compute::SortOptions { descending: false, nulls_first: false }; partition.len()];
    let partitions = encoded(partition, &plain, all)?;
    let exprs: Vec<Expr> = order.iter().map(|key| key.expr.clone()).collect();
    let options: Vec<_> = order.iter().map(sort_options).collect();
    let peers = encoded(&exprs, &options, all)?;
    let compare = |rows: &Option<Rows>, a: u32, b: u32| {
        rows.as_ref().map_or(std::cmp::Ordering::Equal, |rows| rows.row(a as usize).cmp(&rows.row(b as usize)))
    };
    let mut places: Vec<u32> = (0..index(all.rows)).collect();
    if partitions.is_some() || peers.is_some() {
        places.sort_unstable_by(|a, b| {
            compare(&partitions, *a, *b).then_with(|| compare(&peers, *a, *b)).then_with(|| a.cmp(b))
        });
    }
    let differs = |rows: &Option<Rows>, row: usize| compare(rows, places[row - 1], places[row]).is_ne();
    let layout = Layout::new(all.rows, |row| differs(&partitions, row), |row| differs(&peers, row));
    Ok((all.take(&UInt32Array::from(places))?, layout))
}
