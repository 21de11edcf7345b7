use super::conforming::conforming_column;
use super::statistics::collect;
use crate::catalog::{Column, ColumnStatistics, Segment, TableSource};
use crate::diagnostic::Result;
use crate::file::ColumnLoader;
use arrow::array::{Array, ArrayRef};
use std::sync::{Arc, OnceLock};

/// A table whose columns are read from a file when they are first used, and kept.
#[derive(Debug)]
pub struct ColumnTable {
    columns: Vec<Column>,
    rows: u64,
    loader: Box<dyn ColumnLoader>,
    loaded: Vec<OnceLock<Vec<ArrayRef>>>,
    statistics: Vec<OnceLock<Arc<ColumnStatistics>>>,
}

impl ColumnTable {
    /// A table whose columns the loader reads when they are needed.
    pub fn new(columns: Vec<Column>, rows: u64, loader: Box<dyn ColumnLoader>) -> Self {
        let loaded = columns.iter().map(|_| OnceLock::new()).collect();
        let statistics = columns.iter().map(|_| OnceLock::new()).collect();
        Self { columns, rows, loader, loaded, statistics }
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
