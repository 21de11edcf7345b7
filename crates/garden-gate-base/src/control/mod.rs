//! What every statement is held to: interrupt, time, memory.
//!
//! A statement's [`Control`] is entered by the thread that runs it and by the workers that help; any loop of any layer that may run long calls
//! [`checkpoint`] at least every 50 ms of work, and [`reserve`] before it makes an array of more than a megabyte. Outside of a statement both
//! do nothing.

mod memory;
mod stack;
mod statement;

pub use memory::MemoryGauge;
pub use memory::{Memory, MemoryReservation};
pub use stack::{ANY_LEVELS, large_stack, stack_for, stack_of_statement};
pub use statement::Interrupt;
pub use statement::{Control, Limits, too_many_rows};

use crate::diagnostic::Result;
use std::cell::RefCell;
use std::sync::Arc;

thread_local! {
    static CURRENT: RefCell<Option<Arc<Control>>> = const { RefCell::new(None) };
}

/// The statement of this thread is another one until this is dropped.
#[derive(Debug)]
#[must_use]
pub struct Entered(Option<Arc<Control>>);

impl Drop for Entered {
    fn drop(&mut self) {
        CURRENT.set(self.0.take());
    }
}

/// Makes this thread work for a statement.
pub fn enter(control: Option<&Arc<Control>>) -> Entered {
    Entered(CURRENT.replace(control.cloned()))
}

/// The statement that this thread works for.
pub fn current() -> Option<Arc<Control>> {
    CURRENT.with_borrow(Clone::clone)
}

/// Whether the statement may go on.
///
/// # Errors
/// HY008 when it was interrupted, HYT00 past its time.
pub fn checkpoint() -> Result<()> {
    CURRENT.with_borrow(|control| control.as_ref().map_or(Ok(()), |control| control.check()))
}

/// Whether the statement may make an array of so many bytes for so many rows now, besides what it holds.
///
/// # Errors
/// HY001 when that is more than its memory, and already past a small part of it where there are several rows: they can be gone through in
/// smaller batches. Otherwise as [`checkpoint`].
pub fn reserve(bytes: usize, rows: usize) -> Result<()> {
    CURRENT.with_borrow(|control| {
        let Some(control) = control else { return Ok(()) };
        control.check()?;
        control.memory().check(bytes, rows)
    })
}

/// Runs `work` for the statement of this thread without its memory limit: what belongs to a table, and is bounded, is made for all statements.
pub fn beyond_memory<T>(work: impl FnOnce() -> T) -> T {
    let unlimited = current().map(|control| control.without_memory());
    let _entered = enter(unlimited.as_ref());
    work()
}

/// Calls [`checkpoint`] once in so many turns of a loop.
#[derive(Debug)]
pub struct Turns {
    left: u32,
}

impl Turns {
    /// Turns between two looks.
    const EVERY: u32 = 4096;

    /// A loop that begins: its first look comes after some thousand turns.
    #[expect(clippy::new_without_default, reason = "it begins a loop")]
    pub fn new() -> Self {
        Self { left: Self::EVERY }
    }

    /// One turn of the loop.
    ///
    /// # Errors
    /// As [`checkpoint`].
    #[inline]
    pub fn turn(&mut self) -> Result<()> {
        self.left -= 1;
        if self.left > 0 {
            return Ok(());
        }
        self.left = Self::EVERY;
        checkpoint()
    }
}

/// Items that are sorted at one go: some 30 ms of work.
const SORTED_AT_ONCE: usize = 1 << 18;

/// Sorts items by a total order, looking at the statement's limits every so many: runs are sorted, then merged pair by pair. O(n log n), and a
/// copy of the items where there are several runs. Not stable.
///
/// # Errors
/// As [`checkpoint`].
pub fn sort_by<T: Copy>(items: &mut Vec<T>, order: impl Fn(&T, &T) -> std::cmp::Ordering) -> Result<()> {
    for run in items.chunks_mut(SORTED_AT_ONCE) {
        checkpoint()?;
        run.sort_unstable_by(&order);
    }
    let mut width = SORTED_AT_ONCE;
    while width < items.len() {
        let mut merged = Vec::with_capacity(items.len());
        for pair in items.chunks(2 * width) {
            let (mut a, mut b) = pair.split_at(width.min(pair.len()));
            while let ([first_a, ..], [first_b, ..]) = (a, b) {
                let from = if order(first_b, first_a).is_lt() { &mut b } else { &mut a };
                merged.push(from[0]);
                *from = &from[1..];
                if merged.len() % SORTED_AT_ONCE == 0 {
                    checkpoint()?;
                }
            }
            merged.extend_from_slice(a);
            merged.extend_from_slice(b);
        }
        *items = merged;
        width *= 2;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_merged_into_one_order() {
        for count in [0, 1, SORTED_AT_ONCE, 2 * SORTED_AT_ONCE + 1, 5 * SORTED_AT_ONCE - 7] {
            let mut items: Vec<u64> =
                (0..count as u64).map(|at| at.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40).collect();
            let mut expected = items.clone();
            expected.sort_unstable();
            sort_by(&mut items, u64::cmp).unwrap();
            assert!(items == expected, "{count} items");
        }
    }

    #[test]
    fn a_statement_ends_within_its_loops() {
        let interrupt = Interrupt::default();
        let limits = Limits { memory: Some(500 << 10), ..Limits::default() };
        let control = Control::new(&interrupt, limits);
        assert!(
            checkpoint().is_ok() && reserve(usize::MAX, 2).is_ok(),
            "nothing is held to a limit outside a statement"
        );
        let _entered = enter(Some(&control));
        assert!(reserve(500 << 10, 1).is_ok() && reserve(500 << 10, 2).is_ok());
        assert_eq!(reserve(501 << 10, 1).unwrap_err().sqlstate(), crate::diagnostic::SqlState::MEMORY);
        let roomy = Control::new(&interrupt, Limits { memory: Some(64 << 20), ..Limits::default() });
        let _roomy = enter(Some(&roomy));
        assert!(reserve(8 << 20, 1).is_ok(), "one row may be wide");
        assert_eq!(reserve(8 << 20, 2).unwrap_err().sqlstate(), crate::diagnostic::SqlState::MEMORY);
        drop(_roomy);
        interrupt.interrupt();
        assert_eq!(checkpoint().unwrap_err().sqlstate(), crate::diagnostic::SqlState::CANCELED);
        let mut turns = Turns::new();
        assert!((0..10_000).any(|_| turns.turn().is_err()));
    }
}
