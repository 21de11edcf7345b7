use super::Session;
use super::add_table::{CheckedSource, MissingSchema, TableName, check_columns};
use super::files::FileCache;
use super::temporary::SharedTables;
use super::versioning::committed;
use super::writer::Writers;
use crate::catalog::{Catalog, Column, DEFAULT_SCHEMA, FileOptions, Segment, TableSource};
use crate::diagnostic::{Error, Result, SqlState};
use crate::file::Location;
use crate::storage::{FileAccess, FileSize, MemoryTable, Store, conforming, table_of};
use crate::types::Value;
use arrow::array::RecordBatch;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::Duration;

/// Bytes from which on it pays to read a file with several threads.
const PARALLEL_BYTES: u64 = 8 << 20;

/// How long adding a table waits for a session that writes.
const WRITER_WAIT: Duration = Duration::from_secs(30);

/// Tables, and the sessions that query them.
///
/// A database is cheap to clone: clones are the same database. Sessions may live on different threads.
///
/// ```
/// use garden_gate::{Column, Database, SqlType, Value};
///
/// # fn main() -> garden_gate::Result<()> {
/// let db = Database::in_memory();
/// let columns = [Column::new("name", SqlType::Varchar(None)), Column::new("sun", SqlType::Varchar(None))];
/// db.add_rows("bed", &columns, &[vec!["Fern gully".into(), "shade".into()], vec!["Scree".into(), Value::Null]])?;
///
/// let shade = db.session().query("SELECT name FROM bed WHERE sun = 'shade'", ())?;
/// assert_eq!(shade.row_count(), 1);
/// assert_eq!(shade.rows().next().map(|row| row.get::<String>(0)).transpose()?.as_deref(), Some("Fern gully"));
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct Database(pub(super) Arc<Shared>);

#[derive(Debug, Default)]
pub(super) struct Shared {
    catalog: RwLock<Arc<Catalog>>,
    /// Held by the one session that changes the database.
    pub(super) writers: Arc<Writers>,
    pub(super) files: FileCache,
    pub(super) temporary: SharedTables,
    /// Files of folders that are no tables, by schema and name, each with what is wrong with it.
    broken: Mutex<Vec<(String, String, Error)>>,
    /// Files whose rows are tables, without links in their paths.
    table_files: Mutex<Vec<PathBuf>>,
    /// The file of a durable database.
    store: Option<Arc<Store>>,
}

