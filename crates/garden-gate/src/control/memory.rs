//! What a statement holds in memory. Operators that can go over to files hold no more than their share; all others raise HY001
//! where the limit is reached.

use crate::diagnostic::{Error, Result, SqlState};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// No operator goes over to files below this, unless the limit itself is as small.
const LEAST_SHARE: usize = 64 << 10;

/// The memory of one statement.
#[derive(Debug)]
pub(crate) struct Memory {
    limit: Option<usize>,
    /// Where an operator goes over to files, whatever is left.
    threshold: Option<usize>,
    held: AtomicUsize,
}

impl Memory {
    pub(crate) fn new(limit: Option<usize>, threshold: Option<usize>) -> Arc<Self> {
        Arc::new(Self { limit, threshold, held: AtomicUsize::new(0) })
    }

    /// Bytes that each of `holders` may hold before it goes over to a file: half of what is left, for what comes next needs some too.
    pub(crate) fn share(&self, holders: usize) -> usize {
        if let Some(threshold) = self.threshold {
            return threshold;
        }
        let Some(limit) = self.limit else { return usize::MAX };
        let left = limit.saturating_sub(self.held.load(Ordering::Relaxed));
        (left / 2 / holders.max(1)).max(LEAST_SHARE.min(limit / 8)).max(1)
    }
}

impl Memory {
    /// Whether so many bytes more would still be within the limit.
    ///
    /// # Errors
    /// HY001 when not.
    pub(crate) fn check(&self, bytes: usize) -> Result<()> {
        match self.limit {
            Some(limit) if self.held.load(Ordering::Relaxed).saturating_add(bytes) > limit => Err(past(limit)),
            _ => Ok(()),
        }
    }
}

fn past(limit: usize) -> Error {
    let message = format!("the statement needs more than the memory limit of {}", shown(limit));
    Error::new(SqlState::MEMORY, message).with_help(
        "SET memory_limit = '…' allows more; sorts, groupings, hash joins and windows spill to disk, \
         the result and the other joins do not",
    )
}

/// Memory that is held until this is dropped.
#[derive(Debug)]
pub(crate) struct Held {
    memory: Arc<Memory>,
    bytes: usize,
}

impl Held {
    pub(crate) fn none(memory: &Arc<Memory>) -> Self {
        Self { memory: Arc::clone(memory), bytes: 0 }
    }

    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    /// Holds more, of what is written to a file before it grows past its share.
    pub(crate) fn note(&mut self, bytes: usize) {
        self.memory.held.fetch_add(bytes, Ordering::Relaxed);
        self.bytes += bytes;
    }

    /// Holds more, of what has to stay in memory.
    ///
    /// # Errors
    /// HY001 past the limit.
    pub(crate) fn add(&mut self, bytes: usize) -> Result<()> {
        self.note(bytes);
        match self.memory.limit {
            Some(limit) if self.memory.held.load(Ordering::Relaxed) > limit => Err(past(limit)),
            _ => Ok(()),
        }
    }

    /// Goes on with what the other one holds.
    pub(crate) fn join(&mut self, mut other: Self) {
        self.bytes += std::mem::take(&mut other.bytes);
    }

    pub(crate) fn release(&mut self) {
        self.memory.held.fetch_sub(std::mem::take(&mut self.bytes), Ordering::Relaxed);
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.release();
    }
}

fn shown(bytes: usize) -> String {
    match bytes {
        ..1_000_000 => format!("{} kB", bytes / 1000),
        1_000_000..10_000_000_000 => format!("{} MB", bytes / 1_000_000),
        _ => format!("{} GB", bytes / 1_000_000_000),
    }
}
