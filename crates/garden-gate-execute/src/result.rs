use super::pipeline::{Flow, Sequence, Sink};
use super::spill::{MemoryBudget, Rows, RowsBuilder};
use crate::control::too_many_rows;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Gathers all rows in the order of the input.
pub(super) struct Gather<'a> {
    room: MemoryBudget<'a>,
    /// Rows that there may be.
    most: Option<u64>,
    gathered: AtomicUsize,
}

impl<'a> Gather<'a> {
    /// Gathers all rows.
    pub(super) fn of(room: MemoryBudget<'a>) -> Self {
        Self::at_most(room, None)
    }

    /// Past so many rows the work ends with an error.
    pub(super) fn at_most(room: MemoryBudget<'a>, most: Option<u64>) -> Self {
        Self { room, most, gathered: AtomicUsize::new(0) }
    }
}

impl<'a> Sink for Gather<'a> {
    type Local = RowsBuilder<'a>;
    type Output = Rows;

    fn local(&self) -> Result<RowsBuilder<'a>> {
        Ok(RowsBuilder::new(self.room.clone()))
    }

    fn push(&self, local: &mut RowsBuilder<'a>, at: Sequence, batch: Batch) -> Result<Flow> {
        if let Some(most) = self.most {
            let gathered = self.gathered.fetch_add(batch.rows, Ordering::Relaxed) + batch.rows;
            if gathered as u64 > most {
                return Err(too_many_rows(most));
            }
        }
        local.push(at, batch)?;
        Ok(Flow::More)
    }

    fn finish(&self, locals: Vec<RowsBuilder<'a>>) -> Result<Rows> {
        Ok(RowsBuilder::finish(locals, &self.room))
    }
}

/// Gathers the first rows of the input, and asks for no more than are needed. Rows that workers have gathered in all end the handing out of
/// morsels. A worker stops inside its morsel only when its own rows are enough: others may still gather rows that come after it.
pub(super) struct Limited<'a> {
    room: MemoryBudget<'a>,
    offset: usize,
    fetch: Option<usize>,
    gathered: AtomicUsize,
}

impl<'a> Limited<'a> {
    /// Gathers the rows after `offset`, at most `fetch` of them.
    pub(super) fn new(room: MemoryBudget<'a>, offset: u64, fetch: Option<u64>) -> Self {
        let size = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
        Self { room, offset: size(offset), fetch: fetch.map(size), gathered: AtomicUsize::new(0) }
    }
}

impl<'a> Sink for Limited<'a> {
    type Local = (RowsBuilder<'a>, usize);
    type Output = Rows;

    fn local(&self) -> Result<Self::Local> {
        Ok((RowsBuilder::new(self.room.clone()), 0))
    }

    fn push(&self, (local, own): &mut Self::Local, at: Sequence, batch: Batch) -> Result<Flow> {
        *own += batch.rows;
        let gathered = self.gathered.fetch_add(batch.rows, Ordering::Relaxed) + batch.rows;
        local.push(at, batch)?;
        let Some(wanted) = self.fetch.map(|fetch| fetch.saturating_add(self.offset)) else { return Ok(Flow::More) };
        Ok(match () {
            () if *own >= wanted => Flow::Enough,
            () if gathered >= wanted => Flow::LastMorsel,
            () => Flow::More,
        })
    }

    fn finish(&self, locals: Vec<Self::Local>) -> Result<Rows> {
        let locals = locals.into_iter().map(|(rows, _)| rows).collect();
        RowsBuilder::finish(locals, &self.room).cut(self.offset, self.fetch)
    }
}

/// The rows after the first `offset`, at most `fetch` of them.
pub(super) fn cut(batches: impl IntoIterator<Item = Batch>, mut offset: usize, fetch: Option<usize>) -> Vec<Batch> {
    let mut left = fetch.unwrap_or(usize::MAX);
    let mut kept = Vec::new();
    for batch in batches {
        let skipped = offset.min(batch.rows);
        offset -= skipped;
        let rows = (batch.rows - skipped).min(left);
        left -= rows;
        if rows > 0 {
            kept.push(if rows == batch.rows { batch } else { batch.slice(skipped, rows) });
        }
    }
    kept
}
