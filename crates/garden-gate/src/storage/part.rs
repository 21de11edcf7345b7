use crate::diagnostic::Result;
use crate::kernel::JoinTable;
use arrow::array::{ArrayRef, BooleanArray, Int64Array};
use arrow::buffer::BooleanBuffer;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// A run of rows that never changes: what is deleted from it is masked out, in a new part that shares the columns.
#[derive(Debug)]
pub(super) struct Part {
    columns: Vec<ArrayRef>,
    rows: usize,
    /// Which rows are left; `None` for all.
    live: Option<BooleanBuffer>,
    left: usize,
    /// The columns without the deleted rows, worked out when they are first read.
    dense: Vec<OnceLock<ArrayRef>>,
    /// Rows by the values of some columns, worked out when they are first looked up; shared by all versions of the part.
    lookups: Arc<Mutex<Lookups>>,
}

/// By columns, and whether NULL is the same as NULL.
type Lookups = Vec<((Vec<usize>, bool), Arc<JoinTable>)>;

impl Part {
    pub(super) fn new(columns: Vec<ArrayRef>, rows: usize) -> Self {
        let dense = columns.iter().map(|_| OnceLock::new()).collect();
        Self { columns, rows, live: None, left: rows, dense, lookups: Arc::default() }
    }

    /// Rows that are left.
    pub(super) fn rows(&self) -> usize {
        self.left
    }

    /// A column of the rows that are left; past the last column stands the place of each row.
    pub(super) fn column(&self, at: usize, number: usize) -> Result<ArrayRef> {
        if at == self.columns.len() {
            let first = i64::from(crate::types::index(number)) << 32;
            let places: Int64Array = match &self.live {
                None => (0..self.rows as i64).map(|row| first | row).collect(),
                Some(live) => live.set_indices().map(|row| first | row as i64).collect(),
            };
            return Ok(Arc::new(places));
        }
        let Some(live) = &self.live else { return Ok(Arc::clone(&self.columns[at])) };
        if let Some(known) = self.dense[at].get() {
            return Ok(Arc::clone(known));
        }
        let mask = BooleanArray::new(live.clone(), None);
        let dense = arrow::compute::filter(&self.columns[at], &mask)?;
        Ok(Arc::clone(self.dense[at].get_or_init(|| dense)))
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
        let dense = self.columns.iter().map(|_| OnceLock::new()).collect();
        let (columns, lookups) = (self.columns.clone(), Arc::clone(&self.lookups));
        (left > 0).then_some(Self { columns, rows: self.rows, live: Some(live), left, dense, lookups })
    }

    pub(super) fn is_live(&self, row: u32) -> bool {
        self.live.as_ref().is_none_or(|live| live.value(row as usize))
    }

    /// The rows by the values of these columns, deleted ones among them.
    pub(super) fn lookup(&self, columns: &[usize], nulls_same: bool) -> Result<Arc<JoinTable>> {
        let mut known = self.lookups.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, table)) = known.iter().find(|((of, same), _)| of == columns && *same == nulls_same) {
            return Ok(Arc::clone(table));
        }
        let keys: Vec<ArrayRef> = columns.iter().map(|at| Arc::clone(&self.columns[*at])).collect();
        let table = Arc::new(JoinTable::build(&keys, self.rows, &vec![nulls_same; columns.len()], None)?);
        known.push(((columns.to_vec(), nulls_same), Arc::clone(&table)));
        Ok(table)
    }
}
