use super::memory::{Memory, MemoryGauge};
use crate::diagnostic::{Error, Result, SqlState};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Interrupts what a session is running, from any thread.
#[derive(Clone, Debug, Default)]
pub struct Interrupt(Arc<AtomicBool>);

impl Interrupt {
    /// Ends the statement that is running with HY008; without one, nothing happens.
    pub fn interrupt(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Forgets an interrupt that came when nothing ran.
    pub fn clear(&self) {
        self.0.store(false, Ordering::Relaxed);
    }
}

/// What a statement may use.
#[derive(Clone, Copy, Debug, Default)]
pub struct Limits {
    pub time: Option<Duration>,
    /// Bytes held at one time by what a statement gathers.
    pub memory: Option<usize>,
    /// Bytes from which on an operator keeps rows in a file, where not half of what is left of the memory.
    pub spill: Option<usize>,
    /// Rounds of a recursion.
    pub recursion: Option<u64>,
    /// Tells what the process takes, where limits are to hold for all of it.
    pub gauge: Option<MemoryGauge>,
}

/// Checked between batches: interrupt, time and memory.
#[derive(Debug)]
pub struct Control {
    interrupt: Interrupt,
    deadline: Option<(Instant, Duration)>,
    memory: Arc<Memory>,
    recursion_limit: Option<u64>,
}

/// The error of a query that gives more rows than the program allows.
pub fn too_many_rows(most: u64) -> Error {
    let message = format!("the query gives more rows than the {most} that the program allows");
    let help = format!("FETCH FIRST {most} ROWS ONLY gives the first of them");
    Error::new(SqlState::PROGRAM_LIMIT, message).with_help(help)
}

impl Control {
    /// The limits of a statement that begins now.
    pub fn new(interrupt: &Interrupt, limits: Limits) -> Arc<Self> {
        Arc::new(Self {
            interrupt: interrupt.clone(),
            deadline: limits.time.map(|time| (Instant::now() + time, time)),
            memory: Memory::new(limits.memory, limits.spill, limits.gauge),
            recursion_limit: limits.recursion,
        })
    }

    /// The same statement with any amount of memory.
    pub(super) fn without_memory(&self) -> Arc<Self> {
        let (interrupt, memory) = (self.interrupt.clone(), Memory::new(None, None, None));
        Arc::new(Self { interrupt, memory, deadline: self.deadline, recursion_limit: self.recursion_limit })
    }

    /// Rounds that a recursion may take.
    pub fn recursion_limit(&self) -> Option<u64> {
        self.recursion_limit
    }

    /// What the statement may hold in memory.
    pub fn memory(&self) -> &Arc<Memory> {
        &self.memory
    }

    /// Whether the statement may go on.
    ///
    /// # Errors
    /// HY008 after an interrupt, HYT00 past the time limit.
    pub fn check(&self) -> Result<()> {
        if self.interrupt.0.load(Ordering::Relaxed) {
            return Err(Error::new(SqlState::CANCELED, "the statement was interrupted"));
        }
        match self.deadline {
            Some((deadline, time)) if Instant::now() > deadline => {
                let message = format!("the time limit of {} ms is reached", time.as_millis());
                Err(Error::new(SqlState::TIMEOUT, message)
                    .with_help("SET time_limit = … allows more milliseconds, 0 any number"))
            }
            _ => self.memory.observe(),
        }
    }
}
