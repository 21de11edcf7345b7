//! Top-n: the first rows of an order without sorting all. A worker cuts what it gathered back to `n` rows whenever it has grown
//! fourfold, and from then on skips rows that come after all of these by their first key. O(rows + n log n · log rows) for rows that come by chance,
//! O(rows × log n) at worst; holds at most a few times `n` rows a worker.

use super::pipeline::{Flow, Sequence, Sink};
use super::result::cut;
use super::sort::{numbered, slot_key};
use super::spill::{MemoryBudget, Order, Rows};
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate, sort_options};
use crate::logical::SortKey;
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef, BooleanArray, Scalar};
use arrow::compute::kernels::cmp;
use std::sync::Arc;

/// Fewer gathered rows than this are not worth cutting.
const LEAST_ROWS: usize = 16_384;

pub(super) struct TopN<'a> {
    room: MemoryBudget<'a>,
    /// The keys, and after them the place of the row in the input, which settles ties.
    keys: Vec<SortKey>,
    offset: usize,
    fetch: usize,
}

impl<'a> TopN<'a> {
    /// `width` is the number of columns of the input.
    pub(super) fn new(room: MemoryBudget<'a>, mut keys: Vec<SortKey>, width: usize, offset: u64, fetch: u64) -> Self {
        keys.push(slot_key(width, SqlType::BigInt));
        let size = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
        Self { room, keys, offset: size(offset), fetch: size(fetch) }
    }

    fn wanted(&self) -> usize {
        self.offset.saturating_add(self.fetch)
    }

    /// The first key of the last row that is kept, when there are as many as are wanted.
    fn bound(&self, kept: &[Batch]) -> Result<Option<ArrayRef>> {
        let rows: usize = kept.iter().map(|batch| batch.rows).sum();
        let (Some(key), Some(last)) = (self.keys.first(), kept.last()) else { return Ok(None) };
        if rows < self.wanted() || last.rows == 0 {
            return Ok(None);
        }
        let value = evaluate(&key.expr, last)?.into_array(last.rows)?.slice(last.rows - 1, 1);
        Ok(Some(value).filter(|value| value.is_valid(0)))
    }

    /// The rows that may come before the bound; NULLs are among them when they come first.
    fn before(&self, bound: &ArrayRef, batch: &Batch) -> Result<Option<BooleanArray>> {
        let Some(key) = self.keys.first() else { return Ok(None) };
        let options = sort_options(key);
        let values = evaluate(&key.expr, batch)?.into_array(batch.rows)?;
        let bound = Scalar::new(Arc::clone(bound));
        // Types that can't be compared so are sorted with all their rows.
        let Ok(before) = (if options.descending { cmp::gt_eq(&values, &bound) } else { cmp::lt_eq(&values, &bound) })
        else {
            return Ok(None);
        };
        let is_kept = |row: Option<bool>| Some(row.unwrap_or(options.nulls_first));
        Ok(Some(if before.null_count() == 0 { before } else { before.iter().map(is_kept).collect() }))
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
    /// What the first key of a row must not be after.
    bound: Option<ArrayRef>,
}

impl Sink for TopN<'_> {
    type Local = Gathered;
    type Output = Rows;

    fn local(&self) -> Result<Gathered> {
        Ok(Gathered::default())
    }

    fn push(&self, local: &mut Gathered, at: Sequence, batch: Batch) -> Result<Flow> {
        let before = local.bound.as_ref().map(|bound| self.before(bound, &batch)).transpose()?.flatten();
        let mut batch = numbered(at, batch);
        if let Some(before) = before {
            let count = before.true_count();
            if count == 0 {
                return Ok(Flow::More);
            }
            batch = batch.filter(&before, count)?;
        }
        local.rows += batch.rows;
        local.batches.push(batch);
        if local.rows > self.wanted().saturating_mul(4).max(LEAST_ROWS) {
            local.batches = self.shrink(&local.batches)?;
            local.rows = local.batches.iter().map(|batch| batch.rows).sum();
            local.bound = self.bound(&local.batches)?;
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
