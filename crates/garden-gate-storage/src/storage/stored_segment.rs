use super::derived::{Derived, Evictable};
use super::index::PartIndex;
use super::key_range::ByteRange;
use super::store::StoredColumns;
use super::stored_index::StoredIndex;
use crate::diagnostic::Result;
use crate::kernel::{Batch, JoinTable, Sketch, lane_order};
use crate::logical::ScanIndex;
use arrow::array::{Array, ArrayRef, BooleanArray, Int64Array};
use arrow::buffer::BooleanBuffer;
use std::sync::{Arc, OnceLock, PoisonError, RwLock};

/// A run of rows that never changes: what is deleted from it is masked out, in a new part that shares the columns.
#[derive(Debug)]
pub(super) struct StoredSegment {
    content: Arc<RwLock<SegmentData>>,
    /// A column instead of the one that the file has, as long as no commit has written it.
    replaced: Arc<RwLock<Option<(usize, ArrayRef)>>>,
    width: usize,
    rows: usize,
    /// Which rows are left; `None` for all.
    live: Option<BooleanBuffer>,
    left: usize,
    /// The columns without the deleted rows, computed when they are first read.
    dense: Arc<Derived<usize, ArrayRef>>,
    /// Rows by the values of some columns, computed when they are first looked up; shared by all versions of the part.
    lookups: Arc<Lookups>,
    /// How the values of columns lie, where it is known; likewise.
    order: Arc<Vec<OnceLock<ColumnOrder>>>,
    /// Which values columns have, deleted rows among them; likewise.
    sketches: Arc<Vec<OnceLock<Sketch>>>,
    /// Rows sorted by keys, by the signature of the index; likewise.
    indexes: Arc<Indexes>,
    /// Indexes that the file has, likewise.
    stored_indexes: Arc<Derived<String, Arc<StoredIndex>>>,
}

/// Where the columns are; the same for all versions of a part.
#[derive(Debug)]
pub(super) enum SegmentData {
    Memory(Vec<ArrayRef>),
    /// In the database file, read when they are needed.
    Stored(Arc<StoredColumns>),
}

/// Least and greatest value of a column.
type Bounds = Option<(i64, i64)>;

/// How the values of a column lie, those of deleted rows among them.
#[derive(Clone, Copy, Debug)]
struct ColumnOrder {
    bounds: Bounds,
    run: ValueOrder,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ValueOrder {
    /// Each value is greater than the one before it, and none is NULL.
    Ascending,
    Mixed,
    WithNulls,
}

type Indexes = Derived<String, Arc<PartIndex>>;

/// By columns, and whether NULL is the same as NULL.
type Lookups = Derived<(Vec<usize>, bool), Arc<JoinTable>>;

impl StoredSegment {
    /// Rows that are in memory.
    pub(super) fn new(columns: Vec<ArrayRef>, rows: usize) -> Self {
        let width = columns.len();
        Self::of(SegmentData::Memory(columns), (rows, width), None)
    }

    /// Rows wherever they are, and which of them are left.
    pub(super) fn of(content: SegmentData, (rows, width): (usize, usize), live: Option<BooleanBuffer>) -> Self {
        let left = live.as_ref().map_or(rows, BooleanBuffer::count_set_bits);
        let (dense, lookups, indexes) = (Arc::default(), Arc::default(), Arc::default());
        let stored_indexes = Arc::default();
        let order = Arc::new((0..width).map(|_| OnceLock::new()).collect());
        let sketches = Arc::new((0..width).map(|_| OnceLock::new()).collect());
        let (content, replaced) = (Arc::new(RwLock::new(content)), Arc::default());
        Self { content, replaced, width, rows, live, left, dense, lookups, order, sketches, indexes, stored_indexes }
    }

    /// The same rows with another column, of which nothing is known yet. Of a part that the file has but no commit knows, that column alone is
    /// in memory until the next one.
    pub(super) fn with_column(&self, at: usize, column: ArrayRef) -> Self {
        let part = |content| Self::of(content, (self.rows, self.width), self.live.clone());
        match &*self.content.read().unwrap_or_else(PoisonError::into_inner) {
            SegmentData::Memory(columns) => {
                let mut columns = columns.clone();
                columns[at] = column;
                part(SegmentData::Memory(columns))
            }
            SegmentData::Stored(_) => {
                let (content, replaced) = (Arc::clone(&self.content), Arc::new(RwLock::new(Some((at, column)))));
                Self { content, replaced, ..part(SegmentData::Memory(Vec::new())) }
            }
        }
    }