impl Shared {
    /// The catalog as it is now; later changes do not reach it.
    pub(super) fn snapshot(&self) -> Arc<Catalog> {
        Arc::clone(&self.catalog.read().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Shared {
    /// What is wrong with a file that would be the table of this name.
    pub(super) fn broken_file(&self, schema: &str, name: &str) -> Option<Error> {
        let broken = self.broken.lock().unwrap_or_else(PoisonError::into_inner);
        let is_it = |(known, stem, _): &&(String, String, Error)| known == schema && stem.eq_ignore_ascii_case(name);
        broken.iter().find(is_it).map(|(.., error)| error.clone())
    }

    /// What the database needs a file for that is not to be written over.
    pub(super) fn use_of(&self, path: &Path) -> Option<&'static str> {
        let Ok(real) = path.canonicalize() else { return None };
        let is_database = |store: &Arc<Store>| store.path().canonicalize().is_ok_and(|own| own == real);
        if self.store.as_ref().is_some_and(is_database) {
            return Some("this is the file of the database");
        }
        let files = self.table_files.lock().unwrap_or_else(PoisonError::into_inner);
        files.contains(&real).then_some("the rows of a table come from this file")
    }

    /// Whether its file was opened to be read only.
    pub(super) fn is_read_only(&self) -> bool {
        self.store.as_ref().is_some_and(|store| store.access() == FileAccess::ReadOnly)
    }

    /// Puts a new picture in the place of the old one; of a durable database when the file holds it.
    pub(super) fn install(&self, catalog: Arc<Catalog>) -> Result<()> {
        if let Some(store) = &self.store {
            store.save(&catalog)?;
        }
        self.replace(catalog);
        Ok(())
    }

    /// Makes what a transaction did a commit, and puts it in the place of what was before. Nobody else may write meanwhile.
    pub(super) fn commit(&self, changed: &Catalog, before: &Catalog) -> Result<()> {
        let made = committed(changed, before, chrono::Utc::now().timestamp_micros())?;
        let commit = made.last_commit;
        self.install(Arc::new(made)).inspect_err(|_| changed.commits.forget(commit))
    }

    /// Lets a long load of a table need less memory, where there is a file to write to ahead of the commit.
    pub(super) fn put_aside(&self, catalog: &Catalog, table: (&str, &str)) -> Result<()> {
        self.store.as_ref().map_or(Ok(()), |store| store.put_aside(catalog, table))
    }

    /// Adds to the catalog what the file of the database does not hold.
    pub(super) fn add_to_catalog(&self, add: impl FnOnce(&mut Catalog) -> Result<()>) -> Result<()> {
        let _turn = self.writers.turn(Some(WRITER_WAIT))?;
        let mut catalog = self.catalog.write().unwrap_or_else(PoisonError::into_inner);
        let mut changed = Catalog::clone(&catalog);
        add(&mut changed)?;
        *catalog = Arc::new(changed);
        Ok(())
    }

    /// Puts a new picture in the place of the old one, which differs in nothing that the file holds.
    pub(super) fn replace(&self, catalog: Arc<Catalog>) {
        *self.catalog.write().unwrap_or_else(PoisonError::into_inner) = catalog;
    }
}

impl Database {
    /// An empty database that lives as long as this value and its clones.
    pub fn in_memory() -> Self {
        Self(Arc::default())
    }

    /// The database of a file, which is made when it is not there. What a transaction changed is in the file when its COMMIT returns,
    /// and survives whatever happens to the program after that.
    ///
    /// The first file that is opened puts a panic hook before the program's own: what damaged pages bring about is an error, and is not shown as
    /// a panic. (In a program that is built to abort on panics such a file ends it.)
    ///
    /// # Errors
    /// 58030 when the file cannot be used or another process has it open, 22000 when it is not a database file, is damaged, or was written
    /// by a later version.
    pub fn open(path: impl AsRef<Path>) -> Result<Self> {
        Self::open_waiting(path, Duration::ZERO)
    }

    /// As [`Database::open`], waiting at most so long for another process that has the file open.
    ///
    /// # Errors
    /// As [`Database::open`].
    pub fn open_waiting(path: impl AsRef<Path>, wait: Duration) -> Result<Self> {
        Ok(Self::stored(Store::open(path.as_ref(), FileAccess::ReadWrite, wait)?))
    }

    /// The database of a file that is there, and is not written to: its permissions need not allow it, and any number of processes may
    /// read it so at once, while none has it open for writing. Sessions may change nothing (25006).
    ///
    /// # Errors
    /// As [`Database::open`].
    pub fn open_read_only(path: impl AsRef<Path>, wait: Duration) -> Result<Self> {
        Ok(Self::stored(Store::open(path.as_ref(), FileAccess::ReadOnly, wait)?))
    }

    /// A database that a file keeps.
    pub(super) fn stored((store, catalog): (Arc<Store>, Catalog)) -> Self {
        let catalog = RwLock::new(Arc::new(catalog));
        Self(Arc::new(Shared { catalog, store: Some(store), ..Shared::default() }))
    }

    /// Makes the file of the database as small as what it holds allows: room of rows that are gone goes back to the disk. The file is
    /// compacted likewise when it is closed, once as much has been written to it as half of it. O(bytes of the file).
    ///
    /// # Errors
    /// 58030 when the file cannot be written, or a query reads from it meanwhile.
    pub fn compact(&self) -> Result<FileSize> {
        self.0.store.as_ref().map_or(Ok(FileSize::default()), |store| store.compact())
    }

    /// A new session.
    pub fn session(&self) -> Session {
        let mut session = Session::new(Arc::clone(&self.0));
        session.set_read_only(false);
        session
    }

    /// Makes the rows of a source a table. `name` is `table`, or `schema.table` for a schema that there is; a part that holds a dot goes into
    /// double quotes. Its rows are looked at when they are read: a value that its type forbids is an error of the statement.
    ///
    /// # Errors
    /// 42602 for a name that is none, 3F000 for a schema that is missing, 42S01 when there is a table or view of that name, 42S21 when two
    /// columns have one name (upper and lower case being the same), 42000 when a column's type has digits it cannot have.
    pub fn add_source(&self, name: &str, source: Arc<dyn TableSource>) -> Result<()> {
        check_columns(source.columns())?;
        self.0.add_table(TableName::parse(name)?, Arc::new(CheckedSource(source)), MissingSchema::Refuse)
    }

    /// Adds a table of Arrow columns, given as runs of rows. A negative zero becomes zero; CHAR and BINARY are filled up.
    ///
    /// # Errors
    /// As [`Database::add_source`]; 42000 when an array has another type or length than its column and segment say; 22001, 22003 or 22008
    /// with row and column for a value that its type forbids.
    pub fn add_segments(&self, name: &str, columns: &[Column], segments: Vec<Segment>) -> Result<()> {
        check_columns(columns)?;
        let source = MemoryTable::new(columns.to_vec(), conforming(columns, segments)?);
        self.0.add_table(TableName::parse(name)?, Arc::new(source), MissingSchema::Refuse)
    }

    /// Makes record batches of Arrow a table. Arrays of other types than the engine's own are cast where no value is lost: dictionaries and
    /// large texts to texts, unsigned numbers to signed ones, seconds to microseconds.
    ///
    /// # Errors
    /// As [`Database::add_segments`]; 0A000 for an Arrow type without an SQL type, 22003 with the column for values that do not fit, 42000
    /// when the batches have different schemas.
    pub fn add_batches(&self, name: &str, batches: &[RecordBatch]) -> Result<()> {
        let Some(first) = batches.first() else {
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, "without a record batch there is no schema for a table"));
        };
        let schema = first.schema();
        if let Some(other) = batches.iter().position(|batch| batch.schema().fields() != schema.fields()) {
            let message = format!("record batch {} has another schema than the first", other + 1);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
        }
        let (columns, segments) = crate::file::columns_of(&schema, batches.iter().cloned().map(Ok))?;
        self.add_segments(name, &columns, segments)
    }

