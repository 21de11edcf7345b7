use super::database::Shared;
use super::settings::Settings;
use crate::bind::OpenFile;
use crate::catalog::{FileOptions, TableSource};
use crate::diagnostic::{Error, Result, SqlState};
use crate::execute::Pool;
use crate::file::Location;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
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

/// Whether a file that was opened stays in the cache.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Keep {
    ForOthers,
    Nowhere,
}

/// Files kept in the cache at most.
const KEPT_FILES: usize = 16;

/// Which folders a session may read, and what it has read there.
#[derive(Debug)]
pub(super) struct Files<'a> {
    pub(super) folders: &'a [PathBuf],
    /// Where it may also write.
    pub(super) writable: &'a [PathBuf],
    pub(super) cache: &'a FileCache,
    pub(super) pool: &'a Pool,
    pub(super) shared: &'a Shared,
    pub(super) settings: &'a Settings,
}

impl Files<'_> {
    /// A file that may be read, and its path without links. Where it lies is looked at once more when it is opened.
    ///
    /// # Errors
    /// 58030 when there is none, or the session may not read it.
    pub(super) fn readable(&self, path: &str) -> Result<(Location, PathBuf)> {
        let path = Path::new(path);
        if self.folders.is_empty() {
            return Err(refused(path, "this session may not read files", self.folders));
        }
        let real = path.canonicalize().map_err(|error| unreadable(path, error))?;
        if !self.folders.iter().any(|folder| real.starts_with(folder)) {
            return Err(refused(path, "this session may not read files there", self.folders));
        }
        Ok((Location::within(path, self.folders), real))
    }

    /// The path of a file that may be written, whether it is there or not; one that is there is replaced only if that is asked for.
    ///
    /// # Errors
    /// 58030 when its folder is missing, the session may not write there, or the file is there already or in use.
    pub(super) fn writable(&self, path: &str, (replace, help): (bool, &str)) -> Result<PathBuf> {
        let path = Path::new(path);
        if self.writable.is_empty() {
            return Err(refused(path, "this session may not write files", self.writable));
        }
        let name = path.file_name().ok_or_else(|| refused(path, "this is not the name of a file", self.writable))?;
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let folder = folder.canonicalize().map_err(|error| unreadable(path, error))?;
        // A link that is there already leads elsewhere.
        let real = folder.join(name);
        let real = if real.is_symlink() { real.canonicalize().map_err(|error| unreadable(path, error))? } else { real };
        if !self.writable.iter().any(|folder| real.starts_with(folder)) {
            return Err(refused(path, "this session may not write files there", self.writable));
        }
        let refuse =
            |why: &str, help: &str| Err(Error::new(SqlState::FILE_ACCESS, why).with_help(help).in_file(path, None));
        if let Some(why) = self.shared.use_of(&real) {
            return refuse(why, "write the rows to a file of another name");
        }
        if real.exists() && !replace {
            return refuse("there is a file of this name already", help);
        }
        Ok(real)
    }

    /// The threads that read large files together.
    pub(super) fn threads(&self) -> Result<Option<Arc<rayon::ThreadPool>>> {
        self.pool.shared_threads()
    }
}

fn unreadable(path: &Path, error: std::io::Error) -> Error {
    let message = format!("the file cannot be read: {error}");
    Error::new(SqlState::FILE_ACCESS, message).caused_by(error).in_file(path, None)
}

impl Files<'_> {
    /// A file as a table, from the cache where it has it; else opened, and kept there if `keep` says so.
    fn table(&self, path: &str, options: &FileOptions, keep: Keep) -> Result<Arc<dyn TableSource>> {
        let options = &self.settings.limited(options);
        let (at, real) = self.readable(path)?;
        let path = Path::new(path);
        let metadata = real.metadata().map_err(|error| unreadable(path, error))?;
        let key =
            FileKey { path: real, options: options.clone(), bytes: metadata.len(), changed: metadata.modified().ok() };
        if let Some(known) = self.cache.get(&key) {
            return Ok(known);
        }
        let threads = self.threads()?;
        let table = crate::storage::table_of(crate::file::open(&at, options, threads.as_deref())?, threads.as_ref())?;
        if keep == Keep::ForOthers {
            self.cache.put(key, Arc::clone(&table));
        }
        Ok(table)
    }

    /// A file whose rows go into a table: kept for others it would be in memory twice.
    pub(super) fn open_once(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>> {
        self.table(path, options, Keep::Nowhere)
    }
}

impl OpenFile for Files<'_> {
    fn open(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>> {
        self.table(path, options, Keep::ForOthers)
    }

    fn broken(&self, schema: &str, name: &str) -> Option<Error> {
        self.shared.broken_file(schema, name)
    }
}

/// The file of a statement whose rows go into a table, with the table that it is.
#[derive(Debug)]
pub(super) struct FileOnce<'f> {
    files: &'f Files<'f>,
    opened: OnceLock<Arc<dyn TableSource>>,
}

impl<'f> FileOnce<'f> {
    /// Nothing is opened yet.
    pub(super) fn of(files: &'f Files<'f>) -> Self {
        Self { files, opened: OnceLock::new() }
    }

    /// The file that was opened.
    pub(super) fn table(&self) -> Option<&Arc<dyn TableSource>> {
        self.opened.get()
    }
}

impl OpenFile for FileOnce<'_> {
    fn open(&self, path: &str, options: &FileOptions) -> Result<Arc<dyn TableSource>> {
        if let Some(known) = self.opened.get() {
            return Ok(Arc::clone(known));
        }
        let table = self.files.open_once(path, options)?;
        Ok(Arc::clone(self.opened.get_or_init(|| table)))
    }

    fn broken(&self, schema: &str, name: &str) -> Option<Error> {
        self.files.broken(schema, name)
    }
}

fn refused(path: &Path, why: &str, folders: &[PathBuf]) -> Error {
    let folders: Vec<String> = folders.iter().map(|folder| folder.display().to_string()).collect();
    let help = match folders.as_slice() {
        [] => "the program that opened the session says which folders it may use".to_owned(),
        folders => format!("it may use {} and what is below", crate::diagnostic::sentence_list(folders)),
    };
    Error::new(SqlState::FILE_ACCESS, why).with_help(help).in_file(path, None)
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

/// Whether the ending of a file's name is one of those that [`Database::add_folder`](crate::Database::add_folder) makes tables of.
pub fn is_table_file(path: impl AsRef<Path>) -> bool {
    crate::file::is_table_file(path.as_ref())
}

/// The name of the table that a file becomes: its own, without the endings that tell its format.
pub fn table_name(path: impl AsRef<Path>) -> String {
    crate::file::table_name(path.as_ref())
}
