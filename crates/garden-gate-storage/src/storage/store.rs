//! The database file: a key-value file whose commits are atomic (design: one file, one writer). Columns of parts are stored as Arrow IPC
//! after a checksum; what tables there are, and of which parts they consist, is one text that every commit replaces.

use super::catalog_text::{self, PartText};
use super::cell_format::{decoded, encoded, framed, number_of};
use super::column_cache::ColumnCache;
use super::commit_text;
use super::derived::{CacheBudget, Evictable};
use super::guarded_file::{GuardedFile, Opener};
use super::open_file::{self, FileAccess};
use super::statistics_text;
use super::store_state::{Fresh, Parts, State, Written};
use super::stored_segment::{SegmentData, StoredSegment};
use super::stored_table::StoredTable;
use crate::catalog::{Catalog, Commit, CommitLog, Table, TableSource};
use crate::diagnostic::{Error, Result, SqlState};
use arrow::array::ArrayRef;
use arrow::buffer::BooleanBuffer;
use redb::{ReadableDatabase, ReadableTable, TableDefinition};
use std::any::Any;
use std::collections::HashSet;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;

/// The layout of the file; a file of a later one is refused.
const FORMAT: u32 = 6;

/// The oldest version that is still read.
const OLDEST_FORMAT: u32 = 2;
/// Bytes kept of what was computed from them: rows by their keys, sorted rows, columns without deleted rows.
const DERIVED_BYTES: usize = 512 << 20;

pub(super) const FACTS: TableDefinition<'_, &str, &[u8]> = TableDefinition::new("facts");
pub(super) const CELLS: TableDefinition<'_, (u64, u32), &[u8]> = TableDefinition::new("cells");
/// Which rows of a part are left, where some are not.
pub(super) const MASKS: TableDefinition<'_, u64, &[u8]> = TableDefinition::new("masks");

/// What each commit changed, by its number.
const COMMITS: TableDefinition<'_, u64, &[u8]> = TableDefinition::new("commits");
type CellTable<'t> = redb::Table<'t, (u64, u32), &'static [u8]>;
type MaskTable<'t> = redb::Table<'t, u64, &'static [u8]>;

#[derive(Debug)]
pub struct Store {
    pub(super) file: GuardedFile,
    access: FileAccess,
    pub(super) state: Mutex<State>,
    cache: Mutex<ColumnCache>,
    /// For what is computed from columns.
    room: CacheBudget,
    /// Bytes of columns and indexes written since it was opened.
    pub(super) written: AtomicU64,
}

/// The columns of one stored part. When the last user lets go of them, the file may forget them.
#[derive(Debug)]
pub(super) struct StoredColumns {
    pub(super) store: Arc<Store>,
    pub(super) part: u64,
}

impl StoredColumns {
    /// A column, from the cache or the file.
    pub(super) fn column(&self, at: usize) -> Result<ArrayRef> {
        self.store.column(self.part, crate::types::index(at))
    }

    /// Takes note of what is kept in memory besides the columns.
    pub(super) fn note(&self, kept: Weak<dyn Evictable>, bytes: usize) {
        if bytes > 0 {
            self.store.room.note(kept, bytes);
        }
    }
}

impl Drop for StoredColumns {
    fn drop(&mut self) {
        self.store.state.lock().unwrap_or_else(PoisonError::into_inner).garbage.push(self.part);
    }
}

impl Store {
    /// Opens or makes a database file; waits as long as `wait` for another process to let go of it.
    ///
    /// # Errors
    /// 58030 when it cannot be opened or is in use, 22000 when it is not a database file, is damaged, or of a later format.
    pub fn open(path: &Path, access: FileAccess, wait: Duration) -> Result<(Arc<Self>, Catalog)> {
        let path = path.to_owned();
        let opener = {
            let path = path.clone();
            move |wait: Duration| open_file::open(&path, access, wait)
        };
        Self::of(opener(wait)?, GuardedFile::opener(&path, opener), access)
    }

