//! Sorted aggregation: rows come with those of a group beside one another, so that a group ends where the keys change, and no table of
//! groups is needed. Each worker groups the morsels it meets; groups that were cut by the end of a morsel are put together at the end. O(rows)
//! comparisons of neighbours. Groups come out in the order of their rows, as those of a hash aggregation do.

use super::aggregate::update;
use super::pipeline::{Flow, Sequence, Sink};
use super::spill::{MemoryBudget, Rows};
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::{Accumulator, Batch, GroupMap, Groups, accumulator};
use crate::logical::{Aggregate, Expr};
use crate::types::index;
use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute;
use std::ops::Range;

pub(super) struct SortedAggregate<'a> {
    pub(super) room: MemoryBudget<'a>,
    /// At least one.
    pub(super) keys: Vec<Expr>,
    /// Arguments are resolved to slots.
    pub(super) aggregates: Vec<Aggregate>,
}

/// The groups of one worker.
pub(super) struct Local {
    accumulators: Vec<Box<dyn Accumulator>>,
    /// The keys of the groups that began in each batch.
    keys: Vec<Vec<ArrayRef>>,
    key_bytes: usize,
    /// For each group the place of its first row.
    first_rows: Vec<u64>,
    ids: Vec<u32>,
    held: MemoryReservation,
}

impl Sink for SortedAggregate<'_> {
    type Local = Local;
    type Output = Rows;

    fn local(&self) -> Result<Local> {
        let (keys, first_rows, ids) = (Vec::new(), Vec::new(), Vec::new());
        let (accumulators, held) = (self.accumulators()?, self.room.nothing());
        Ok(Local { accumulators, keys, key_bytes: 0, first_rows, ids, held })
    }

    fn push(&self, local: &mut Local, at: Sequence, batch: Batch) -> Result<Flow> {
        if batch.rows == 0 {
            return Ok(Flow::More);
        }
        let keys = super::join::keys(&self.keys, &batch)?;
        let runs = runs(&keys)?;
        // The first rows may belong to the group that the batch before ended with; its key is kept already.
        let goes_on = local.ends_with(&keys)?;
        local.ids.clear();
        for (number, run) in runs.iter().enumerate() {
            if number > 0 || !goes_on {
                local.first_rows.push(at.first_row() + run.start as u64);
            }
            local.ids.resize(run.end, index(local.first_rows.len() - 1));
        }
        let begun: UInt32Array = runs[usize::from(goes_on)..].iter().map(|run| index(run.start)).collect();
        if !begun.is_empty() {
            let taken = keys.iter().map(|key| compute::take(key, &begun, None));
            let taken = taken.collect::<Result<Vec<_>, _>>()?;
            local.key_bytes += taken.iter().map(|key| key.get_array_memory_size()).sum::<usize>();
            local.keys.push(taken);
        }
        let groups = Groups::Each { ids: &local.ids, groups: local.first_rows.len() };
        for (aggregate, accumulator) in self.aggregates.iter().zip(&mut local.accumulators) {
            update(aggregate, accumulator.as_mut(), groups, &batch)?;
        }
        local.account()?;
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<Local>) -> Result<Rows> {
        self.room.note_held(locals.iter().map(|local| local.held.bytes()).sum());
        let mut locals: Vec<Local> = locals.into_iter().filter(|local| !local.first_rows.is_empty()).collect();
        let batch = match locals.len() {
            0 => return Ok(Rows::default()),
            1 => {
                let Some(only) = locals.pop() else { return Ok(Rows::default()) };
                let groups = only.first_rows.len();
                results(only.all_keys()?, only.accumulators, groups)?
            }
            _ => self.put_together(&locals)?,
        };
        Rows::counted(vec![batch], &self.room)
    }
}

impl SortedAggregate<'_> {
    fn accumulators(&self) -> Result<Vec<Box<dyn Accumulator>>> {
        self.aggregates.iter().map(accumulator).collect()
    }

    /// The groups of several workers, in the order of their rows; parts of a group lie beside one another in that.
    fn put_together(&self, locals: &[Local]) -> Result<Batch> {
        let mut parts: Vec<(u64, usize, u32)> = Vec::new();
        for (number, local) in locals.iter().enumerate() {
            parts.extend(local.first_rows.iter().zip(0..).map(|(first, group)| (*first, number, group)));
        }
        // By the places of their first rows, parts of a group that the end of a morsel has cut are neighbours.
        parts.sort_unstable();
        let known = locals.iter().map(Local::all_keys).collect::<Result<Vec<_>>>()?;
        let places: Vec<(usize, usize)> = parts.iter().map(|(_, number, group)| (*number, *group as usize)).collect();
        let column = |at: usize| {
            let arrays: Vec<&dyn Array> = known.iter().map(|keys| keys[at].as_ref()).collect();
            compute::interleave(&arrays, &places)
        };
        let keys: Vec<ArrayRef> = (0..self.keys.len()).map(column).collect::<Result<_, _>>()?;
        let runs = runs(&keys)?;
        let mut to: Vec<Vec<u32>> = locals.iter().map(|local| vec![0; local.first_rows.len()]).collect();
        for (group, run) in runs.iter().enumerate() {
            for (_, number, part) in &parts[run.clone()] {
                to[*number][*part as usize] = index(group);
            }
        }
        let mut all = self.accumulators()?;
        for (local, to) in locals.iter().zip(&to) {
            let from: Vec<u32> = (0..index(to.len())).collect();
            for (mine, others) in all.iter_mut().zip(&local.accumulators) {
                mine.merge(others.as_ref(), GroupMap { from: &from, to }, runs.len())?;
            }
        }
        let first: UInt32Array = runs.iter().map(|run| index(run.start)).collect();
        let keys = keys.iter().map(|key| compute::take(key, &first, None)).collect::<Result<_, _>>()?;
        results(keys, all, runs.len())
    }
}

impl Local {
    /// Whether the last group has the keys of the first of these rows.
    fn ends_with(&self, keys: &[ArrayRef]) -> Result<bool> {
        let Some(last) = self.keys.last() else { return Ok(false) };
        let both = |(last, key): (&ArrayRef, &ArrayRef)| {
            compute::concat(&[last.slice(last.len() - 1, 1).as_ref(), key.slice(0, 1).as_ref()])
        };
        let both: Vec<ArrayRef> = last.iter().zip(keys).map(both).collect::<Result<_, _>>()?;
        Ok(runs(&both)?.len() == 1)
    }

    fn all_keys(&self) -> Result<Vec<ArrayRef>> {
        let column = |at: usize| {
            let parts: Vec<&dyn Array> = self.keys.iter().map(|keys| keys[at].as_ref()).collect();
            compute::concat(&parts)
        };
        let width = self.keys.first().map_or(0, Vec::len);
        Ok((0..width).map(column).collect::<Result<_, _>>()?)
    }

    fn account(&mut self) -> Result<()> {
        let states: usize = self.accumulators.iter().map(|state| state.bytes()).sum();
        let bytes = states + self.key_bytes + self.first_rows.capacity() * size_of::<u64>();
        self.held.add(bytes.saturating_sub(self.held.bytes()))
    }
}

/// Runs of rows with the same keys; NULL is the same as NULL.
fn runs(keys: &[ArrayRef]) -> Result<Vec<Range<usize>>> {
    Ok(compute::partition(keys)?.ranges())
}

fn results(mut columns: Vec<ArrayRef>, accumulators: Vec<Box<dyn Accumulator>>, groups: usize) -> Result<Batch> {
    for accumulator in accumulators {
        columns.push(accumulator.finish(groups)?);
    }
    Ok(Batch::new(columns, groups))
}
