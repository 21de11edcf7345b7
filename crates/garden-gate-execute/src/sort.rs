//! Sort: gathers all rows, encodes the keys so that bytes compare as values do, and orders row numbers by them. Rows with equal
//! keys keep the order of the input. O(n log n); holds all rows, their encoded keys and 4 bytes a row. What does not fit into its share
//! of the memory is sorted in runs that go to files and are merged.

use super::pipeline::{Flow, Sequence, Sink};
use super::spill::{MemoryBudget, Order, Rows, SortedRun, merge};
use crate::control::MemoryReservation;
use crate::diagnostic::{Result, Span};
use crate::kernel::Batch;
use crate::logical::{Direction, Expr, ExprKind, Nulls, SortKey};
use crate::types::SqlType;
use arrow::array::{ArrayRef, Int64Array};
use std::sync::Arc;

/// While rows are sorted there are two copies of them: as they came and in one piece, then that and the rows in their new order.
const COPIES: usize = 2;
/// The place of a row in the input, in each copy; its encoded key's place, its place in the order, and that again while runs are merged.
const PLACES: usize = 8 * COPIES + 8 + 2 * 4;
/// The most that a key of a fixed width takes encoded, or as a number with its row beside it, twice while runs are merged.
const FIXED_KEY: usize = 32;

pub(super) struct Sort<'a> {
    room: MemoryBudget<'a>,
    /// The keys, and after them the place of a row in the input, which settles ties.
    keys: Vec<SortKey>,
    /// Columns of the input.
    width: usize,
    /// How many keys there are of a fixed width, and of any.
    fixed: usize,
    wide: usize,
}

/// What one worker has gathered.
pub(super) struct Unsorted {
    batches: Vec<(Sequence, Batch)>,
    held: MemoryReservation,
    /// Bytes that sorting them takes, `held` among them.
    need: usize,
    runs: Vec<SortedRun>,
}

/// A key that is a column of the batch, ascending, NULL last.
pub(super) fn slot_key(at: usize, sql_type: SqlType) -> SortKey {
    let expr = Expr::new(ExprKind::Slot(at), sql_type, Span::default());
    SortKey { expr, direction: Direction::Ascending, nulls: Nulls::Last }
}

/// The batch with the place of each of its rows in the input as its last column.
pub(super) fn numbered(at: Sequence, mut batch: Batch) -> Batch {
    let first = at.first_row().cast_signed();
    let places: Int64Array = (first..).take(batch.rows).collect();
    batch.columns.push(Arc::new(places) as ArrayRef);
    batch
}

impl<'a> Sort<'a> {
    /// `width` is the number of columns of the input.
    pub(super) fn new(room: MemoryBudget<'a>, mut keys: Vec<SortKey>, width: usize) -> Self {
        let is_wide = |key: &SortKey| {
            let sql_type = key.expr.sql_type();
            sql_type.is_text() || sql_type.is_binary() || matches!(sql_type, SqlType::Array(_) | SqlType::Row(_))
        };
        let wide = keys.iter().filter(|key| is_wide(key)).count();
        let fixed = keys.len() + 1 - wide;
        // The place in the input comes last, so that no two rows are alike: equal rows keep their order, also through files.
        keys.push(slot_key(width, SqlType::BigInt));
        Self { room, keys, width, fixed, wide }
    }

    /// Sorts rows that were gathered before.
    pub(super) fn sort(&self, rows: Rows, batch_rows: usize) -> Result<Rows> {
        let mut local = self.local()?;
        rows.each_batch(batch_rows, &mut |at, batch| {
            self.room.control.check()?;
            self.push(&mut local, at, batch).map(|_| ())
        })?;
        drop(rows);
        self.finish(vec![local])
    }

    /// Bytes that sorting a batch takes, its own among them. A wide key is assumed to be what a row consists of.
    fn need(&self, batch: &Batch) -> usize {
        batch.bytes() * (COPIES + self.wide) + batch.rows * (PLACES + self.fixed * FIXED_KEY + self.wide * FIXED_KEY)
    }

    /// Writes what is held as a run.
    fn write_run(&self, local: &mut Unsorted) -> Result<()> {
        let batches: Vec<Batch> = local.batches.drain(..).map(|(at, batch)| numbered(at, batch)).collect();
        if !batches.is_empty() {
            let all = Batch::concat(&batches, None)?;
            // Each step has its rows once more: what it was made of goes first.
            drop(batches);
            let sorted = Order::new(&self.keys)?.sorted(&all)?;
            drop(all);
            local.runs.push(SortedRun::write(&sorted, &self.room)?);
        }
        local.held.release();
        local.need = 0;
        Ok(())
    }

    /// All rows in memory, in their order.
    fn in_memory(&self, locals: Vec<Unsorted>) -> Result<Rows> {
        let mut held = self.room.nothing();
        let mut all = Vec::new();
        for local in locals {
            held.join(local.held);
            all.extend(local.batches);
        }
        self.room.note_held(held.bytes());
        all.sort_by_key(|(at, _)| *at);
        let batches: Vec<Batch> = all.into_iter().map(|(_, batch)| batch).collect();
        if batches.is_empty() {
            return Ok(Rows::default());
        }
        let all = Batch::concat_within(&batches, None)?;
        drop(batches);
        // In memory rows stand in the order of the input already, and equal ones stay as they come: no place is needed.
        let sorted = Order::new(&self.keys[..self.keys.len() - 1])?.sorted(&all)?;
        drop((all, held));
        Rows::counted(vec![sorted], &self.room)
    }
}

impl Sink for Sort<'_> {
    type Local = Unsorted;
    type Output = Rows;

    fn local(&self) -> Result<Unsorted> {
        Ok(Unsorted { batches: Vec::new(), held: self.room.nothing(), need: 0, runs: Vec::new() })
    }

    fn push(&self, local: &mut Unsorted, at: Sequence, batch: Batch) -> Result<Flow> {
        local.held.note(batch.bytes());
        local.need += self.need(&batch);
        local.batches.push((at, batch));
        if self.room.is_full(local.need, 1) {
            self.room.note_held(local.need);
            self.write_run(local)?;
        }
        Ok(Flow::More)
    }

    fn finish(&self, mut locals: Vec<Unsorted>) -> Result<Rows> {
        if locals.iter().all(|local| local.runs.is_empty()) {
            return self.in_memory(locals);
        }
        let mut runs = Vec::new();
        for local in &mut locals {
            self.write_run(local)?;
            runs.append(&mut local.runs);
        }
        let rows = merge(runs, &Order::new(&self.keys)?, &self.room)?;
        Ok(rows.select(&(0..self.width).collect::<Vec<_>>()))
    }
}