    /// The database that an open file holds.
    pub fn of(file: redb::Database, opener: Opener, access: FileAccess) -> Result<(Arc<Self>, Catalog)> {
        let store = Self {
            file: GuardedFile::new(file, opener),
            access,
            state: Mutex::default(),
            cache: Mutex::default(),
            room: CacheBudget::new(DERIVED_BYTES),
            written: AtomicU64::new(0),
        };
        store.file.with(|file| store.check_format(file))?;
        let store = Arc::new(store);
        let catalog = store.file.with(|file| store.load(file))?;
        Ok((store, catalog))
    }

    /// How a file is opened again after it was let go, for a file that is not on a disk.
    pub fn opener(path: &Path, open: impl Fn(Duration) -> Result<redb::Database> + Send + Sync + 'static) -> Opener {
        GuardedFile::opener(path, open)
    }

    /// Where the file is.
    pub fn path(&self) -> &Path {
        self.file.path()
    }

    /// Whether it may be written.
    pub fn access(&self) -> FileAccess {
        self.access
    }

    fn check_format(&self, file: &redb::Database) -> Result<()> {
        let bad = |error: redb::Error| failed(self.file.path(), error);
        let write = file.begin_write().map_err(|error| bad(error.into()))?;
        let tables = write.list_tables().map_err(|error| bad(error.into()))?.count();
        {
            let mut facts = write.open_table(FACTS).map_err(|error| bad(error.into()))?;
            let known = facts.get("format").map_err(|error| bad(error.into()))?.map(|value| value.value().to_vec());
            // A later format may have other tables.
            let format = known.as_ref().map_or(Ok(FORMAT), |bytes| bytes.as_slice().try_into().map(u32::from_le_bytes));
            if let Ok(format) = format
                && !(OLDEST_FORMAT..=FORMAT).contains(&format)
            {
                return Err(self.other_format(format));
            }
            write.open_table(CELLS).map_err(|error| bad(error.into()))?;
            write.open_table(MASKS).map_err(|error| bad(error.into()))?;
            write.open_table(COMMITS).map_err(|error| bad(error.into()))?;
            self.make_indexes(&write)?;
            // One commit makes all of them.
            let older = known.as_ref().is_some_and(|known| is_older(known));
            let expected = if older { 3..=4 } else { 5..=5 };
            if !(known.is_some() && expected.contains(&tables)) && (tables, known.is_some()) != (0, false) {
                return Err(self.file.damaged("the list of its contents"));
            }
            if format.is_err() {
                return Err(self.other_format(0));
            }
            if known.as_ref().is_none_or(|known| is_older(known)) {
                facts.insert("format", FORMAT.to_le_bytes().as_slice()).map_err(|error| bad(error.into()))?;
            }
        }
        write.commit().map_err(|error| bad(error.into()))
    }

    fn other_format(&self, format: u32) -> Error {
        let message = format!("the database file has format {format}, this program reads format {FORMAT}");
        Error::new(SqlState::DATA_EXCEPTION, message)
            .with_help("open it with the version of the program that wrote it, or a later one")
            .in_file(self.file.path(), None)
    }

