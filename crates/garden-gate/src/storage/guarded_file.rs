//! The key-value file behind a guard. Its crate trusts the pages it reads where no checksum is looked at; those of a damaged file
//! make it panic, while it opens, reads, commits, and even while it is let go of (it commits once more then). Here such a panic
//! becomes the error of a damaged file.

use crate::diagnostic::{Error, Result, SqlState};
use redb::Database;
use std::cell::Cell;
use std::panic::{self, AssertUnwindSafe};
use std::path::{Path, PathBuf};
use std::sync::Once;

#[derive(Debug)]
pub(super) struct GuardedFile {
    /// Nothing once it is let go of.
    file: Option<Database>,
    path: PathBuf,
}

impl GuardedFile {
    pub(super) fn new(file: Database, path: &Path) -> Self {
        Self { file: Some(file), path: path.to_owned() }
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Runs one transaction, all of whose tables are let go of within `work`.
    ///
    /// # Errors
    /// Those of `work`, and 22000 when the pages of the file contradict one another.
    pub(super) fn with<T>(&self, work: impl FnOnce(&Database) -> Result<T>) -> Result<T> {
        let Some(file) = &self.file else { return Err(self.damaged("it")) };
        guarded(&self.path, || work(file))
    }

    pub(super) fn damaged(&self, what: &str) -> Error {
        damaged(&self.path, &format!("{what} cannot be read"))
    }
}

impl Drop for GuardedFile {
    fn drop(&mut self) {
        let file = self.file.take();
        // All that was committed is in the file already; a damaged one has been told of, or is when it is next opened.
        drop(guarded(&self.path, || {
            drop(file);
            Ok(())
        }));
    }
}

/// Runs what touches a database file, which may be damaged.
pub(super) fn guarded<T>(path: &Path, work: impl FnOnce() -> Result<T>) -> Result<T> {
    keep_quiet();
    let outer = GUARDED.replace(true);
    // Nothing of a transaction is used once it has panicked: its tables are gone, and what it was to write is not committed.
    let done = panic::catch_unwind(AssertUnwindSafe(work));
    GUARDED.set(outer);
    done.unwrap_or_else(|_| Err(damaged(path, "its pages contradict one another")))
}

fn damaged(path: &Path, why: &str) -> Error {
    Error::new(SqlState::DATA_EXCEPTION, format!("the database file is damaged: {why}")).in_file(path, None)
}

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
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
