//! What every statement is held to: interrupt, time, memory.
//!
//! A statement's [`Control`] is entered by the thread that runs it and by the workers that help; any loop of any layer that may run long calls
//! [`checkpoint`] at least every 50 ms of work, and [`reserve`] before it makes an array of more than a megabyte. Outside of a statement both
//! do nothing.

mod memory;
mod statement;

pub(crate) use memory::Held;
pub use statement::Interrupt;
pub(crate) use statement::{Control, Limits};

use crate::diagnostic::Result;
use std::cell::RefCell;
use std::sync::Arc;

thread_local! {
    static CURRENT: RefCell<Option<Arc<Control>>> = const { RefCell::new(None) };
}

/// The statement of this thread is another one until this is dropped.
#[derive(Debug)]
#[must_use]
pub(crate) struct Entered(Option<Arc<Control>>);

impl Drop for Entered {
    fn drop(&mut self) {
        CURRENT.set(self.0.take());
    }
}

/// Makes this thread work for a statement.
pub(crate) fn enter(control: Option<&Arc<Control>>) -> Entered {
    Entered(CURRENT.replace(control.cloned()))
}

/// The statement that this thread works for.
pub(crate) fn current() -> Option<Arc<Control>> {
    CURRENT.with_borrow(Clone::clone)
}

/// Whether the statement may go on.
///
/// # Errors
/// HY008 when it was interrupted, HYT00 past its time.
pub(crate) fn checkpoint() -> Result<()> {
    CURRENT.with_borrow(|control| control.as_ref().map_or(Ok(()), |control| control.check()))
}

/// Whether the statement may make an array of so many bytes now, besides what it holds.
///
/// # Errors
/// HY001 when that is more than its memory; otherwise as [`checkpoint`].
pub(crate) fn reserve(bytes: usize) -> Result<()> {
    CURRENT.with_borrow(|control| {
        let Some(control) = control else { return Ok(()) };
        control.check()?;
        control.memory().check(bytes)
    })
}

/// Calls [`checkpoint`] once in so many turns of a loop.
#[derive(Debug)]
pub(crate) struct Turns {
    left: u32,
}

impl Turns {
    /// Turns between two looks.
    const EVERY: u32 = 4096;

    pub(crate) fn new() -> Self {
        Self { left: Self::EVERY }
    }

    /// One turn of the loop.
    ///
    /// # Errors
    /// As [`checkpoint`].
    #[inline]
    pub(crate) fn turn(&mut self) -> Result<()> {
        self.left -= 1;
        if self.left > 0 {
            return Ok(());
        }
        self.left = Self::EVERY;
        checkpoint()
    }
}