    /// Makes a table of literal rows, as [`Database::add_segments`] does.
    ///
    /// # Errors
    /// As [`Database::add_source`]; 42000 when a row has not one value a column; 22001, 22003 or 22008 with row and column for a value
    /// that does not fit.
    pub fn add_rows(&self, name: &str, columns: &[Column], rows: &[Vec<Value>]) -> Result<()> {
        check_columns(columns)?;
        let source = MemoryTable::from_rows(columns, rows)?;
        self.0.add_table(TableName::parse(name)?, Arc::new(source), MissingSchema::Refuse)
    }

    /// Makes a file a table: CSV, TSV, JSON lines, Parquet or Arrow IPC, by the ending of its name.
    ///
    /// # Errors
    /// As [`Database::add_source`]; 58030, 22000 or 22018 when the file cannot be read.
    pub fn add_file(&self, name: &str, path: impl AsRef<Path>) -> Result<()> {
        let file = (path.as_ref(), &FileOptions::default());
        self.add_file_as(TableName::parse(name)?, file, MissingSchema::Refuse)
    }

    /// As [`Database::add_file_to`], with options as they stand in parentheses after FROM FILE: `FORMAT CSV, DELIMITER ';'`.
    ///
    /// # Errors
    /// As [`Database::add_file`]; 42000 for options that are none.
    pub fn add_file_with(
        &self,
        schema: Option<&str>,
        table: &str,
        (path, options): (impl AsRef<Path>, &str),
    ) -> Result<()> {
        let options = crate::syntax::file_options_of(options)?;
        self.add_file_as(TableName::exact(schema, table), (path.as_ref(), &options), MissingSchema::Make)
    }

    /// As [`Database::add_file`], for a table whose name may hold dots; a schema that is missing is made.
    ///
    /// # Errors
    /// As [`Database::add_file`].
    pub fn add_file_to(&self, schema: Option<&str>, table: &str, path: impl AsRef<Path>) -> Result<()> {
        let file = (path.as_ref(), &FileOptions::default());
        self.add_file_as(TableName::exact(schema, table), file, MissingSchema::Make)
    }

    fn add_file_as(
        &self,
        name: TableName,
        (path, options): (&Path, &FileOptions),
        missing: MissingSchema,
    ) -> Result<()> {
        let is_large = path.metadata().is_ok_and(|metadata| metadata.len() > PARALLEL_BYTES);
        let threads = if is_large { rayon::ThreadPoolBuilder::new().build().ok() } else { None };
        let source = table_of(crate::file::open(&Location::anywhere(path), options, threads.as_ref())?, None)?;
        self.0.add_table(name, source, missing)?;
        if let Ok(real) = path.canonicalize() {
            self.0.table_files.lock().unwrap_or_else(PoisonError::into_inner).push(real);
        }
        Ok(())
    }

    /// Makes every table file of a folder a table named after it, in `schema` if one is given; other files are skipped.
    /// Gives the names of the tables.
    ///
    /// # Errors
    /// As [`Database::add_file`]; 58030 when the folder cannot be listed or holds no table file.
    pub fn add_folder(&self, schema: Option<&str>, path: impl AsRef<Path>) -> Result<Vec<String>> {
        let path = path.as_ref();
        let unreadable = |error: std::io::Error| {
            Error::new(SqlState::FILE_ACCESS, format!("the folder cannot be read: {error}"))
                .caused_by(error)
                .in_file(path, None)
        };
        let mut files = Vec::new();
        for entry in std::fs::read_dir(path).map_err(unreadable)? {
            let file = entry.map_err(unreadable)?.path();
            if file.is_file() && crate::file::is_table_file(&file) {
                files.push(file);
            }
        }
        files.sort();
        if files.is_empty() {
            return Err(
                Error::new(SqlState::FILE_ACCESS, "the folder holds no file that can be a table").in_file(path, None)
            );
        }
        let mut names = Vec::new();
        let count = files.len();
        for file in files {
            let stem = crate::file::table_name(&file);
            if let Err(error) =
                self.add_file_as(TableName::exact(schema, &stem), (&file, &FileOptions::default()), MissingSchema::Make)
            {
                // One bad file among many is reported by the statement that asks for it.
                if count == 1 || error.sqlstate() == SqlState::TABLE_EXISTS {
                    return Err(error);
                }
                let mut broken = self.0.broken.lock().unwrap_or_else(PoisonError::into_inner);
                broken.push((schema.unwrap_or(DEFAULT_SCHEMA).to_owned(), stem, error));
                continue;
            }
            names.push(schema.map_or_else(|| stem.clone(), |schema| format!("{schema}.{stem}")));
        }
        Ok(names)
    }
}