    fn load(self: &Arc<Self>, file: &redb::Database) -> Result<Catalog> {
        let bad = |error: redb::Error| failed(self.file.path(), error);
        let read = file.begin_read().map_err(|error| bad(error.into()))?;
        let facts = read.open_table(FACTS).map_err(|error| bad(error.into()))?;
        let masks = read.open_table(MASKS).map_err(|error| bad(error.into()))?;
        let mut state = State::default();
        let listed = facts.get("parts").map_err(|error| bad(error.into()))?;
        let known: HashSet<u64> = match &listed {
            Some(list) => self.checked(list.value(), "the list of parts")?.chunks_exact(8).map(number_of).collect(),
            None => HashSet::new(),
        };
        state.next_part = known.iter().max().map_or(0, |last| last + 1);
        let Some(text) = facts.get("catalog").map_err(|error| bad(error.into()))? else {
            if listed.is_some() {
                return Err(self.file.damaged("the list of tables"));
            }
            *self.state.lock().unwrap_or_else(PoisonError::into_inner) = state;
            return Ok(Catalog::default());
        };
        let text = self.checked(text.value(), "the list of tables")?.to_vec();
        let mut part = |PartText(id, rows, left): PartText, width: usize| -> Result<Arc<StoredSegment>> {
            let mask = masks.get(id).map_err(|error| bad(error.into()))?;
            let live = match mask {
                Some(bytes) => {
                    Some(BooleanBuffer::new(self.checked(bytes.value(), "a list of rows")?.to_vec().into(), 0, rows))
                }
                None => None,
            };
            if !known.contains(&id) && width > 0 {
                return Err(self.file.damaged("a part of a table"));
            }
            let part = StoredSegment::of(
                SegmentData::Stored(Arc::new(StoredColumns { store: Arc::clone(self), part: id })),
                (rows, width),
                live,
            );
            if left.is_some_and(|left| left != part.count()) {
                return Err(self.file.damaged("a list of rows"));
            }
            state.left.insert(id, part.count());
            Ok(Arc::new(part))
        };
        let known_statistics = facts.get("statistics").map_err(|error| bad(error.into()))?;
        let statistics = match &known_statistics {
            Some(text) => statistics_text::read(self.checked(text.value(), "the statistics")?).unwrap_or_default(),
            None => statistics_text::Tables::default(),
        };
        let catalog = catalog_text::read(&text, &mut part, statistics).map_err(|what| self.file.damaged(&what))?;
        let commits = self.commits(&read)?;
        state.last_commit = commits.last().map_or(0, |commit| commit.number);
        state.listed = state.left.keys().copied().collect();
        state.garbage = known.iter().copied().filter(|id| !state.left.contains_key(id)).collect();
        let last_commit = state.last_commit;
        *self.state.lock().unwrap_or_else(PoisonError::into_inner) = state;
        Ok(Catalog { last_commit, commits: Arc::new(CommitLog::of(commits)), ..catalog? })
    }

    /// The commits that the file lists, in order; those of before format 5 had no number.
    fn commits(&self, read: &redb::ReadTransaction) -> Result<Vec<Commit>> {
        let bad = |error: redb::Error| failed(self.file.path(), error);
        let table = match read.open_table(COMMITS) {
            Ok(table) => table,
            Err(redb::TableError::TableDoesNotExist(_)) => return Ok(Vec::new()),
            Err(error) => return Err(bad(error.into())),
        };
        let mut commits = Vec::new();
        for entry in table.iter().map_err(|error| bad(error.into()))? {
            let (number, text) = entry.map_err(|error| bad(error.into()))?;
            let what = "the list of commits";
            let commit = commit_text::read(number.value(), self.checked(text.value(), what)?);
            commits.push(commit.ok_or_else(|| self.file.damaged(what))?);
        }
        Ok(commits)
    }

    /// Makes the file hold just this: in one commit, which survives whatever happens after it.
    ///
    /// # Errors
    /// 58030 when it cannot be written; the file then holds what it held before.
    pub fn save(self: &Arc<Self>, catalog: &Catalog) -> Result<()> {
        collect_statistics(catalog);
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let written = self.file.with_again(|file| self.write(file, catalog, &state))?;
        state.next_part = written.parts.next_part;
        state.statistics = written.statistics;
        state.listed = written.parts.listed;
        state.last_commit = catalog.last_commit;
        let garbage = std::mem::take(&mut state.garbage);
        garbage.iter().for_each(|id| {
            state.left.remove(id);
            state.aside.remove(id);
        });
        state.indexed.retain(|(part, _)| !garbage.contains(part));
        state.indexed.extend(written.indexed);
        written.parts.left.iter().for_each(|(id, _)| {
            state.aside.remove(id);
        });
        state.left.extend(written.parts.left);
        drop(state);
        for (part, key, column) in &written.parts.replaced {
            self.cache.lock().unwrap_or_else(PoisonError::into_inner).put(*key, column);
            part.forget_replaced();
        }
        self.keep_stored(written.parts.fresh);
        Ok(())
    }

