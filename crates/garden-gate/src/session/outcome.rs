use super::ResultSet;
use crate::diagnostic::Note;
use std::time::Duration;

/// What a statement came to.
#[derive(Debug)]
#[non_exhaustive]
pub enum Outcome {
    /// Rows of a query.
    Rows(ResultSet),
    /// Rows were changed.
    Changed {
        /// What was done, in words: `bed: 3 rows inserted`.
        what: String,
        /// How many.
        affected: u64,
        /// From the statement's text to its end.
        elapsed: Duration,
        /// What is worth knowing about it.
        notes: Vec<Note>,
    },
    /// A statement without rows, such as SET.
    Done {
        /// What was done, in words: `table bed created`; nothing for a statement that leaves no trace.
        what: String,
        /// From the statement's text to its end.
        elapsed: Duration,
        /// What is worth knowing about it.
        notes: Vec<Note>,
    },
}

impl Outcome {
    /// The rows, when there are any.
    pub fn rows(self) -> Option<ResultSet> {
        match self {
            Self::Rows(rows) => Some(rows),
            Self::Changed { .. } | Self::Done { .. } => None,
        }
    }
}
