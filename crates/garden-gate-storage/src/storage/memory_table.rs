use super::statistics::{collect, column_of};
use crate::catalog::{Column, ColumnStatistics, SEGMENT_ROWS, Segment, TableSource, TextReason};
use crate::diagnostic::{Error, Result, SqlState, counted};
use crate::types::Value;
use arrow::array::ArrayRef;
use std::sync::{Arc, OnceLock};

/// A table whose columns are in memory.
#[derive(Debug)]
pub struct MemoryTable {
    columns: Vec<Column>,
    /// By segment, then by column.
    segments: Vec<Segment>,
    rows: u64,
    statistics: Vec<OnceLock<Arc<ColumnStatistics>>>,
    /// Why columns are text: of each column, or of none.
    text_reasons: Vec<Option<TextReason>>,
}

impl MemoryTable {
    /// A table of rows that are in memory.
    pub fn new(columns: Vec<Column>, segments: Vec<Segment>) -> Self {
        let rows = segments.iter().map(|segment| segment.rows as u64).sum();
        let statistics = columns.iter().map(|_| OnceLock::new()).collect();
        Self { columns, segments, rows, statistics, text_reasons: Vec::new() }
    }

    /// Adds why columns of a file became texts.
    pub fn with_text_reasons(self, text_reasons: Vec<Option<TextReason>>) -> Self {
        Self { text_reasons, ..self }
    }

    /// A table of literal rows.
    ///
    /// # Errors
    /// 42000 when a row has not one value a column, 22003 when a value does not fit its column.
    pub fn from_rows(columns: &[Column], rows: &[Vec<Value>]) -> Result<Self> {
        if let Some(row) = rows.iter().find(|row| row.len() != columns.len()) {
            let message =
                format!("a row has {}, the table {}", counted(row.len(), "value"), counted(columns.len(), "column"));
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
        }
        let segments = rows.chunks(SEGMENT_ROWS).enumerate().map(|(number, rows)| {
            let column = |(at, column): (usize, &Column)| {
                let values = rows.iter().map(|row| row[at].clone()).collect::<Vec<_>>();
                column_of(&values, column, number * SEGMENT_ROWS)
            };
            let arrays = columns.iter().enumerate().map(column).collect::<Result<_>>()?;
            Ok(Segment { columns: arrays, rows: rows.len() })
        });
        Ok(Self::new(columns.to_vec(), segments.collect::<Result<_>>()?))
    }
}

impl TableSource for MemoryTable {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        self.rows
    }

    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>> {
        let narrow = |segment: &Segment| Segment {
            columns: columns.iter().map(|column| Arc::clone(&segment.columns[*column])).collect(),
            rows: segment.rows,
        };
        Ok(self.segments.iter().map(narrow).collect())
    }

    fn statistics(&self, column: usize) -> Result<Arc<ColumnStatistics>> {
        if let Some(known) = self.statistics[column].get() {
            return Ok(Arc::clone(known));
        }
        let arrays: Vec<ArrayRef> = self.segments.iter().map(|segment| Arc::clone(&segment.columns[column])).collect();
        let found = Arc::new(collect(&arrays, self.columns[column].sql_type)?);
        Ok(Arc::clone(self.statistics[column].get_or_init(|| found)))
    }

    fn text_reason(&self, column: usize) -> Option<&TextReason> {
        self.text_reasons.get(column)?.as_ref()
    }
}
