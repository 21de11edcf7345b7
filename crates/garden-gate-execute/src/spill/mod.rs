//! What does not fit into memory: rows go to temporary files block by block and come back in the same order, so that a statement gives
//! the same rows whether they fit or not.

mod file;
mod groups;
mod merge;
mod order;
mod rows;

pub(super) use groups::WholeGroups;
pub(super) use merge::{SortedRun, merge};
pub(super) use order::Order;
pub(super) use rows::{Rows, RowsBuilder, Segment};

use crate::control::Control;
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::physical::NodeMeasure;
use file::{Block, SpillFile};
use std::sync::atomic::Ordering;
use std::sync::{Arc, OnceLock};

/// The memory that an operator may use, and where it is counted.
#[derive(Clone)]
pub(super) struct MemoryBudget<'a> {
    pub(super) control: &'a Control,
    pub(super) measure: Option<&'a NodeMeasure>,
    /// Bytes that one worker holds before it goes over to a file.
    pub(super) share: usize,
    /// Bytes that each row needs besides its own, in what is made of the rows later.
    pub(super) overhead: usize,
    /// The file of the operator, once it has one.
    file: Arc<OnceLock<Arc<SpillFile>>>,
}

impl<'a> MemoryBudget<'a> {
    /// The share of each of `holders`.
    pub(super) fn new(control: &'a Control, measure: Option<&'a NodeMeasure>, holders: usize) -> Self {
        Self { control, measure, share: control.memory().share(holders), overhead: 0, file: Arc::default() }
    }

    /// Memory that is never left for a file: what is gathered past the limit is an error.
    pub(super) fn unshared(control: &'a Control) -> Self {
        Self { control, measure: None, share: usize::MAX, overhead: 0, file: Arc::default() }
    }

    /// The same room shared by several holders.
    pub(super) fn divided(&self, holders: usize) -> Self {
        let share = if self.share == usize::MAX { self.share } else { (self.share / holders.max(1)).max(1) };
        Self { share, ..self.clone() }
    }

    /// Counts so many bytes a row besides the columns: for a table that is made of them.
    pub(super) fn with_overhead(self, bytes_per_row: usize) -> Self {
        Self { overhead: bytes_per_row, ..self }
    }

    /// Writes rows to the file of the operator.
    fn write(&self, batch: &Batch) -> Result<Block> {
        let file = match self.file.get() {
            Some(file) => file,
            None => {
                // Another worker may be quicker.
                let made = SpillFile::new()?;
                self.file.get_or_init(|| made)
            }
        };
        let block = file.write(batch)?;
        if let Some(measure) = self.measure {
            measure.spilled.fetch_add(block.bytes() as u64, Ordering::Relaxed);
        }
        Ok(block)
    }

    /// Whether who holds so many bytes spills to disk, of a share that is `parts` times smaller than the room's.
    pub(super) fn is_full(&self, held: usize, parts: usize) -> bool {
        held > self.share / parts || self.share != usize::MAX && self.control.memory().is_pressed(held)
    }

    /// Nothing of the budget yet.
    pub(super) fn nothing(&self) -> MemoryReservation {
        MemoryReservation::none(self.control.memory())
    }

    /// Notes for the measured plan how much the node held.
    pub(super) fn note_held(&self, bytes: usize) {
        if let Some(measure) = self.measure {
            measure.held.fetch_max(bytes as u64, Ordering::Relaxed);
        }
    }
}
