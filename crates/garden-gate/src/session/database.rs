use super::Session;
use super::files::FileCache;
use super::temporary::SharedTables;
use crate::catalog::{Catalog, Column, DEFAULT_SCHEMA, FileOptions, Segment, Table, TableKind, TableSource};
use crate::diagnostic::{Error, Result, SqlState};
use crate::storage::{MemoryTable, Store, table_of};
use crate::types::{SqlType, Value};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::Duration;

/// Bytes from which on it pays to read a file with several threads.
const PARALLEL_BYTES: u64 = 8 << 20;

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
    pub(super) writer: Mutex<()>,
    pub(super) files: FileCache,
    pub(super) temporary: SharedTables,
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
    /// Puts a new picture in the place of the old one; of a durable database when the file holds it.
    pub(super) fn install(&self, catalog: Arc<Catalog>) -> Result<()> {
        if let Some(store) = &self.store {
            store.save(&catalog)?;
        }
        self.replace(catalog);
        Ok(())
    }

    /// Lets a long load of a table need less memory, where there is a file to write to ahead of the commit.
    pub(super) fn put_aside(&self, catalog: &Catalog, table: (&str, &str)) -> Result<()> {
        self.store.as_ref().map_or(Ok(()), |store| store.put_aside(catalog, table))
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
    /// 58030 when the file cannot be used or another process has it open, 22000 when it is no database file, is damaged, or was written
    /// by a later version.
    pub fn open(path: impl AsRef<Path>) -> Result<Self> {
        Self::open_waiting(path, Duration::ZERO)
    }

    /// As [`Database::open`], waiting at most so long for another process that has the file open.
    ///
    /// # Errors
    /// As [`Database::open`].
    pub fn open_waiting(path: impl AsRef<Path>, wait: Duration) -> Result<Self> {
        Ok(Self::stored(Store::open(path.as_ref(), wait)?))
    }

    pub(super) fn stored((store, catalog): (Arc<Store>, Catalog)) -> Self {
        let catalog = RwLock::new(Arc::new(catalog));
        Self(Arc::new(Shared { catalog, store: Some(store), ..Shared::default() }))
    }

    /// A new session.
    pub fn session(&self) -> Session {
        Session::new(Arc::clone(&self.0))
    }

    /// Makes the rows of a source a table. `name` is `table` or `schema.table`; a schema that is missing is made.
    ///
    /// # Errors
    /// 42S01 when there is a table of that name, 42000 when a column's type has digits it cannot have.
    pub fn add_source(&self, name: &str, source: Arc<dyn TableSource>) -> Result<()> {
        check_types(source.columns())?;
        let (schema, table) = name.split_once('.').unwrap_or((DEFAULT_SCHEMA, name));
        let _only_writer = self.0.writer.lock().unwrap_or_else(PoisonError::into_inner);
        let mut catalog = self.0.catalog.write().unwrap_or_else(PoisonError::into_inner);
        let mut changed = Catalog::clone(&catalog);
        let tables = &mut changed.schema_mut(schema).tables;
        if tables.iter().any(|known| known.name.eq_ignore_ascii_case(table)) {
            return Err(Error::new(SqlState::TABLE_EXISTS, format!("there is a table {table:?} already")));
        }
        tables.push(Table {
            name: table.into(),
            kind: TableKind::Table,
            source,
            definition: None,
            groups: Arc::default(),
        });
        *catalog = Arc::new(changed);
        Ok(())
    }

    /// Adds a table of Arrow columns, given as runs of rows.
    ///
    /// # Errors
    /// 42S01 when the name is taken; 42000 when an array has another type or length than its column and segment say.
    pub fn add_segments(&self, name: &str, columns: &[Column], segments: Vec<Segment>) -> Result<()> {
        check_types(columns)?;
        let fits =
            |segment: &Segment| {
                segment.columns.len() == columns.len()
                    && segment.columns.iter().zip(columns).all(|(array, column)| {
                        array.len() == segment.rows && *array.data_type() == column.sql_type.arrow()
                    })
            };
        if !segments.iter().all(fits) {
            let message =
                format!("the arrays of table {name:?} have other types or lengths than its columns and segments");
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
        }
        self.add_source(name, Arc::new(MemoryTable::new(columns.to_vec(), segments)))
    }

    /// Makes a table of literal rows.
    ///
    /// # Errors
    /// 42S01 when there is a table of that name, 42000 when a row has not one value a column, 22003 when a value does not fit.
    pub fn add_rows(&self, name: &str, columns: &[Column], rows: &[Vec<Value>]) -> Result<()> {
        check_types(columns)?;
        self.add_source(name, Arc::new(MemoryTable::from_rows(columns, rows)?))
    }

    /// Makes a file a table: CSV, TSV, JSON lines, Parquet or Arrow IPC, by the ending of its name.
    ///
    /// # Errors
    /// 42S01 when there is a table of that name; 58030, 22000 or 22018 when the file cannot be read.
    pub fn add_file(&self, name: &str, path: impl AsRef<Path>) -> Result<()> {
        let path = path.as_ref();
        let is_large = path.metadata().is_ok_and(|metadata| metadata.len() > PARALLEL_BYTES);
        let threads = if is_large { rayon::ThreadPoolBuilder::new().build().ok() } else { None };
        self.add_source(name, table_of(crate::file::open(path, &FileOptions::default(), threads.as_ref())?))
    }

    /// Makes every table file of a folder a table named after it, in `schema` if one is given; other files are passed over.
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
        for file in files {
            let stem = crate::file::table_name(&file);
            let name = schema.map_or_else(|| stem.clone(), |schema| format!("{schema}.{stem}"));
            self.add_file(&name, &file)?;
            names.push(name);
        }
        Ok(names)
    }
}

/// NUMERIC has 1 to 38 digits, and no more after the point than in all.
fn check_types(columns: &[Column]) -> Result<()> {
    let bad = |column: &&Column| match column.sql_type {
        SqlType::Numeric { precision, scale } => !(1..=38).contains(&precision) || scale > precision,
        _ => false,
    };
    columns.iter().find(bad).map_or(Ok(()), |column| {
        Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("column {:?} can't be {}", column.name, column.sql_type)))
    })
}
