//! Stack for trees of plans and expressions, which are walked node by node and may be some thousand nodes deep.
//!
//! Making a large stack for a statement takes longer than the statement where that looks up a row: 65 of 130 microseconds, most of them for
//! clearing its first page of 2 MiB (bench `tables`). So a statement that cannot be nested deep stays on the stack that is there.

use std::cell::Cell;

/// Stack that a statement finds at least, however deep it is nested.
const LEAST_STACK: usize = 24 << 20;
/// Stack that is made where there is less; only what is used of it takes memory.
const LARGE_STACK: usize = 192 << 20;
/// What a statement takes besides its nesting, and for each level of it: a query in FROM goes through the parser, the binder, the rules, the
/// choice of operators and the executor. Without optimisation frames are large.
const BASE: usize = 384 << 10;
const LEVEL: usize = if cfg!(debug_assertions) { 48 << 10 } else { 16 << 10 };

/// More levels than any statement may have: it gets the stack of the deepest.
pub const ANY_LEVELS: usize = usize::MAX;

thread_local! {
    /// Whether the statement that this thread runs now has been found to need no more stack than there is.
    static IS_SHALLOW: Cell<bool> = const { Cell::new(false) };
}

/// Until it is dropped, [`stack_of_statement`] leaves the thread on its stack.
struct Shallow(bool);

impl Drop for Shallow {
    fn drop(&mut self) {
        IS_SHALLOW.set(self.0);
    }
}

/// Runs `work`, of which nothing is known, where there is stack for the deepest plan that is allowed, whatever the thread has: also where a
/// function of the program, called by a statement that needs little, begins another one.
pub fn large_stack<T>(work: impl FnOnce() -> T) -> T {
    stack_for(ANY_LEVELS, work)
}

/// Runs a part of the statement that [`stack_for`] was called for, on the stack that it got; outside of one as [`large_stack`].
pub fn stack_of_statement<T>(work: impl FnOnce() -> T) -> T {
    if IS_SHALLOW.get() { work() } else { stacker::maybe_grow(LEAST_STACK, LARGE_STACK, work) }
}

/// Runs `work`, a statement whose text and views have no more than so many levels of nesting. Only where the thread has too little stack for
/// these a large one is made.
pub fn stack_for<T>(levels: usize, work: impl FnOnce() -> T) -> T {
    let needed = levels.saturating_mul(LEVEL).saturating_add(BASE).min(LEAST_STACK);
    let is_enough = stacker::remaining_stack().is_some_and(|left| left >= needed);
    let _outer = Shallow(IS_SHALLOW.replace(is_enough && needed < LEAST_STACK));
    stack_of_statement(work)
}