    /// The column that the next commit has to write.
    pub(super) fn replaced(&self) -> Option<(usize, ArrayRef)> {
        self.replaced.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Lets go of the column that a commit has written.
    pub(super) fn forget_replaced(&self) {
        *self.replaced.write().unwrap_or_else(PoisonError::into_inner) = None;
    }

    /// Rows that are left.
    pub(super) fn count(&self) -> usize {
        self.left
    }

    /// Rows with those deleted, and which are left.
    pub(super) fn mask(&self) -> (usize, Option<&BooleanBuffer>) {
        (self.rows, self.live.as_ref())
    }

    /// The columns, in memory or in the file.
    pub(super) fn content(&self) -> &RwLock<SegmentData> {
        &self.content
    }

    /// A column with the deleted rows.
    pub(super) fn whole(&self, at: usize) -> Result<ArrayRef> {
        if let Some((column, array)) = &*self.replaced.read().unwrap_or_else(PoisonError::into_inner)
            && *column == at
        {
            return Ok(Arc::clone(array));
        }
        match &*self.content.read().unwrap_or_else(PoisonError::into_inner) {
            SegmentData::Memory(columns) => Ok(Arc::clone(&columns[at])),
            SegmentData::Stored(cells) => cells.column(at),
        }
    }

    /// A column of the rows that are left; past the last column appears the place of each row.
    pub(super) fn column(&self, at: usize, number: usize) -> Result<ArrayRef> {
        if at == self.width {
            let first = i64::from(crate::types::index(number)) << 32;
            let place = |row: usize| first | i64::from(crate::types::index(row));
            let places: Int64Array = match &self.live {
                None => (0..self.rows).map(place).collect(),
                Some(live) => live.set_indices().map(place).collect(),
            };
            return Ok(Arc::new(places));
        }
        let Some(live) = &self.live else { return self.whole(at) };
        if let Some(known) = self.dense.find(|known| *known == at) {
            return Ok(known);
        }
        let mask = BooleanArray::new(live.clone(), None);
        let dense = arrow::compute::filter(&self.whole(at)?, &mask)?;
        self.dense.keep(at, Arc::clone(&dense), dense.get_array_memory_size());
        self.note(&self.dense, dense.get_array_memory_size());
        Ok(dense)
    }

    /// Tells the database file what is kept of its part besides the columns.
    fn note<T: Evictable + 'static>(&self, kept: &Arc<T>, bytes: usize) {
        if let SegmentData::Stored(cells) = &*self.content.read().unwrap_or_else(PoisonError::into_inner) {
            let kept: Arc<dyn Evictable> = Arc::clone(kept) as Arc<dyn Evictable>;
            cells.note(Arc::downgrade(&kept), bytes);
        }
    }

    /// [`StoredSegment::note`] for all that was computed while the part was in memory only.
    pub(super) fn note_all(&self) {
        self.note(&self.dense, self.dense.bytes());
        self.note(&self.lookups, self.lookups.bytes());
        self.note(&self.indexes, self.indexes.bytes());
    }

    /// Takes note of a column that an index keeps as well.
    pub(super) fn note_index_column(&self, column: &ArrayRef) {
        self.note(&self.indexes, column.get_array_memory_size());
    }

    /// These rows, by their numbers, deleted ones among them.
    pub(super) fn rows_at(&self, rows: Vec<u32>) -> Result<Batch> {
        let columns = (0..self.width).map(|at| self.whole(at)).collect::<Result<_>>()?;
        Batch::new(columns, self.rows).take(&rows.into())
    }

    /// The part without these rows; `None` when nothing is left.
    pub(super) fn without(&self, rows: &[u32]) -> Option<Self> {
        let mut live: Vec<bool> = match &self.live {
            None => vec![true; self.rows],
            Some(live) => live.iter().collect(),
        };
        rows.iter().for_each(|row| live[*row as usize] = false);
        let live = BooleanBuffer::from(live);
        let left = live.count_set_bits();
        let dense = Arc::default();
        let (content, lookups) = (Arc::clone(&self.content), Arc::clone(&self.lookups));
        let replaced = Arc::clone(&self.replaced);
        let (order, indexes) = (Arc::clone(&self.order), Arc::clone(&self.indexes));
        let (sketches, stored_indexes) = (Arc::clone(&self.sketches), Arc::clone(&self.stored_indexes));
        let (width, rows, live) = (self.width, self.rows, Some(live));
        (left > 0).then_some(Self {
            content,
            replaced,
            width,
            rows,
            live,
            left,
            dense,
            lookups,
            order,
            sketches,
            indexes,
            stored_indexes,
        })
    }

    /// Whether a row is left.
    pub(super) fn is_live(&self, row: u32) -> bool {
        self.live.as_ref().is_none_or(|live| live.value(row as usize))
    }

