//! What the program that opened a session lets its statements do. No statement can widen it.

use super::Session;
use crate::control::MemoryGauge;
use crate::diagnostic::{Error, Result, SqlState};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Folders and limits of a session.
#[derive(Clone, Debug, Default)]
pub(super) struct Access {
    pub(super) readable: Vec<PathBuf>,
    pub(super) writable: Vec<PathBuf>,
    pub(super) read_only: bool,
    pub(super) rows: Option<u64>,
    pub(super) time: Option<Duration>,
    pub(super) memory: Option<u64>,
    pub(super) gauge: Option<MemoryGauge>,
}

impl Access {
    /// # Errors
    /// 25006 when the session may change nothing.
    pub(super) fn check_changes(&self) -> Result<()> {
        if self.read_only {
            let help = "the program that opened the session let it read only";
            return Err(Error::new(SqlState::READ_ONLY, "this session may change nothing").with_help(help));
        }
        Ok(())
    }

    /// # Errors
    /// 54000 when there are more rows than a query may give.
    pub(super) fn check_rows(&self, rows: usize) -> Result<()> {
        match self.rows {
            Some(most) if rows as u64 > most => Err(crate::control::too_many_rows(most)),
            _ => Ok(()),
        }
    }
}

impl Session {
    /// Lets `FROM FILE` read files in this folder and below it.
    ///
    /// # Errors
    /// 58030 when there is no such folder.
    pub fn allow_folder(&mut self, folder: impl Into<PathBuf>) -> Result<()> {
        self.access.readable.push(real(&folder.into())?);
        Ok(())
    }

    /// Lets `INSERT INTO FILE` and `ERRORS INTO` write files in this folder and below it.
    ///
    /// # Errors
    /// 58030 when there is no such folder.
    pub fn allow_writing(&mut self, folder: impl Into<PathBuf>) -> Result<()> {
        self.access.writable.push(real(&folder.into())?);
        Ok(())
    }

    /// Whether statements may change nothing: no rows, no tables, no files. Settings and variables of the session are not meant.
    ///
    /// Sessions of a database that was opened with [`Database::open_read_only`](crate::Database::open_read_only) stay so.
    pub fn set_read_only(&mut self, read_only: bool) {
        self.access.read_only = read_only || self.shared.is_read_only();
    }

    /// How many rows a query may give; more are an error (54000).
    pub fn limit_rows(&mut self, rows: Option<u64>) {
        self.access.rows = rows;
    }

    /// How long a statement may take, whatever the setting `time_limit` says (HYT00).
    pub fn limit_time(&mut self, time: Option<Duration>) {
        self.access.time = time;
    }

    /// How many bytes a statement may hold, whatever the setting `memory_limit` says (HY001).
    pub fn limit_memory(&mut self, bytes: Option<u64>) {
        self.access.memory = bytes;
    }

    /// Lets the memory limit hold for what the process grows by while a statement runs, as its allocator counts it, and not only for what
    /// operators gather: rows on their way count too. For a program that runs one statement at a time; of several, each would answer for
    /// all.
    ///
    /// A quarter of the limit, at most 16 MB, is for the program itself, and an eighth for what the allocator keeps of what was freed. By
    /// five eighths of the rest operators write what they hold to files; past it the statement ends (HY001).
    pub fn measure_memory_by(&mut self, gauge: MemoryGauge) {
        self.access.gauge = Some(gauge);
    }
}

fn real(folder: &Path) -> Result<PathBuf> {
    folder.canonicalize().map_err(|error| {
        let message = format!("no such folder: {error}");
        Error::new(SqlState::FILE_ACCESS, message).caused_by(error).in_file(folder, None)
    })
}
