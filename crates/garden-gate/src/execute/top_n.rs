//! Top-n: the first rows of an order without sorting all. A worker cuts what it gathered back to `n` rows whenever it has grown
//! fourfold. O(rows × log n); holds at most a few times `n` rows a worker.

use super::control::Control;
use super::pipeline::{Flow, Sequence, Sink};
use super::result::cut;
use super::sort::sorted;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{Direction, Expr, ExprKind, Nulls, SortKey};
use crate::types::SqlType;
use arrow::array::{ArrayRef, Int64Array};
use std::sync::Arc;

/// Fewer gathered rows than this are not worth cutting.
const LEAST_ROWS: usize = 16_384;

pub(super) struct TopN<'a> {
    control: &'a Control,
    /// The keys, and behind them the place of the row in the input, which settles ties.
    keys: Vec<SortKey>,
    offset: usize,
    fetch: usize,
}

impl<'a> TopN<'a> {
    /// `width` is the number of columns of the input.
    pub(super) fn new(control: &'a Control, mut keys: Vec<SortKey>, width: usize, offset: u64, fetch: u64) -> Self {
        let place = Expr::new(ExprKind::Slot(width), SqlType::BigInt, crate::diagnostic::Span::default());
        keys.push(SortKey { expr: place, direction: Direction::Ascending, nulls: Nulls::Last });
        let size = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
        Self { control, keys, offset: size(offset), fetch: size(fetch) }
    }

    fn wanted(&self) -> usize {
        self.offset.saturating_add(self.fetch)
    }

    fn shrink(&self, batches: &[Batch]) -> Result<Vec<Batch>> {
        if batches.is_empty() {
            return Ok(Vec::new());
        }
        let first = cut([sorted(&Batch::concat(batches, None)?, &self.keys)?], 0, Some(self.wanted()));
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
    type Output = Vec<Batch>;

    fn local(&self) -> Result<Gathered> {
        Ok(Gathered::default())
    }

    fn push(&self, local: &mut Gathered, at: Sequence, mut batch: Batch) -> Result<Flow> {
        let first = at.first_row().cast_signed();
        let places: Int64Array = (first..).take(batch.rows).collect();
        batch.columns.push(Arc::new(places) as ArrayRef);
        local.rows += batch.rows;
        local.batches.push(batch);
        if local.rows > self.wanted().saturating_mul(4).max(LEAST_ROWS) {
            local.batches = self.shrink(&local.batches)?;
            local.rows = local.batches.iter().map(|batch| batch.rows).sum();
        }
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<Gathered>) -> Result<Vec<Batch>> {
        let all: Vec<Batch> = locals.into_iter().flat_map(|local| local.batches).collect();
        self.control.hold(all.iter().map(Batch::bytes).sum())?;
        let mut kept = cut(self.shrink(&all)?, self.offset, Some(self.fetch));
        for batch in &mut kept {
            batch.columns.pop();
        }
        Ok(kept)
    }
}
