//! The groups of several workers become one grouping. Few groups are merged into those of the first worker; many are cut into
//! parts by the hash of their keys, and each part is merged by a worker of its own (the second phase of Leis et al., SIGMOD
//! 2014, section 4.4).

use super::aggregate::{Grouped, HashAggregate};
use crate::diagnostic::Result;
use crate::kernel::{Batch, GroupMap, GroupTable, hash_parts};
use crate::types::index;
use arrow::array::{Array, UInt32Array};
use arrow::compute;
use rayon::ThreadPool;
use rayon::prelude::*;

/// Groups from which on it pays to merge in parts.
const PARALLEL_GROUPS: usize = 1 << 14;
/// Rows of one batch of the result.
const OUTPUT_ROWS: usize = 1 << 16;

/// Whether these groups are to be merged in parts: there are many, and each aggregate can be merged a few groups at a time.
pub(super) fn pays(locals: &[Grouped]) -> bool {
    locals.len() > 1
        && locals.iter().map(|local| local.table.len()).sum::<usize>() >= PARALLEL_GROUPS
        && locals.iter().all(|local| local.accumulators.iter().all(|state| state.is_mergeable()))
}

/// All groups in the order of their first rows, where the keys of each worker ascend and those of all together have come in this order too:
/// then they are merged as sorted lists. `None` otherwise. O(groups).
pub(super) fn by_ascending_keys(sink: &HashAggregate<'_>, locals: &[Grouped]) -> Result<Option<Batch>> {
    let tables: Vec<&GroupTable> = locals.iter().map(|local| &local.table).collect();
    let Some((table, maps)) = GroupTable::merged_ascending(&tables) else { return Ok(None) };
    let groups = table.len();
    let mut first_rows = vec![u64::MAX; groups];
    for (local, map) in locals.iter().zip(&maps) {
        for (first, to) in local.first_rows.iter().zip(map) {
            let known = &mut first_rows[*to as usize];
            *known = (*known).min(*first);
        }
    }
    // Groups come out in the order of their first rows, whatever the number of workers: that of the keys has to be the same.
    if groups == 0 || !first_rows.is_sorted() {
        return Ok(None);
    }
    let mut all = sink.fresh()?;
    all.table = table;
    for (local, map) in locals.iter().zip(&maps) {
        let from: Vec<u32> = (0..index(map.len())).collect();
        for (mine, others) in all.accumulators.iter_mut().zip(&local.accumulators) {
            mine.merge(others.as_ref(), GroupMap { from: &from, to: map }, groups)?;
        }
    }
    all.account(true)?;
    Ok(Some(all.finish(groups)?))
}

/// A part of all groups: their keys and results, and for each the place of its first row.
struct GroupPartition {
    batch: Batch,
    first_rows: Vec<u64>,
}

/// All groups in the order of their first rows. O(groups) expected work, shared by `threads`.
pub(super) fn in_parts(sink: &HashAggregate<'_>, locals: &[Grouped], threads: &ThreadPool) -> Result<Vec<Batch>> {
    let parts = threads.current_num_threads().next_power_of_two();
    threads.install(|| {
        let cut = |local: &Grouped| -> Result<(Batch, Vec<Vec<u32>>)> {
            let keys = Batch::new(local.table.keys()?, local.table.len());
            let places = hash_parts(&keys.columns, keys.rows, parts);
            Ok((keys, places))
        };
        let cut: Vec<(Batch, Vec<Vec<u32>>)> = locals.par_iter().map(cut).collect::<Result<_>>()?;
        let merge = |part: usize| merge_part(sink, locals, &cut, part);
        let merged: Vec<GroupPartition> = (0..parts).into_par_iter().map(merge).collect::<Result<_>>()?;
        ordered(&merged)
    })
}

fn merge_part(
    sink: &HashAggregate<'_>,
    locals: &[Grouped],
    cut: &[(Batch, Vec<Vec<u32>>)],
    part: usize,
) -> Result<GroupPartition> {
    let mut all = sink.fresh()?;
    let mut map = Vec::new();
    for (local, (keys, places)) in locals.iter().zip(cut) {
        let places = &places[part];
        let keys = keys.take(&UInt32Array::from(places.clone()))?;
        all.table.assign(&keys.columns, keys.rows, &mut map)?;
        all.first_rows.resize(all.table.len(), u64::MAX);
        for (place, to) in places.iter().zip(&map) {
            // Workers take morsels as they come: the first one to meet a key may not have its first row.
            let known = &mut all.first_rows[*to as usize];
            *known = (*known).min(local.first_rows[*place as usize]);
        }
        for (mine, others) in all.accumulators.iter_mut().zip(&local.accumulators) {
            mine.merge(others.as_ref(), GroupMap { from: places, to: &map }, all.table.len())?;
        }
    }
    all.account(true)?;
    let first_rows = std::mem::take(&mut all.first_rows);
    Ok(GroupPartition { batch: all.finish(first_rows.len())?, first_rows })
}

/// The groups of all parts as one sequence. Each part is made of few ascending runs, one a worker, which a merge sort finds.
fn ordered(parts: &[GroupPartition]) -> Result<Vec<Batch>> {
    let places = |(number, part): (usize, &GroupPartition)| {
        let number = index(number);
        let place = move |(at, first): (usize, &u64)| (*first, number, index(at));
        part.first_rows.iter().enumerate().map(place).collect::<Vec<_>>()
    };
    let mut order: Vec<(u64, u32, u32)> = parts.iter().enumerate().flat_map(places).collect();
    order.par_sort_by_key(|(first, ..)| *first);
    let width = parts.first().map_or(0, |part| part.batch.columns.len());
    let output = |rows: &[(u64, u32, u32)]| -> Result<Batch> {
        let rows: Vec<(usize, usize)> = rows.iter().map(|(_, part, at)| (*part as usize, *at as usize)).collect();
        let column = |column: usize| {
            let columns: Vec<&dyn Array> = parts.iter().map(|part| part.batch.columns[column].as_ref()).collect();
            compute::interleave(&columns, &rows)
        };
        Ok(Batch::new((0..width).map(column).collect::<Result<_, _>>()?, rows.len()))
    };
    order.par_chunks(OUTPUT_ROWS).map(output).collect()
}
