use super::control::Control;
use super::pipeline::{Flow, Sequence, Sink};
use crate::diagnostic::Result;
use crate::kernel::Batch;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Gathers all rows in the order of the input; with a limit, asks for no more morsels than are needed.
pub(super) struct Gather<'a> {
    pub(super) control: &'a Control,
    offset: usize,
    fetch: Option<usize>,
    gathered: AtomicUsize,
}

impl<'a> Gather<'a> {
    pub(super) fn all(control: &'a Control) -> Self {
        Self { control, offset: 0, fetch: None, gathered: AtomicUsize::new(0) }
    }

    pub(super) fn limited(control: &'a Control, offset: u64, fetch: Option<u64>) -> Self {
        let size = |count: u64| usize::try_from(count).unwrap_or(usize::MAX);
        Self { control, offset: size(offset), fetch: fetch.map(size), gathered: AtomicUsize::new(0) }
    }
}

impl Sink for Gather<'_> {
    type Local = Vec<(Sequence, Batch)>;
    type Output = Vec<Batch>;

    fn local(&self) -> Result<Self::Local> {
        Ok(Vec::new())
    }

    fn push(&self, local: &mut Self::Local, at: Sequence, batch: Batch) -> Result<Flow> {
        self.control.hold(batch.bytes())?;
        let gathered = self.gathered.fetch_add(batch.rows, Ordering::Relaxed) + batch.rows;
        local.push((at, batch));
        let enough = self.fetch.is_some_and(|fetch| gathered >= fetch.saturating_add(self.offset));
        Ok(if enough { Flow::Enough } else { Flow::More })
    }

    fn finish(&self, locals: Vec<Self::Local>) -> Result<Vec<Batch>> {
        let mut all: Vec<(Sequence, Batch)> = locals.into_iter().flatten().collect();
        all.sort_by_key(|(at, _)| *at);
        Ok(cut(all.into_iter().map(|(_, batch)| batch), self.offset, self.fetch))
    }
}

/// The rows behind the first `offset`, at most `fetch` of them.
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
