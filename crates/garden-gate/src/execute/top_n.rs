//! Top-n: the first rows of an order without sorting all. A worker cuts what it gathered back to `n` rows whenever it has grown
//! fourfold. O(rows × log n); holds at most a few times `n` rows a worker.

use super::pipeline::{Flow, Sequence, Sink};
use super::result::cut;
use super::sort::{numbered, slot_key};
use super::spill::{Order, Room, Rows};
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::SortKey;
use crate::types::SqlType;

/// Fewer gathered rows than this are not worth cutting.
const LEAST_ROWS: usize = 16_384;

pub(super) struct TopN<'a> {
    room: Room<'a>,
    /// The keys, and behind them the place of the row in the input, which settles ties.
    keys: Vec<SortKey>,
    offset: usize,
    fetch: usize,
}

impl<'a> TopN<'a> {
    /// `width` is the number of columns of the input.
    pub(super) fn new(room: Room<'a>, mut keys: Vec<SortKey>, width: usize, offset: u64, fetch: u64) -> Self {
        keys.push(slot_key(width, SqlType::BigInt));
        let size = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
        Self { room, keys, offset: size(offset), fetch: size(fetch) }
    }

    fn wanted(&self) -> usize {
        self.offset.saturating_add(self.fetch)
    }

    fn shrink(&self, batches: &[Batch]) -> Result<Vec<Batch>> {
        if batches.is_empty() {
            return Ok(Vec::new());
        }
        let first = cut([Order::new(&self.keys)?.sorted(&Batch::concat(batches, None)?)?], 0, Some(self.wanted()));
        // A slice would keep all rows alive: copy what is kept.
        first.iter().map(|batch| batch.take(&(0..crate::types::index(batch.rows)).collect())).collect()
    }
}

#[derive(Default)]
pub(super) struct Gathered {
    batches: Vec<Batch>,
    rows: usize,
}

impl Sink for TopN<'_> {
    type Local = Gathered;
    type Output = Rows;

    fn local(&self) -> Result<Gathered> {
        Ok(Gathered::default())
    }

    fn push(&self, local: &mut Gathered, at: Sequence, batch: Batch) -> Result<Flow> {
        let batch = numbered(at, batch);
        local.rows += batch.rows;
        local.batches.push(batch);
        if local.rows > self.wanted().saturating_mul(4).max(LEAST_ROWS) {
            local.batches = self.shrink(&local.batches)?;
            local.rows = local.batches.iter().map(|batch| batch.rows).sum();
        }
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<Gathered>) -> Result<Rows> {
        let all: Vec<Batch> = locals.into_iter().flat_map(|local| local.batches).collect();
        let mut held = self.room.nothing();
        held.add(all.iter().map(Batch::bytes).sum())?;
        let mut kept = cut(self.shrink(&all)?, self.offset, Some(self.fetch));
        for batch in &mut kept {
            batch.columns.pop();
        }
        drop(held);
        Rows::counted(kept, &self.room)
    }
}
