//! Panics of code that is not ours, caught at the door: damaged files make some readers panic, and a program's functions may.

use std::cell::Cell;
use std::panic::{self, AssertUnwindSafe};

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// What `work` gives, or `None` when it panics; then nothing that it had in its hands may be used any more.
pub fn caught<T>(work: impl FnOnce() -> T) -> Option<T> {
    let outer = GUARDED.replace(true);
    let done = panic::catch_unwind(AssertUnwindSafe(work));
    GUARDED.set(outer);
    done.ok()
}

/// Whether a panic on this thread is caught by the library, which makes it an error of the statement. A program's panic hook may ask, so that
/// it shows other panics only; the library sets no hook.
pub fn panic_is_caught() -> bool {
    GUARDED.get()
}