    /// The rows sorted by the keys of an index, deleted ones among them.
    pub(super) fn index(&self, shape: &ScanIndex) -> Result<Arc<PartIndex>> {
        if let Some(known) = self.indexes.find(|signature| *signature == shape.signature) {
            return Ok(known);
        }
        crate::control::checkpoint()?;
        let index = match self.stored_index(shape)? {
            Some((stored, cells)) => stored.whole(&cells)?,
            None => PartIndex::new(self, shape)?,
        };
        let index = Arc::new(index);
        let bytes = index.bytes();
        self.indexes.keep(shape.signature.clone(), Arc::clone(&index), bytes);
        self.note(&self.indexes, bytes);
        Ok(index)
    }

    /// Whether an index of the part is in memory, or in the file.
    pub(super) fn has_index(&self, shape: &ScanIndex) -> Result<bool> {
        let in_memory = self.indexes.find(|signature| *signature == shape.signature).is_some();
        Ok(in_memory || self.stored_index(shape)?.is_some())
    }

    /// The rows whose keys lie in these ranges, deleted ones among them, from the file; `None` when the index is in memory, or not in the
    /// file, or has been read so often that it is to be kept in memory.
    pub(super) fn rows_in_file(&self, shape: &ScanIndex, ranges: &[ByteRange]) -> Result<Option<Vec<u32>>> {
        if self.indexes.find(|signature| *signature == shape.signature).is_some() {
            return Ok(None);
        }
        match self.stored_index(shape)? {
            Some((stored, cells)) if !stored.is_worn() => stored.rows_in(&cells, ranges).map(Some),
            _ => Ok(None),
        }
    }

    /// An index as the file has it, with the part's cells.
    fn stored_index(&self, shape: &ScanIndex) -> Result<Option<(Arc<StoredIndex>, Arc<StoredColumns>)>> {
        let cells = match &*self.content.read().unwrap_or_else(PoisonError::into_inner) {
            SegmentData::Stored(cells) => Arc::clone(cells),
            SegmentData::Memory(_) => return Ok(None),
        };
        if let Some(known) = self.stored_indexes.find(|signature| *signature == shape.signature) {
            return Ok(Some((known, cells)));
        }
        let Some(stored) = cells.index(&shape.signature)? else { return Ok(None) };
        let stored = Arc::new(stored);
        self.stored_indexes.keep(shape.signature.clone(), Arc::clone(&stored), 0);
        Ok(Some((stored, cells)))
    }

    /// The least and the greatest value of a column, deleted rows among them; `None` when its type has no such bounds.
    pub(super) fn bounds(&self, at: usize) -> Result<Bounds> {
        self.order(at).map(|order| order.bounds)
    }

    /// [`StoredSegment::bounds`] of a column in which no row has a NULL.
    pub(super) fn bounds_without_nulls(&self, at: usize) -> Result<Bounds> {
        if at == self.width {
            return Ok(None);
        }
        self.order(at).map(|order| order.bounds.filter(|_| order.run != ValueOrder::WithNulls))
    }

    /// Whether each value of a column is greater than the one before it, without a NULL; `false` for types of which that is not known.
    pub(super) fn is_ascending(&self, at: usize) -> Result<bool> {
        self.order(at).map(|order| order.run == ValueOrder::Ascending)
    }

    fn order(&self, at: usize) -> Result<ColumnOrder> {
        if let Some(known) = self.order[at].get() {
            return Ok(*known);
        }
        crate::control::checkpoint()?;
        let column = self.whole(at)?;
        let (bounds, ascending) = lane_order(&column);
        let run = match (ascending, column.null_count()) {
            (true, 0) => ValueOrder::Ascending,
            (_, 0) => ValueOrder::Mixed,
            _ => ValueOrder::WithNulls,
        };
        let found = ColumnOrder { bounds, run };
        Ok(*self.order[at].get_or_init(|| found))
    }

    /// Adds the values of a column, those of deleted rows among them, to a sketch.
    pub(super) fn add_to_sketch(&self, at: usize, all: &mut Sketch) -> Result<()> {
        if let Some(known) = self.sketches[at].get() {
            all.merge(known);
            return Ok(());
        }
        crate::control::checkpoint()?;
        let mut own = Sketch::default();
        own.add(&self.whole(at)?)?;
        all.merge(self.sketches[at].get_or_init(|| own));
        Ok(())
    }

    /// The rows by the values of these columns, deleted ones among them.
    pub(super) fn lookup(&self, columns: &[usize], nulls_same: bool) -> Result<Arc<JoinTable>> {
        if let Some(known) = self.lookups.find(|(of, same)| of == columns && *same == nulls_same) {
            return Ok(known);
        }
        crate::control::checkpoint()?;
        let keys: Vec<ArrayRef> = columns.iter().map(|at| self.whole(*at)).collect::<Result<_>>()?;
        let table = Arc::new(JoinTable::build(&keys, self.rows, &vec![nulls_same; columns.len()], None)?);
        self.lookups.keep((columns.to_vec(), nulls_same), Arc::clone(&table), table.bytes());
        self.note(&self.lookups, table.bytes());
        Ok(table)
    }
}