    fn write(&self, file: &redb::Database, catalog: &Catalog, state: &State) -> Result<Written> {
        let bad = |error: redb::Error| failed(self.file.path(), error);
        let write = file.begin_write().map_err(|error| bad(error.into()))?;
        let mut parts = Parts { next_part: state.next_part, ..Parts::default() };
        let statistics = statistics_text::signature(catalog);
        {
            let mut cells = write.open_table(CELLS).map_err(|error| bad(error.into()))?;
            let mut masks = write.open_table(MASKS).map_err(|error| bad(error.into()))?;
            let mut number =
                |part: &Arc<StoredSegment>| self.write_once(part, state, &mut parts, (&mut cells, &mut masks));
            let text = catalog_text::write(catalog, &mut number)?;
            let mut facts = write.open_table(FACTS).map_err(|error| bad(error.into()))?;
            facts.insert("catalog", framed(&text).as_slice()).map_err(|error| bad(error.into()))?;
            if state.statistics != statistics {
                let text = framed(&statistics_text::write(catalog));
                facts.insert("statistics", text.as_slice()).map_err(|error| bad(error.into()))?;
            }
            let list = state.list(parts.left.iter().map(|(id, _)| *id).chain(parts.fresh.iter().map(|(_, id, _)| *id)));
            facts.insert("parts", list.as_slice()).map_err(|error| bad(error.into()))?;
            let mut commits = write.open_table(COMMITS).map_err(|error| bad(error.into()))?;
            for commit in catalog.commits.after(state.last_commit) {
                let text = framed(&commit_text::write(&commit));
                commits.insert(commit.number, text.as_slice()).map_err(|error| bad(error.into()))?;
            }
            remove(&state.garbage, &mut cells, &mut masks).map_err(bad)?;
        }
        self.remove_indexes(&write, &state.garbage)?;
        let indexed = self.write_indexes(&write, (catalog, &parts), &state.indexed)?;
        write.commit().map_err(|error| bad(error.into()))?;
        Ok(Written { parts, indexed, statistics })
    }

    /// The number of a part in the file, into which it is written where it is not yet.
    fn write_once(
        &self,
        part: &Arc<StoredSegment>,
        state: &State,
        parts: &mut Parts,
        (cells, masks): (&mut CellTable<'_>, &mut MaskTable<'_>),
    ) -> Result<u64> {
        let stored = match &*part.content().read().unwrap_or_else(PoisonError::into_inner) {
            SegmentData::Stored(cells) => Ok(cells.part),
            SegmentData::Memory(columns) => Err(columns.clone()),
        };
        let id = match stored {
            Ok(id) => id,
            Err(columns) => match parts.number_of(part) {
                Some(id) => id,
                None => {
                    let id = parts.next_part;
                    parts.next_part += 1;
                    self.write_part(cells, id, &columns)?;
                    parts.fresh.push((Arc::clone(part), id, columns));
                    id
                }
            },
        };
        parts.listed.insert(id);
        if let Some((at, column)) = part.replaced().filter(|_| !state.left.contains_key(&id)) {
            let key = (id, crate::types::index(at));
            cells.insert(key, encoded(&column)?.as_slice()).map_err(|error| failed(self.file.path(), error))?;
            parts.replaced.push((Arc::clone(part), key, column));
        }
        if state.left.get(&id) != Some(&part.count()) {
            if let (_, Some(live)) = part.mask() {
                let mask = framed(live.sliced().as_slice());
                masks.insert(id, mask.as_slice()).map_err(|error| failed(self.file.path(), error))?;
            }
            parts.left.push((id, part.count()));
        }
        Ok(id)
    }

    /// Lets go of columns that the file holds now.
    pub(super) fn keep_stored(self: &Arc<Self>, fresh: Vec<Fresh>) {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        for (part, id, columns) in fresh {
            columns.iter().enumerate().for_each(|(at, column)| cache.put((id, crate::types::index(at)), column));
            let cells = Arc::new(StoredColumns { store: Arc::clone(self), part: id });
            *part.content().write().unwrap_or_else(PoisonError::into_inner) = SegmentData::Stored(cells);
            part.note_all();
        }
    }

    /// Writes the columns of a part, each as one cell.
    pub(super) fn write_part(&self, cells: &mut CellTable<'_>, id: u64, columns: &[ArrayRef]) -> Result<()> {
        for (at, column) in columns.iter().enumerate() {
            let (key, bytes) = ((id, crate::types::index(at)), encoded(column)?);
            self.written.fetch_add(bytes.len() as u64, Ordering::Relaxed);
            cells.insert(key, bytes.as_slice()).map_err(|error| failed(self.file.path(), error))?;
        }
        Ok(())
    }

