//! Why a column of a file is text.

use crate::types::SqlType;

/// Why a column of a file is text, though nearly all of its values are of another type.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextReason {
    /// The type that the other values have.
    pub sql_type: SqlType,
    /// The first value that is of no such type.
    pub value: String,
    /// Its line in the file, counted from 1.
    pub line: u64,
    /// How many values are of no such type, all with the same text or not.
    pub odd: u64,
    /// Whether all odd values have the text of the first.
    pub alike: bool,
    /// How many values there are, without NULLs.
    pub values: u64,
}

impl TextReason {
    /// What is known after the first value that made the column a text.
    pub fn new(sql_type: SqlType, (value, line): (String, u64)) -> Self {
        Self { sql_type, value, line, odd: 0, alike: true, values: 0 }
    }

    /// What the other values are, e.g. `number`.
    pub fn kind(&self) -> &'static str {
        match self.sql_type {
            SqlType::Boolean => "truth value",
            SqlType::Date => "day",
            SqlType::Timestamp => "moment",
            SqlType::Time => "time",
            _ => "number",
        }
    }
}

impl std::fmt::Display for TextReason {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (value, line, kind) = (&self.value, self.line, self.kind());
        write!(f, "'{value}' in line {line} is not a {kind}")?;
        match self.odd {
            0 | 1 => write!(f, ", as the other {} values are", self.values.saturating_sub(1)),
            2 => write!(f, "; nor is one other of {} values", self.values),
            odd => write!(f, "; nor are {} others of {} values", odd - 1, self.values),
        }
    }
}
