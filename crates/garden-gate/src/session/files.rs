use crate::bind::OpenFile;
use crate::catalog::{FileOptions, TableSource};
use crate::diagnostic::{Error, Result, SqlState};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

/// Files already read, as long as they do not change.
#[derive(Debug, Default)]
pub(super) struct FileCache(Mutex<Vec<(FileKey, Arc<dyn TableSource>)>>);

#[derive(Clone, Debug, PartialEq)]
struct FileKey {
    path: PathBuf,
    options: FileOptions,
    bytes: u64,
    changed: Option<SystemTime>,
}

/// Files kept in the cache at most.
const KEPT_FILES: usize = 16;

/// Which folders a session may read, and what it has read there.
#[derive(Debug)]
pub(super) struct Files<'a> {
    pub(super) folders: &'a [PathBuf],
    pub(super) cache: &'a FileCache,
}

impl OpenFile for Files<'_> {
    fn open(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>> {
        let path = Path::new(path);
        let unreadable = |error: std::io::Error| {
            Error::new(SqlState::FILE_ACCESS, format!("the file cannot be read: {error}"))
                .caused_by(error)
                .in_file(path, None)
        };
        if self.folders.is_empty() {
            return Err(refused(path, "this session may not read files"));
        }
        let real = path.canonicalize().map_err(unreadable)?;
        if !self.folders.iter().any(|folder| real.starts_with(folder)) {
            return Err(refused(path, "this session may not read files there"));
        }
        let metadata = real.metadata().map_err(unreadable)?;
        let key =
            FileKey { path: real, options: options.clone(), bytes: metadata.len(), changed: metadata.modified().ok() };
        if let Some(known) = self.cache.get(&key) {
            return Ok(known);
        }
        let table = crate::storage::table_of(crate::file::open(path, options)?);
        self.cache.put(key, Arc::clone(&table));
        Ok(table)
    }
}

fn refused(path: &Path, why: &str) -> Error {
    Error::new(SqlState::FILE_ACCESS, why)
        .with_help("the program that opened the session allows folders with allow_folder")
        .in_file(path, None)
}

impl FileCache {
    fn get(&self, key: &FileKey) -> Option<Arc<dyn TableSource>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.iter().find(|(known, _)| known == key).map(|(_, table)| Arc::clone(table))
    }

    fn put(&self, key: FileKey, table: Arc<dyn TableSource>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|(known, _)| known.path != key.path || known.options != key.options);
        if kept.len() == KEPT_FILES {
            kept.remove(0);
        }
        kept.push((key, table));
    }
}