    fn column(&self, part: u64, at: u32) -> Result<ArrayRef> {
        if let Some(known) = self.cache.lock().unwrap_or_else(PoisonError::into_inner).get((part, at)) {
            return Ok(known);
        }
        let column = self.file.with(|file| self.read_column(file, part, at))?;
        self.cache.lock().unwrap_or_else(PoisonError::into_inner).put((part, at), &column);
        Ok(column)
    }

    fn read_column(&self, file: &redb::Database, part: u64, at: u32) -> Result<ArrayRef> {
        let bad = |error: redb::Error| failed(self.file.path(), error);
        let damaged = || self.file.damaged("a column of a table");
        let read = file.begin_read().map_err(|error| bad(error.into()))?;
        let cells = read.open_table(CELLS).map_err(|error| bad(error.into()))?;
        let found = cells.get((part, at)).map_err(|error| bad(error.into()))?.ok_or_else(damaged)?;
        decoded(self.checked(found.value(), "a column of a table")?)?.ok_or_else(damaged)
    }

    /// What was framed, when its checksum is right.
    pub(super) fn checked<'b>(&self, bytes: &'b [u8], what: &str) -> Result<&'b [u8]> {
        match bytes.split_at_checked(4) {
            Some((sum, rest)) if sum == crc32fast::hash(rest).to_le_bytes() => Ok(rest),
            _ => Err(self.file.damaged(what)),
        }
    }
}

/// What is not known yet of the columns of large tables: the first one to read them would have to look at every row.
fn collect_statistics(catalog: &Catalog) {
    const LARGE: u64 = 10_000;
    for (_, table) in catalog.tables() {
        let Some(stored) = stored_table(table).filter(|stored| stored.rows() >= LARGE) else { continue };
        let unknown = stored.known_statistics().into_iter().enumerate().filter(|(_, known)| known.is_none());
        // A statement that is ended meanwhile ends where it looks next; without statistics a plan is as right.
        unknown.for_each(|(column, _)| drop(stored.statistics(column)));
    }
}

/// The version of a table that a catalog holds, when the database keeps it.
pub(super) fn stored_table(table: &Table) -> Option<Arc<StoredTable>> {
    table.definition.as_ref()?;
    let source: Arc<dyn Any + Send + Sync> = table.source.clone();
    source.downcast::<StoredTable>().ok()
}

/// Takes parts out of the file that no version of a table has any more.
pub(super) fn remove(
    parts: &[u64],
    cells: &mut CellTable<'_>,
    masks: &mut MaskTable<'_>,
) -> std::result::Result<(), redb::Error> {
    for id in parts {
        let all: Vec<(u64, u32)> = cells
            .range((*id, 0)..=(*id, u32::MAX))?
            .filter_map(|entry| entry.ok().map(|(key, _)| key.value()))
            .collect();
        for key in all {
            cells.remove(key)?;
        }
        masks.remove(*id)?;
    }
    Ok(())
}

/// The error of an operation of the file.
pub(super) fn failed(path: &Path, error: impl Into<redb::Error>) -> Error {
    let error = error.into();
    let (state, message) = match &error {
        redb::Error::Corrupted(what) => {
            (SqlState::DATA_EXCEPTION, format!("the database file is damaged, or none: {what}"))
        }
        redb::Error::Io(io) if io.kind() == std::io::ErrorKind::InvalidData => {
            (SqlState::DATA_EXCEPTION, "this is not a database file".to_owned())
        }
        redb::Error::UpgradeRequired(_) => {
            (SqlState::DATA_EXCEPTION, "the database file has a format of its own time".to_owned())
        }
        other => (SqlState::FILE_ACCESS, format!("the database file cannot be used: {other}")),
    };
    Error::new(state, message).caused_by(error).in_file(path, None)
}

/// Whether a file of this version is read, and is of the current one from then on.
fn is_older(known: &[u8]) -> bool {
    known.try_into().is_ok_and(|bytes| (OLDEST_FORMAT..FORMAT).contains(&u32::from_le_bytes(bytes)))
}
