use super::scan_request::{ScanRequest, SegmentStream};
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
/// its column ([`SqlType::arrow`](crate::types::SqlType::arrow)), and that two calls give the same rows in the same order. A panic of its
/// code is an error of the statement (38000).
///
/// [`read`](Self::read) is enough for rows that are in memory. A source whose rows are made or fetched as they are wanted implements
/// [`scan`](Self::scan) as well, and gives them segment by segment; it may use the conjuncts and the limit of the [`ScanRequest`] to make
/// fewer.
pub trait TableSource: Any + fmt::Debug + Send + Sync {
    /// The columns, in the order `*` lists them.
    fn columns(&self) -> &[Column];

    /// How many rows there are; of a source that makes them as they are wanted, about how many. The planner estimates with it.
    fn rows(&self) -> u64;

    /// The rows, with the columns of these positions.
    ///
    /// # Errors
    /// Whatever reading them meets, e.g. a damaged file (22000) or one that is gone (58030).
    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>>;

    /// The rows that a statement asks for, at once or as they are wanted. By default all rows, by [`TableSource::read`].
    ///
    /// ```
    /// # mod garden_gate { pub mod source { pub use garden_gate_base::catalog::*; } pub use garden_gate_base::{catalog::Column, diagnostic::*, types::*}; pub use arrow; }
    /// use garden_gate::arrow::array::{ArrayRef, Int32Array};
    /// use garden_gate::{Column, Result, SqlType, source::{ScanRequest, Segment, SegmentStream, TableSource}};
    /// use std::sync::Arc;
    ///
    /// /// A thousand segments of a thousand numbers, each made when it is asked for.
    /// #[derive(Debug)]
    /// struct Numbers(Vec<Column>);
    ///
    /// impl TableSource for Numbers {
    ///     fn columns(&self) -> &[Column] {
    ///         &self.0
    ///     }
    ///     fn rows(&self) -> u64 {
    ///         1_000_000
    ///     }
    ///     fn read(&self, columns: &[usize]) -> Result<Vec<Segment>> {
    ///         self.scan(&ScanRequest::all(columns))?.segments.collect()
    ///     }
    ///     fn scan<'s>(&'s self, request: &ScanRequest<'_>) -> Result<SegmentStream<'s>> {
    ///         let width = request.columns.len();
    ///         Ok(SegmentStream::lazy((0..1000).map(move |at| {
    ///             let numbers: ArrayRef = Arc::new((at * 1000..(at + 1) * 1000).collect::<Int32Array>());
    ///             Ok(Segment { columns: vec![numbers; width], rows: 1000 })
    ///         })))
    ///     }
    /// }
    /// # let numbers = Numbers(vec![Column::new("n", SqlType::Integer)]);
    /// # assert_eq!(numbers.read(&[0]).unwrap().len(), 1000);
    /// ```
    ///
    /// # Errors
    /// As [`TableSource::read`].
    fn scan<'s>(&'s self, request: &ScanRequest<'_>) -> Result<SegmentStream<'s>> {
        self.read(request.columns).map(SegmentStream::ready)
    }

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

    /// About so many rows, or all if there are fewer, spread over the table, for trying conditions on; `None` when getting them is
    /// expensive. The default reads the columns of a source that has its rows ready, and gives `None` for one that does not.
    ///
    /// # Errors
    /// As [`TableSource::read`].
    fn sample(&self, columns: &[usize], rows: usize) -> Result<Option<Segment>> {
        let found = self.scan(&ScanRequest::all(columns))?;
        if !found.is_ready {
            return Ok(None);
        }
        super::sample::of_segments(&found.segments.collect::<Result<Vec<_>>>()?, rows).map(Some)
    }

    /// How many rows have been added or taken since what is known of a column was found out.
    fn changed_since_statistics(&self, column: usize) -> u64 {
        let _ = column;
        0
    }

    /// What was known of a column before so many rows changed that it no longer counts, and how many have; `None` when what is known is
    /// fresh. Only a plan that goes by old statistics asks.
    fn old_statistics(&self, column: usize) -> Option<(Arc<ColumnStatistics>, u64)> {
        let _ = column;
        None
    }
}
