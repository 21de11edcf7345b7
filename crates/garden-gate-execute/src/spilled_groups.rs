//! Groups that do not fit into memory: rows that came when there was no more room are sorted by their keys, and aggregated some whole
//! groups at a time; a group that another worker had begun before takes in what is found of it. O(n log n) in those rows.

use super::aggregate::{Grouped, HashAggregate, merged};
use super::pipeline::{Sequence, Sink};
use super::sort::{Sort, slot_key};
use super::spill::{Order, Rows, WholeGroups};
use crate::diagnostic::Result;
use crate::kernel::{Batch, GroupMap};
use crate::logical::{Direction, Nulls, SortKey};
use crate::types::{SqlType, index};
use arrow::array::{AsArray, Int64Array, UInt32Array};
use arrow::datatypes::Int64Type;
use std::sync::Arc;

/// Bytes of a group besides its key, and of an aggregate's state, in tables that grow by doubling.
const GROUP: usize = 64;
const STATE: usize = 32;

/// All groups in the order of their first rows. `later` are the rows that are in none of them yet, each with its place as its last
/// column.
pub(super) fn finish(sink: &HashAggregate<'_>, groups: Vec<Grouped>, later: Rows) -> Result<Rows> {
    let Some(mut known) = merged(groups)? else { return Ok(Rows::default()) };
    // The groups that were found first take up to half of it.
    let room = sink.room.divided(2);
    let plain = |expr: &crate::logical::Expr| SortKey {
        expr: expr.clone(),
        direction: Direction::Ascending,
        nulls: Nulls::Last,
    };
    let keys: Vec<SortKey> = sink.keys.iter().map(plain).collect();
    let width = later.width()?;
    let by_place = keys.iter().cloned().chain([slot_key(width - 1, SqlType::BigInt)]).collect();
    let wide = room.clone().with_overhead(GROUP + sink.aggregates.len() * STATE);
    let sorted = Sort::new(wide.clone(), by_place, width).sort(later, sink.batch_rows)?;
    let order = Order::new(&keys)?;
    let mut whole = WholeGroups::new(sorted, &order, &wide);
    let results = sink.keys.len() + sink.aggregates.len();
    let sort = Sort::new(room.clone(), vec![slot_key(results, SqlType::BigInt)], results + 1);
    let mut done = sort.local()?;
    let mut at = Sequence::default();
    while let Some(rows) = whole.next()? {
        let part = aggregated(sink, &rows)?;
        let (rest, first_rows) = taken_in(&mut known, part)?;
        sort.push(&mut done, at, with_places(rest, &first_rows))?;
        at.morsel += 1;
    }
    let count = known.table.len();
    let first_rows = std::mem::take(&mut known.first_rows);
    sort.push(&mut done, at, with_places(known.finish(count)?, &first_rows))?;
    Ok(sort.finish(vec![done])?.select(&(0..results).collect::<Vec<_>>()))
}

/// The groups of rows whose last column is their place.
fn aggregated(sink: &HashAggregate<'_>, rows: &Batch) -> Result<Grouped> {
    let mut part = sink.fresh()?;
    for start in (0..rows.rows).step_by(sink.batch_rows.max(1)) {
        sink.room.control.check()?;
        let batch = rows.slice(start, sink.batch_rows.min(rows.rows - start));
        sink.add(&mut part, &batch)?;
        if let Some(places) = batch.columns.last().map(|column| column.as_primitive::<Int64Type>()) {
            part.note_first_rows(|row| places.value(row).cast_unsigned());
        }
        part.account(true)?;
    }
    Ok(part)
}

/// Takes those groups of `part` in that are `known`; gives the others, finished, and the places of their first rows.
fn taken_in(known: &mut Grouped, mut part: Grouped) -> Result<(Batch, Vec<u64>)> {
    let count = part.table.len();
    let found = known.table.find(&part.table.keys()?, count)?;
    let pairs = |(from, to): (usize, &Option<u32>)| to.map(|to| (index(from), to));
    let (from, to): (Vec<u32>, Vec<u32>) = found.iter().enumerate().filter_map(pairs).unzip();
    if !from.is_empty() {
        let groups = known.table.len();
        for (mine, others) in known.accumulators.iter_mut().zip(&part.accumulators) {
            mine.merge(others.as_ref(), GroupMap { from: &from, to: &to }, groups)?;
        }
        for (from, to) in from.iter().zip(&to) {
            let first = &mut known.first_rows[*to as usize];
            *first = (*first).min(part.first_rows[*from as usize]);
        }
        known.account(true)?;
    }
    let rest: Vec<u32> = (0..count).filter(|group| found[*group].is_none()).map(index).collect();
    let first_rows = std::mem::take(&mut part.first_rows);
    let first_rows = rest.iter().map(|group| first_rows[*group as usize]).collect();
    let finished = part.finish(count)?;
    let rest = if rest.len() == count { finished } else { finished.take(&UInt32Array::from(rest))? };
    Ok((rest, first_rows))
}

fn with_places(mut batch: Batch, first_rows: &[u64]) -> Batch {
    let places: Int64Array = first_rows.iter().map(|place| place.cast_signed()).collect();
    batch.columns.push(Arc::new(places));
    batch
}
