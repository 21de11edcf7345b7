//! Ctrl-C ends the statement that is running; pressed again before that has happened, it ends the program.

use garden_gate::Interrupt;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Whether an interrupt is on its way to a statement.
#[derive(Clone, Debug, Default)]
pub(crate) struct Pending(Arc<AtomicBool>);

impl Pending {
    /// The statement has ended.
    pub(crate) fn clear(&self) {
        self.0.store(false, Ordering::Relaxed);
    }
}

/// Listens for Ctrl-C. A second listener cannot be had; the first one stays then.
pub(crate) fn listen(interrupt: Interrupt) -> Pending {
    let pending = Pending::default();
    let seen = pending.clone();
    let listening = ctrlc::set_handler(move || {
        if seen.0.swap(true, Ordering::Relaxed) {
            leave();
        }
        interrupt.interrupt();
    });
    // Without a handler Ctrl-C ends the program at once, which is no worse.
    drop(listening);
    pending
}

#[expect(clippy::exit, reason = "the user asked twice; a signal handler has no one to return to")]
fn leave() -> ! {
    std::process::exit(130)
}
