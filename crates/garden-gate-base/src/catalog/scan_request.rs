//! What a statement asks of a table's source, and what it gets.

use super::Segment;
use crate::diagnostic::Result;
use crate::types::Value;
use std::fmt;
use std::ops::Bound;

/// What a statement reads of a table.
#[derive(Clone, Copy, Debug, Default)]
pub struct ScanRequest<'r> {
    /// The columns, by their positions, in the order in which segments have them.
    pub columns: &'r [usize],
    /// What is asked of single columns, all of it. A source may omit rows for which one of them does not hold, and need not: the
    /// statement tests its predicates on all rows that it gets.
    pub conjuncts: &'r [ColumnConjunct],
    /// How many rows of the source are enough, whichever they are by its order; all, when there is no such number.
    pub limit: Option<u64>,
}

impl<'r> ScanRequest<'r> {
    /// All rows, with these columns.
    #[must_use]
    pub fn all(columns: &'r [usize]) -> Self {
        Self { columns, ..Self::default() }
    }

    /// Whether a row with this value in the column may be asked for: no conjunct about the column is known to fail for it.
    #[must_use]
    pub fn admits(&self, column: usize, value: &Value) -> bool {
        let about = self.conjuncts.iter().filter(|conjunct| conjunct.column == column);
        about.into_iter().all(|conjunct| conjunct.test.admits(value))
    }
}

/// A predicate about one column of a table.
#[derive(Clone, Debug, PartialEq)]
pub struct ColumnConjunct {
    /// The column, by its position.
    pub column: usize,
    /// What is asked of it.
    pub test: ColumnTest,
}

/// What a predicate asks of a column. Values have the type of the column.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ColumnTest {
    /// It equals one of these.
    OneOf(Vec<Value>),
    /// It lies between these.
    Between(Bound<Value>, Bound<Value>),
}

impl ColumnTest {
    /// Whether a value may pass; NULL does not. What cannot be compared may.
    #[must_use]
    pub fn admits(&self, value: &Value) -> bool {
        use std::cmp::Ordering::{Greater, Less};
        if *value == Value::Null {
            return false;
        }
        match self {
            Self::OneOf(values) => {
                values.iter().any(|known| value.compare(known).is_none_or(std::cmp::Ordering::is_eq))
            }
            Self::Between(low, high) => {
                let above = match low {
                    Bound::Included(low) => value.compare(low) != Some(Less),
                    Bound::Excluded(low) => value.compare(low).is_none_or(|order| order == Greater),
                    Bound::Unbounded => true,
                };
                let below = match high {
                    Bound::Included(high) => value.compare(high) != Some(Greater),
                    Bound::Excluded(high) => value.compare(high).is_none_or(|order| order == Less),
                    Bound::Unbounded => true,
                };
                above && below
            }
        }
    }
}

/// The rows of a source, segment by segment.
pub struct SegmentStream<'s> {
    /// The segments, in the order of the source.
    pub segments: Box<dyn Iterator<Item = Result<Segment>> + Send + 's>,
    /// Rows that were omitted since a conjunct does not hold for any of them; a measured plan shows them.
    pub pruned: u64,
    /// Whether all segments are in memory already. Then they are shared among workers in pieces; else each is one worker's, and the next
    /// is asked for when a worker has time for it.
    pub is_ready: bool,
}

impl<'s> SegmentStream<'s> {
    /// Segments that are there.
    #[must_use]
    pub fn ready(segments: Vec<Segment>) -> Self {
        Self { segments: Box::new(segments.into_iter().map(Ok)), pruned: 0, is_ready: true }
    }

    /// Segments that are made as they are asked for. One of some thousand rows is a good size; FETCH, the limit of rows and an interrupt
    /// end the work between two.
    #[must_use]
    pub fn lazy(segments: impl Iterator<Item = Result<Segment>> + Send + 's) -> Self {
        Self { segments: Box::new(segments), pruned: 0, is_ready: false }
    }

    /// The same, without so many rows for which a conjunct does not hold.
    #[must_use]
    pub fn with_pruned(mut self, rows: u64) -> Self {
        self.pruned = rows;
        self
    }
}

impl fmt::Debug for SegmentStream<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SegmentStream")
            .field("pruned", &self.pruned)
            .field("is_ready", &self.is_ready)
            .finish_non_exhaustive()
    }
}
