//! Hash aggregation, and DISTINCT as a grouping without aggregates. Each worker groups what it meets; the groups are merged at
//! the end. Groups come out in the order in which their first rows came in, however many workers there were. A worker whose groups have
//! outgrown its share of the memory keeps the rows that come then for later, in a file.

use super::pipeline::{Flow, Sequence, Sink};
use super::sort::numbered;
use super::spill::{MemoryBudget, Rows, RowsBuilder};
use super::streaming::internal;
use super::{merge_groups, spilled_groups};
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::{
    Accumulator, Batch, GroupMap, GroupTable, Groups, accumulator, aggregate_inputs, evaluate, kept, share_state,
};
use crate::logical::{Aggregate, Expr};
use crate::types::index;
use arrow::array::{ArrayRef, AsArray, UInt32Array};
use rayon::ThreadPool;

pub(super) struct HashAggregate<'a> {
    pub(super) room: MemoryBudget<'a>,
    pub(super) keys: Vec<Expr>,
    /// Arguments are resolved to slots.
    pub(super) aggregates: Vec<Aggregate>,
    /// The places of those that have a state of their own; see [`share_state`].
    pub(super) owners: Vec<usize>,
    pub(super) batch_rows: usize,
    /// The worker threads, where there are several.
    pub(super) threads: Option<&'a ThreadPool>,
}

/// The groups of one worker.
pub(super) struct Grouped {
    pub(super) table: GroupTable,
    pub(super) accumulators: Vec<Box<dyn Accumulator>>,
    /// For each aggregate its accumulator, and itself where that is made for another one.
    results: Vec<(usize, Option<Aggregate>)>,
    /// For each group the place of its first row.
    pub(super) first_rows: Vec<u64>,
    ids: Vec<u32>,
    held: MemoryReservation,
}

/// What one worker has gathered.
pub(super) struct Local<'a> {
    pub(super) groups: Grouped,
    /// The rows that came when there was no more room for groups.
    pub(super) later: Option<RowsBuilder<'a>>,
}

impl<'a> Sink for HashAggregate<'a> {
    type Local = Local<'a>;
    type Output = Rows;

    fn local(&self) -> Result<Local<'a>> {
        Ok(Local { groups: self.fresh()?, later: None })
    }

    fn push(&self, local: &mut Local<'a>, at: Sequence, batch: Batch) -> Result<Flow> {
        if let Some(later) = &mut local.later {
            later.push(at, numbered(at, batch))?;
            return Ok(Flow::More);
        }
        let groups = &mut local.groups;
        self.add(groups, &batch)?;
        // The groups of a single worker are in the order of their first rows.
        if self.threads.is_some() {
            groups.note_first_rows(|row| at.first_row() + row as u64);
        }
        if self.keys.is_empty() {
            // There is one group, which nothing else can take.
            groups.account(true)?;
        } else {
            groups.account(false)?;
            // Tables grow by doubling, and at the end those of all workers become one.
            if self.room.is_full(groups.held.bytes(), 2) {
                local.later = Some(RowsBuilder::new(self.room.divided(4)));
            }
        }
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<Local<'a>>) -> Result<Rows> {
        let (mut all, mut later) = (Vec::new(), Vec::new());
        for local in locals {
            all.push(local.groups);
            later.extend(local.later);
        }
        self.room.note_held(all.iter().map(|groups| groups.held.bytes()).sum());
        let later = RowsBuilder::finish(later, &self.room);
        if !later.segments.is_empty() {
            all.iter_mut().for_each(Grouped::number_first_rows);
            return spilled_groups::finish(self, all, later);
        }
        if all.len() > 1
            && let Some(batch) = merge_groups::by_ascending_keys(self, &all)?
        {
            return Rows::counted(vec![batch], &self.room);
        }
        if let Some(threads) = self.threads.filter(|_| merge_groups::pays(&all)) {
            return Rows::counted(merge_groups::in_parts(self, &all, threads)?, &self.room);
        }
        let several = all.len() > 1;
        let Some(mut all) = merged(all)? else { return Ok(Rows::default()) };
        let groups = if self.keys.is_empty() { 1 } else { all.table.len() };
        if groups == 0 {
            return Ok(Rows::default());
        }
        let first_rows = std::mem::take(&mut all.first_rows);
        let batch = all.finish(groups)?;
        if !several || self.keys.is_empty() {
            return Rows::counted(vec![batch], &self.room);
        }
        let mut order: Vec<u32> = (0..index(groups)).collect();
        order.sort_unstable_by_key(|group| first_rows[*group as usize]);
        Rows::counted(vec![batch.take(&UInt32Array::from(order))?], &self.room)
    }
}

/// The groups of all workers as those of the first.
pub(super) fn merged(locals: Vec<Grouped>) -> Result<Option<Grouped>> {
    let mut locals = locals.into_iter();
    let Some(mut all) = locals.next() else { return Ok(None) };
    for other in locals {
        all.merge(other)?;
        all.account(true)?;
    }
    Ok(Some(all))
}

/// The places of aggregates that do not share the state of one before them.
pub(super) fn owners(aggregates: &[Aggregate]) -> Vec<usize> {
    let is_owner = |at: &usize| !aggregates[..*at].iter().any(|known| share_state(known, &aggregates[*at]));
    (0..aggregates.len()).filter(is_owner).collect()
}

