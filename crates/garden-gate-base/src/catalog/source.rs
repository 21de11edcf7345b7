use super::{Column, ColumnStatistics, TextReason};
use crate::diagnostic::Result;
use arrow::array::ArrayRef;
use std::any::Any;
use std::{fmt, sync::Arc};

/// A run of rows of a table: one array for each column that was asked for, all of one length.
#[derive(Clone, Debug)]
pub struct Segment {
    /// The arrays, in the order the columns were asked for.
    pub columns: Vec<ArrayRef>,
    /// How many rows; also right when no column was asked for.
    pub rows: usize,
}

/// Rows that can be queried as a table.
///
/// The engine asks only for the columns that a statement uses. An implementer promises that every array has the Arrow type of
/// its column ([`SqlType::arrow`](crate::types::SqlType::arrow)), that the segments hold `rows()` rows in all, and that two calls
/// give the same rows in the same order.
pub trait TableSource: Any + fmt::Debug + Send + Sync {
    /// The columns, in the order `*` lists them.
    fn columns(&self) -> &[Column];

    /// How many rows there are.
    fn rows(&self) -> u64;

    /// The rows, with the columns of these positions.
    ///
    /// # Errors
    /// Whatever reading them meets, e.g. a damaged file (22000) or one that is gone (58030).
    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>>;

    /// Sets of columns, by their positions, of which no two rows have the same values and none has a NULL.
    fn keys(&self) -> &[Vec<usize>] {
        &[]
    }

    /// What is known of one column; the planner guesses where nothing is.
    ///
    /// # Errors
    /// As [`TableSource::read`].
    fn statistics(&self, column: usize) -> Result<Arc<ColumnStatistics>> {
        let _ = column;
        Ok(Arc::new(ColumnStatistics::unknown(self.rows())))
    }

    /// Why a column is text though nearly all of its values are of another type; `None` where that is not so, or not known.
    fn text_reason(&self, column: usize) -> Option<&TextReason> {
        let _ = column;
        None
    }

    /// About so many rows, or all if there are fewer, spread over the table, for trying conditions on; `None` when getting them is not
    /// cheap. The default reads the columns whole.
    ///
    /// # Errors
    /// As [`TableSource::read`].
    fn sample(&self, columns: &[usize], rows: usize) -> Result<Option<Segment>> {
        super::sample::of_segments(&self.read(columns)?, rows).map(Some)
    }

    /// What was known of a column before so many rows changed that it no longer counts, and how many have; `None` when what is known is
    /// fresh. Only a plan that goes by old statistics asks.
    fn old_statistics(&self, column: usize) -> Option<(Arc<ColumnStatistics>, u64)> {
        let _ = column;
        None
    }
}
