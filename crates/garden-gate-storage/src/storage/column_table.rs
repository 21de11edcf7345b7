use super::conforming::conforming_column;
use super::statistics::collect;
use crate::catalog::{Column, ColumnStatistics, Segment, TableSource};
use crate::control;
use crate::diagnostic::Result;
use crate::file::ColumnLoader;
use arrow::array::{Array, ArrayRef};
use rayon::ThreadPool;
use rayon::iter::{IntoParallelIterator, ParallelIterator};
use std::sync::{Arc, OnceLock, Weak};

/// A table whose columns are read from a file when they are first used, and kept.
#[derive(Debug)]
pub struct ColumnTable {
    columns: Vec<Column>,
    rows: u64,
    loader: Box<dyn ColumnLoader>,
    loaded: Vec<OnceLock<Vec<ArrayRef>>>,
    statistics: Vec<OnceLock<Arc<ColumnStatistics>>>,
    /// What reads several columns at once, as long as the session has it.
    threads: Weak<ThreadPool>,
}

impl ColumnTable {
    /// A table whose columns the loader reads when they are needed.
    pub fn new(columns: Vec<Column>, rows: u64, loader: Box<dyn ColumnLoader>) -> Self {
        let loaded = columns.iter().map(|_| OnceLock::new()).collect();
        let statistics = columns.iter().map(|_| OnceLock::new()).collect();
        Self { columns, rows, loader, loaded, statistics, threads: Weak::new() }
    }

    /// The same table, of which these threads read several columns at once.
    pub(super) fn with_threads(self, threads: Option<&Arc<ThreadPool>>) -> Self {
        Self { threads: threads.map_or_else(Weak::new, Arc::downgrade), ..self }
    }

    /// Reads the columns that are not there yet, side by side where there are several.
    fn load(&self, columns: &[usize]) -> Result<()> {
        let missing: Vec<usize> =
            columns.iter().copied().filter(|column| self.loaded[*column].get().is_none()).collect();
        let Some(threads) = self.threads.upgrade().filter(|_| missing.len() > 1) else { return Ok(()) };
        let statement = control::current();
        let read = |column: usize| {
            let _entered = control::enter(statement.as_ref());
            self.column(column).map(|_| ())
        };
        threads.install(|| missing.into_par_iter().map(read).collect::<Vec<Result<()>>>()).into_iter().collect()
    }

    fn column(&self, column: usize) -> Result<&Vec<ArrayRef>> {
        if let Some(known) = self.loaded[column].get() {
            return Ok(known);
        }
        let arrays = conforming_column(&self.columns[column], self.loader.load(column)?);
        let arrays = arrays.map_err(|error| error.in_file(self.loader.path(), None))?;
        Ok(self.loaded[column].get_or_init(|| arrays))
    }
}

impl TableSource for ColumnTable {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        self.rows
    }

    /// Every column is cut into the same segments by its loader.
    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>> {
        self.load(columns)?;
        let arrays = columns.iter().map(|column| self.column(*column)).collect::<Result<Vec<_>>>()?;
        let Some(first) = arrays.first() else {
            let rows = usize::try_from(self.rows).unwrap_or(usize::MAX);
            return Ok(vec![Segment { columns: Vec::new(), rows }]);
        };
        let segment = |at: usize| Segment {
            columns: arrays.iter().map(|array| Arc::clone(&array[at])).collect(),
            rows: first[at].len(),
        };
        Ok((0..first.len()).map(segment).collect())
    }

    fn statistics(&self, column: usize) -> Result<Arc<ColumnStatistics>> {
        if let Some(known) = self.statistics[column].get() {
            return Ok(Arc::clone(known));
        }
        let found = Arc::new(collect(self.column(column)?, self.columns[column].sql_type)?);
        Ok(Arc::clone(self.statistics[column].get_or_init(|| found)))
    }
}
