//! The key-value file after a guard. Its crate trusts the pages it reads where no checksum is looked at; those of a damaged file
//! make it panic, while it opens, reads, commits, and even while it is let go of (it commits once more then). Here such a panic
//! becomes the error of a damaged file. And once the disk has failed the crate refuses all further writes: here the file is opened anew.

use crate::diagnostic::{Error, Result, SqlState, caught};
use redb::Database;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{PoisonError, RwLock};
use std::time::Duration;

/// How long another process may hold the file that was let go of to be opened anew.
const REOPEN_WAIT: Duration = Duration::from_millis(500);

/// How a file is opened anew.
pub struct Opener {
    path: PathBuf,
    open: Box<dyn Fn(Duration) -> Result<Database> + Send + Sync>,
}

impl fmt::Debug for Opener {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Opener").field("path", &self.path).finish_non_exhaustive()
    }
}

#[derive(Debug)]
pub(super) struct GuardedFile {
    /// Nothing once it is let go of, or could not be opened anew.
    file: RwLock<Option<Database>>,
    opener: Opener,
}

impl GuardedFile {
    /// A file that is open.
    pub(super) fn new(file: Database, opener: Opener) -> Self {
        Self { file: RwLock::new(Some(file)), opener }
    }

    /// How the file is opened again after its crate has panicked.
    pub(super) fn opener(path: &Path, open: impl Fn(Duration) -> Result<Database> + Send + Sync + 'static) -> Opener {
        Opener { path: path.to_owned(), open: Box::new(open) }
    }

    /// Where it is.
    pub(super) fn path(&self) -> &Path {
        &self.opener.path
    }

    /// Runs one transaction, all of whose tables are let go of within `work`.
    ///
    /// # Errors
    /// Those of `work`, and 22000 when the pages of the file contradict one another.
    pub(super) fn with<T>(&self, work: impl FnOnce(&Database) -> Result<T>) -> Result<T> {
        let file = self.file.read().unwrap_or_else(PoisonError::into_inner);
        let Some(file) = &*file else { return Err(self.damaged("it")) };
        guarded(self.path(), || work(file))
    }

    /// [`GuardedFile::with`] for what writes: when the disk failed before, the file is opened anew and the work done once more.
    ///
    /// # Errors
    /// As [`GuardedFile::with`]; 58030 when the disk fails (again): what the file held before is in it.
    pub(super) fn with_again<T>(&self, work: impl Fn(&Database) -> Result<T>) -> Result<T> {
        match self.with(&work) {
            Err(error) if failed_before(&error) || self.is_gone() => {
                self.reopen()?;
                self.with(work)
            }
            other => other,
        }
    }

    /// [`GuardedFile::with`] while nobody else uses the file.
    ///
    /// # Errors
    /// As [`GuardedFile::with`].
    pub(super) fn alone<T>(&self, work: impl FnOnce(&mut Database) -> Result<T>) -> Result<T> {
        let mut file = self.file.write().unwrap_or_else(PoisonError::into_inner);
        let Some(file) = &mut *file else { return Err(self.damaged("it")) };
        guarded(self.path(), || work(file))
    }

    fn is_gone(&self) -> bool {
        self.file.read().unwrap_or_else(PoisonError::into_inner).is_none()
    }

    fn reopen(&self) -> Result<()> {
        let mut file = self.file.write().unwrap_or_else(PoisonError::into_inner);
        let old = file.take();
        // What it would still write is what was refused.
        drop(guarded(self.path(), || {
            drop(old);
            Ok(())
        }));
        *file = Some((self.opener.open)(REOPEN_WAIT)?);
        Ok(())
    }

    /// The error of a part that cannot be read.
    pub(super) fn damaged(&self, what: &str) -> Error {
        damaged(self.path(), &format!("{what} cannot be read"))
    }
}

/// Whether the crate refuses to write since the disk failed.
fn failed_before(error: &Error) -> bool {
    std::error::Error::source(error)
        .and_then(|cause| cause.downcast_ref::<redb::Error>())
        .is_some_and(|cause| matches!(cause, redb::Error::PreviousIo))
}

impl Drop for GuardedFile {
    fn drop(&mut self) {
        let file = self.file.get_mut().unwrap_or_else(PoisonError::into_inner).take();
        // All that was committed is in the file already; a damaged one has been reported, or is when it is next opened.
        drop(guarded(&self.opener.path, || {
            drop(file);
            Ok(())
        }));
    }
}

/// Runs what touches a database file, which may be damaged.
pub(super) fn guarded<T>(path: &Path, work: impl FnOnce() -> Result<T>) -> Result<T> {
    // Nothing of a transaction is used once it has panicked: its tables are gone, and what it was to write is not committed.
    caught(work).unwrap_or_else(|| Err(damaged(path, "its pages contradict one another")))
}

fn damaged(path: &Path, why: &str) -> Error {
    Error::new(SqlState::DATA_EXCEPTION, format!("the database file is damaged: {why}")).in_file(path, None)
}
