//! Where a file to be read lies, and how it is opened: the file that was opened is the one that is looked at, not a path that may mean
//! another file a moment later.

use super::problem::Problem;
use super::unreadable;
use crate::diagnostic::{Error, Result};
use std::fs::{File, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A path, and the folders outside which nothing is opened.
#[derive(Clone, Debug)]
pub struct Location {
    path: PathBuf,
    /// Without links; `None` for a file that the program itself names.
    within: Option<Arc<[PathBuf]>>,
}

impl Location {
    /// A file that the program itself names, wherever it lies.
    pub fn anywhere(path: &Path) -> Self {
        Self { path: path.to_owned(), within: None }
    }

    /// A file that a statement names, in one of these folders or below.
    pub fn within(path: &Path, folders: &[PathBuf]) -> Self {
        Self { path: path.to_owned(), within: Some(folders.into()) }
    }

    /// The path as it was given.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Opens the file. A pipe or device is refused, since a file is read more than once, and opening one could wait forever.
    ///
    /// # Errors
    /// 58030 when it cannot be read, is not a regular file, or lies outside the folders.
    pub fn open(&self) -> Result<File> {
        let mut options = OpenOptions::new();
        options.read(true);
        without_waiting(&mut options);
        let file = options.open(&self.path).map_err(|error| unreadable(&self.path, error))?;
        let metadata = file.metadata().map_err(|error| unreadable(&self.path, error))?;
        if !metadata.is_file() {
            return Err(Error::from_facts(&Problem::NotRegular).in_file(&self.path, None));
        }
        let Some(folders) = &self.within else { return Ok(file) };
        let real = self.path.canonicalize().map_err(|error| unreadable(&self.path, error))?;
        let there = real.metadata().map_err(|error| unreadable(&self.path, error))?;
        // The path may lead elsewhere by now: it must still lead to the file that was opened.
        if folders.iter().any(|folder| real.starts_with(folder)) && same_file(&metadata, &there) {
            return Ok(file);
        }
        Err(Error::from_facts(&Problem::OutsideFolders).in_file(&self.path, None))
    }
}

#[cfg(unix)]
fn without_waiting(options: &mut OpenOptions) {
    use std::os::unix::fs::OpenOptionsExt;
    options.custom_flags(rustix::fs::OFlags::NONBLOCK.bits().cast_signed());
}

#[cfg(not(unix))]
fn without_waiting(_: &mut OpenOptions) {}

/// Whether two names are one file.
#[cfg(unix)]
pub(super) fn same_file(a: &std::fs::Metadata, b: &std::fs::Metadata) -> bool {
    use std::os::unix::fs::MetadataExt;
    (a.dev(), a.ino()) == (b.dev(), b.ino())
}

/// Whether two names are one file; it is not known here.
#[cfg(not(unix))]
pub(super) fn same_file(_: &std::fs::Metadata, _: &std::fs::Metadata) -> bool {
    true
}
