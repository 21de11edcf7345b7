//! Hash aggregation, and DISTINCT as a grouping without aggregates. Each worker groups what it meets; the groups are merged at
//! the end. Groups come out in the order in which their first rows came in, however many workers there were.

use super::control::Control;
use super::merge_groups;
use super::pipeline::{Flow, Sequence, Sink};
use crate::diagnostic::Result;
use crate::kernel::{Accumulator, Batch, GroupTable, Groups, accumulator, aggregate_inputs, evaluate, kept};
use crate::logical::{Aggregate, Expr};
use crate::types::index;
use arrow::array::{AsArray, UInt32Array};
use rayon::ThreadPool;

pub(super) struct HashAggregate<'a> {
    pub(super) control: &'a Control,
    pub(super) keys: Vec<Expr>,
    /// Arguments are resolved to slots.
    pub(super) aggregates: Vec<Aggregate>,
    /// The worker threads, where there are several.
    pub(super) threads: Option<&'a ThreadPool>,
}

/// The groups of one worker.
pub(super) struct Grouped {
    pub(super) table: GroupTable,
    pub(super) accumulators: Vec<Box<dyn Accumulator>>,
    /// For each group the place of its first row.
    pub(super) first_rows: Vec<u64>,
    ids: Vec<u32>,
    bytes: usize,
}

impl Sink for HashAggregate<'_> {
    type Local = Grouped;
    type Output = Vec<Batch>;

    fn local(&self) -> Result<Grouped> {
        self.fresh()
    }

    fn push(&self, local: &mut Grouped, at: Sequence, batch: Batch) -> Result<Flow> {
        let groups = if self.keys.is_empty() {
            Groups::One { rows: batch.rows }
        } else {
            let keys = super::join::keys(&self.keys, &batch)?;
            local.table.assign(&keys, batch.rows, &mut local.ids)?;
            local.note_first_rows(at.first_row());
            Groups::Each { ids: &local.ids, groups: local.table.len() }
        };
        for (aggregate, accumulator) in self.aggregates.iter().zip(&mut local.accumulators) {
            update(aggregate, accumulator.as_mut(), groups, &batch)?;
        }
        local.account(self.control)?;
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<Grouped>) -> Result<Vec<Batch>> {
        if let Some(threads) = self.threads.filter(|_| merge_groups::pays(&locals)) {
            return merge_groups::in_parts(self, &locals, threads);
        }
        let several = locals.len() > 1;
        let mut locals = locals.into_iter();
        let Some(mut all) = locals.next() else { return Ok(Vec::new()) };
        for other in locals {
            all.merge(other)?;
            all.account(self.control)?;
        }
        let groups = if self.keys.is_empty() { 1 } else { all.table.len() };
        if groups == 0 {
            return Ok(Vec::new());
        }
        let first_rows = std::mem::take(&mut all.first_rows);
        let batch = all.finish(groups)?;
        if !several || self.keys.is_empty() {
            return Ok(vec![batch]);
        }
        let mut order: Vec<u32> = (0..index(groups)).collect();
        order.sort_unstable_by_key(|group| first_rows[*group as usize]);
        Ok(vec![batch.take(&UInt32Array::from(order))?])
    }
}

impl HashAggregate<'_> {
    /// No groups yet.
    pub(super) fn fresh(&self) -> Result<Grouped> {
        Ok(Grouped {
            table: GroupTable::new(self.keys.iter().map(|key| key.sql_type().arrow()).collect())?,
            accumulators: self.aggregates.iter().map(accumulator).collect::<Result<_>>()?,
            first_rows: Vec::new(),
            ids: Vec::new(),
            bytes: 0,
        })
    }
}

/// Takes the rows of a batch into an aggregate: those that its filter keeps.
fn update(aggregate: &Aggregate, accumulator: &mut dyn Accumulator, groups: Groups<'_>, batch: &Batch) -> Result<()> {
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
    fn note_first_rows(&mut self, first_row: u64) {
        if self.first_rows.len() == self.table.len() {
            return;
        }
        for (row, group) in self.ids.iter().enumerate() {
            if *group as usize == self.first_rows.len() {
                self.first_rows.push(first_row + row as u64);
            }
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
            mine.merge(others.as_ref(), (&from, &map), groups)?;
        }
        Ok(())
    }

    /// Keys and results, one row a group.
    pub(super) fn finish(self, groups: usize) -> Result<Batch> {
        let mut columns = self.table.keys()?;
        for accumulator in self.accumulators {
            columns.push(accumulator.finish(groups)?);
        }
        Ok(Batch::new(columns, groups))
    }

    /// Tells the control how much more memory is held than before.
    pub(super) fn account(&mut self, control: &Control) -> Result<()> {
        let bytes = self.table.bytes() + self.accumulators.iter().map(|state| state.bytes()).sum::<usize>();
        let grown = bytes.saturating_sub(self.bytes);
        self.bytes = self.bytes.max(bytes);
        control.hold(grown)
    }
}
