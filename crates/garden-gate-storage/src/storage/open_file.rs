//! How a database file is opened, made, and opened again after the disk has failed.

use super::guarded_file::guarded;
use super::read_only_file::ReadOnlyFile;
use crate::diagnostic::{Error, Result, SqlState};
use std::fs::File;
use std::path::Path;
use std::time::{Duration, Instant};

/// Bytes of pages that the file keeps in memory.
const PAGE_BYTES: usize = 128 << 20;

/// Whether a file may be written to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileAccess {
    ReadWrite,
    ReadOnly,
}

/// Opens a database file; waits as long as `wait` for another process to let go of it. One that is missing is made where it may be written.
///
/// # Errors
/// 58030 when it cannot be opened or is in use, 22000 when it is not a database file or is damaged.
pub(super) fn open(path: &Path, access: FileAccess, wait: Duration) -> Result<redb::Database> {
    let started = Instant::now();
    loop {
        let opened = || match access {
            FileAccess::ReadWrite => open_or_make(path),
            FileAccess::ReadOnly => open_for_reading(path),
        };
        match guarded(path, || Ok(opened()))? {
            Ok(file) => return Ok(file),
            Err(redb::DatabaseError::DatabaseAlreadyOpen) if started.elapsed() < wait => {
                crate::control::checkpoint()?;
                std::thread::sleep(Duration::from_millis(20));
            }
            Err(redb::DatabaseError::DatabaseAlreadyOpen) => {
                let (who, help) = match access {
                    FileAccess::ReadWrite => ("another process", "wait for it to end, or open with a time to wait"),
                    FileAccess::ReadOnly => {
                        ("a process that may write to it", "any number may read a file at once, while none writes")
                    }
                };
                let error = Error::new(SqlState::FILE_ACCESS, format!("{who} has the database file open"));
                return Err(error.with_help(help).in_file(path, None));
            }
            Err(error) => return Err(super::store::failed(path, error)),
        }
    }
}

fn builder() -> redb::Builder {
    let mut builder = redb::Database::builder();
    builder.set_cache_size(PAGE_BYTES);
    builder
}

fn open_or_make(path: &Path) -> std::result::Result<redb::Database, redb::DatabaseError> {
    let length = path.metadata().map(|metadata| metadata.len());
    if matches!(&length, Err(error) if error.kind() == std::io::ErrorKind::NotFound) || matches!(length, Ok(0)) {
        make(path, length.is_ok())?;
    }
    builder().open(path)
}

/// Makes a file under another name first: a program that is killed meanwhile leaves nothing under the name that others will open.
fn make(path: &Path, replace: bool) -> std::result::Result<(), redb::DatabaseError> {
    let io = |error: std::io::Error| redb::DatabaseError::Storage(redb::StorageError::Io(error));
    let made = crate::file::NewFile::create(path).map_err(io)?;
    let backend = redb::backends::FileBackend::new(made.writer().map_err(io)?)?;
    drop(builder().create_with_backend(backend)?);
    match if replace { made.finish() } else { made.finish_new() } {
        // Another process was faster: that file is as good.
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
        other => other.map_err(io),
    }
}

fn open_for_reading(path: &Path) -> std::result::Result<redb::Database, redb::DatabaseError> {
    let io = |error: std::io::Error| redb::DatabaseError::Storage(redb::StorageError::Io(error));
    let file = File::open(path).map_err(io)?;
    if file.metadata().map_err(io)?.len() == 0 {
        return Err(io(std::io::ErrorKind::InvalidData.into()));
    }
    builder().create_with_backend(ReadOnlyFile::new(file).map_err(io)?)
}