impl HashAggregate<'_> {
    /// No groups yet.
    pub(super) fn fresh(&self) -> Result<Grouped> {
        let result = |at: usize| {
            let is_of = |owner: &usize| *owner == at || share_state(&self.aggregates[*owner], &self.aggregates[at]);
            let state = self.owners.iter().position(is_of).unwrap_or_default();
            (state, (self.owners[state] != at).then(|| self.aggregates[at].clone()))
        };
        Ok(Grouped {
            table: GroupTable::new(self.keys.iter().map(|key| key.sql_type().arrow()).collect())?,
            accumulators: self.owners.iter().map(|at| accumulator(&self.aggregates[*at])).collect::<Result<_>>()?,
            results: (0..self.aggregates.len()).map(result).collect(),
            first_rows: Vec::new(),
            ids: Vec::new(),
            held: self.room.nothing(),
        })
    }

    /// Takes in the rows of a batch.
    pub(super) fn add(&self, groups: &mut Grouped, batch: &Batch) -> Result<()> {
        let members = if self.keys.is_empty() {
            Groups::One { rows: batch.rows }
        } else {
            let keys = super::join::keys(&self.keys, batch)?;
            groups.table.assign(&keys, batch.rows, &mut groups.ids)?;
            Groups::Each { ids: &groups.ids, groups: groups.table.len() }
        };
        for (at, accumulator) in self.owners.iter().zip(&mut groups.accumulators) {
            update(&self.aggregates[*at], accumulator.as_mut(), members, batch)?;
        }
        Ok(())
    }
}

/// Takes the rows of a batch into an aggregate: those that its filter keeps.
pub(super) fn update(
    aggregate: &Aggregate,
    accumulator: &mut dyn Accumulator,
    groups: Groups<'_>,
    batch: &Batch,
) -> Result<()> {
    let Some(filter) = &aggregate.filter else {
        return accumulator.update(groups, &aggregate_inputs(aggregate, batch)?);
    };
    let mask = kept(evaluate(filter, batch)?.into_array(batch.rows)?.as_boolean());
    let count = mask.values().count_set_bits();
    let batch = batch.filter(&mask, count)?;
    let arguments = aggregate_inputs(aggregate, &batch)?;
    match groups {
        Groups::One { .. } => accumulator.update(Groups::One { rows: count }, &arguments),
        Groups::Each { ids, groups } => {
            let ids: Vec<u32> = mask.values().set_indices().map(|row| ids[row]).collect();
            accumulator.update(Groups::Each { ids: &ids, groups }, &arguments)
        }
    }
}

impl Grouped {
    /// Notes where the groups that the last batch began have their first rows.
    pub(super) fn note_first_rows(&mut self, place: impl Fn(usize) -> u64) {
        if self.first_rows.len() == self.table.len() {
            return;
        }
        for (row, group) in self.ids.iter().enumerate() {
            if *group as usize == self.first_rows.len() {
                self.first_rows.push(place(row));
            }
        }
    }

    /// Numbers the groups in their order where no places of first rows were noted. A row that comes later has a greater place than the number of
    /// each of them: there are no more groups than rows.
    fn number_first_rows(&mut self) {
        if self.first_rows.is_empty() {
            self.first_rows = (0..self.table.len() as u64).collect();
        }
    }

    fn merge(&mut self, other: Self) -> Result<()> {
        let keys = other.table.keys()?;
        let mut map = Vec::new();
        if keys.is_empty() {
            map.push(0);
        } else {
            self.table.assign(&keys, other.table.len(), &mut map)?;
            self.first_rows.resize(self.table.len(), u64::MAX);
            for (first, to) in other.first_rows.iter().zip(&map) {
                let known = &mut self.first_rows[*to as usize];
                *known = (*known).min(*first);
            }
        }
        let groups = self.table.len().max(1);
        let from: Vec<u32> = (0..index(map.len())).collect();
        for (mine, others) in self.accumulators.iter_mut().zip(other.accumulators) {
            mine.merge(others.as_ref(), GroupMap { from: &from, to: &map }, groups)?;
        }
        Ok(())
    }

    /// Keys and results, one row a group.
    pub(super) fn finish(self, groups: usize) -> Result<Batch> {
        let mut columns = self.table.keys()?;
        let copied = |(state, other): &(usize, Option<Aggregate>)| {
            let copy = other.as_ref().and_then(|aggregate| self.accumulators[*state].finishing_as(aggregate));
            copy.map(|copy| copy.finish(groups)).transpose()
        };
        let copies: Vec<Option<ArrayRef>> = self.results.iter().map(copied).collect::<Result<_>>()?;
        let mut own: Vec<Option<Box<dyn Accumulator>>> = self.accumulators.into_iter().map(Some).collect();
        for ((state, _), copy) in self.results.iter().zip(copies) {
            columns.push(match copy {
                Some(column) => column,
                None => {
                    own[*state].take().ok_or_else(|| internal("the state of an aggregate is gone"))?.finish(groups)?
                }
            });
        }
        Ok(Batch::new(columns, groups))
    }

    /// Counts the memory held now; past the limit it is an error where the groups `must_stay`.
    pub(super) fn account(&mut self, must_stay: bool) -> Result<()> {
        let states: usize = self.accumulators.iter().map(|state| state.bytes()).sum();
        let bytes = self.table.bytes() + self.first_rows.capacity() * size_of::<u64>() + states;
        let grown = bytes.saturating_sub(self.held.bytes());
        if must_stay {
            return self.held.add(grown);
        }
        self.held.note(grown);
        Ok(())
    }
}
