//! Panics of crates that trust their input, caught at the door: damaged files make some readers panic, and that is an error of the file.

use std::cell::Cell;
use std::panic::{self, AssertUnwindSafe};
use std::sync::Once;

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// What `work` gives, or `None` when it panics; then nothing that it had in its hands may be used any more. The panic is omitted of what the
/// program shows of panics.
pub fn caught<T>(work: impl FnOnce() -> T) -> Option<T> {
    keep_quiet();
    let outer = GUARDED.replace(true);
    let done = panic::catch_unwind(AssertUnwindSafe(work));
    GUARDED.set(outer);
    done.ok()
}

/// Leaves panics that are caught here out of what the program shows of panics; all others are shown as before.
fn keep_quiet() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let shown = panic::take_hook();
        panic::set_hook(Box::new(move |info| {
            if !GUARDED.get() {
                shown(info);
            }
        }));
    });
}
