//! What a statement holds in memory. Operators that can spill to disk hold no more than their share; all others raise HY001
//! where the limit is reached.

use crate::diagnostic::{Error, Result, SqlState};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// No operator spills to disk below this, unless the limit itself is as small.
const LEAST_SHARE: usize = 64 << 10;
/// Bytes that an array may take, whatever the limit.
const NO_MATTER: usize = 256 << 10;
/// Bytes that an array of several rows may take: the least and the most that a limit comes to. Batches that stay in the cache are fastest.
const LEAST_WIDTH: usize = 1 << 20;
const MOST_WIDTH: usize = 16 << 20;
/// Bytes that a process may grow by of which operators take less: what is on its way, and tables that double, are a large part of them.
const PRECIOUS: usize = 256 << 20;

/// Gives the bytes of memory that the process has allocated now. It is called once a batch, by all workers.
pub type MemoryGauge = fn() -> usize;

/// The memory of one statement.
#[derive(Debug)]
pub struct Memory {
    limit: Option<usize>,
    /// Where an operator spills to disk, whatever is left.
    threshold: Option<usize>,
    held: AtomicUsize,
    process: Option<Process>,
}

/// What the process takes beyond what it took when the statement began: arrays on their way from operator to operator are in no
/// operator's account.
#[derive(Debug)]
struct Process {
    gauge: MemoryGauge,
    at_start: usize,
    /// Bytes it may grow by.
    most: usize,
}

impl Process {
    /// What the program itself takes, at most a quarter of the limit.
    const PROGRAM: usize = 16 << 20;
    /// A process grows by so much whatever it does.
    const LEAST_GROWTH: usize = 16 << 20;

    fn new(gauge: MemoryGauge, limit: usize) -> Self {
        // An eighth is for what an allocator keeps of what was freed.
        let most = limit - limit / 8 - Self::PROGRAM.min(limit / 4);
        Self { gauge, at_start: gauge(), most: most.max(Self::LEAST_GROWTH) }
    }

    fn grown(&self) -> usize {
        (self.gauge)().saturating_sub(self.at_start)
    }
}

impl Memory {
    /// What a statement may hold: past `limit` bytes it fails, past `threshold` it spills. `gauge` says what the process holds.
    pub fn new(limit: Option<usize>, threshold: Option<usize>, gauge: Option<MemoryGauge>) -> Arc<Self> {
        let process = gauge.zip(limit).map(|(gauge, limit)| Process::new(gauge, limit));
        Arc::new(Self { limit, threshold, held: AtomicUsize::new(0), process })
    }

    /// Bytes that each of `holders` may hold before it spills to disk: half of what is left, for what comes next needs some too; of the
    /// last bytes that the process may grow by a quarter, for in it what is on its way counts as well.
    pub fn share(&self, holders: usize) -> usize {
        if let Some(threshold) = self.threshold {
            return threshold;
        }
        let Some(limit) = self.limit else { return usize::MAX };
        let left = limit.saturating_sub(self.held.load(Ordering::Relaxed)) / 2;
        let growth = |process: &Process| {
            let left = process.most.saturating_sub(process.grown());
            left / 4 + left.saturating_sub(PRECIOUS) / 4
        };
        let left = self.process.as_ref().map_or(left, |process| left.min(growth(process)));
        (left / holders.max(1)).max(LEAST_SHARE.min(limit / 8)).max(1)
    }

    /// Whether the process has grown so far that who holds `bytes` should write them to a file, though its share is not used up.
    pub fn is_pressed(&self, bytes: usize) -> bool {
        self.process.as_ref().is_some_and(|process| bytes > process.most / 16 && process.grown() > process.most / 8 * 5)
    }

    /// Whether the process has kept to the limit.
    ///
    /// # Errors
    /// HY001 when not.
    pub fn observe(&self) -> Result<()> {
        match (&self.process, self.limit) {
            (Some(process), Some(limit)) if process.grown() > process.most => Err(past(limit)),
            _ => Ok(()),
        }
    }

    /// Whether so many bytes more would still be within the limit; those of several rows, within a part of it.
    ///
    /// # Errors
    /// HY001 when not.
    pub fn check(&self, bytes: usize, rows: usize) -> Result<()> {
        let Some(limit) = self.limit.filter(|_| bytes > NO_MATTER) else { return Ok(()) };
        let wide = rows > 1 && bytes > (limit / 32).clamp(LEAST_WIDTH, MOST_WIDTH);
        let held = self.held.load(Ordering::Relaxed).saturating_add(bytes);
        let grown = |process: &Process| process.grown().saturating_add(bytes) > process.most;
        if wide || held > limit || self.process.as_ref().is_some_and(grown) { Err(past(limit)) } else { Ok(()) }
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
pub struct MemoryReservation {
    memory: Arc<Memory>,
    bytes: usize,
}

impl MemoryReservation {
    /// Nothing held yet.
    pub fn none(memory: &Arc<Memory>) -> Self {
        Self { memory: Arc::clone(memory), bytes: 0 }
    }

    /// Bytes that are held.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Holds more, of what is written to a file before it grows past its share.
    pub fn note(&mut self, bytes: usize) {
        self.memory.held.fetch_add(bytes, Ordering::Relaxed);
        self.bytes += bytes;
    }

    /// Holds more, of what has to stay in memory.
    ///
    /// # Errors
    /// HY001 past the limit.
    pub fn add(&mut self, bytes: usize) -> Result<()> {
        self.note(bytes);
        match self.memory.limit {
            Some(limit) if self.memory.held.load(Ordering::Relaxed) > limit => Err(past(limit)),
            _ => Ok(()),
        }
    }

    /// Goes on with what the other one holds.
    pub fn join(&mut self, mut other: Self) {
        self.bytes += std::mem::take(&mut other.bytes);
    }

    /// Gives all back.
    pub fn release(&mut self) {
        self.memory.held.fetch_sub(std::mem::take(&mut self.bytes), Ordering::Relaxed);
    }
}

impl Drop for MemoryReservation {
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
