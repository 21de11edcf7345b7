use crate::diagnostic::{Facts, SqlState};
use crate::types::SqlType;

/// What can be wrong with a data file.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    #[error("the file cannot be read: {0}")]
    Unreadable(String),
    #[error("there is no such file")]
    NotThere { near: Option<String> },
    #[error("this is a pipe, a device or a folder, not a file of rows")]
    NotRegular,
    #[error("this session may not read files there")]
    OutsideFolders,
    #[error("the ending of the file's name does not tell its format")]
    UnknownEnding,
    #[error("this build does not read or write {what}: it was made without the feature {feature:?}")]
    FeatureOff { what: &'static str, feature: &'static str },
    #[error("the file is empty: there is not even a header")]
    Empty,
    #[error("the file holds bytes that are no text")]
    Binary,
    #[error("the file is UTF-16 text, not UTF-8")]
    Utf16,
    #[error("a row has more than {limit} bytes, or its end is missing")]
    RowTooLong { limit: usize },
    #[error("the text is not UTF-8")]
    NotUtf8,
    #[error("{found} fields, the header has {expected}")]
    Ragged { found: usize, expected: usize },
    #[error("a quoted field is never closed")]
    UnclosedQuote,
    #[error("text after the closing quote of a field")]
    TextBehindQuote,
    #[error("two columns are called {0:?}")]
    DuplicateColumn(String),
    #[error("in column {column:?} the number {text} needs more than 38 digits")]
    NumberTooLong { column: String, text: String },
    #[error("in column {column:?} the numbers need {digits} digits together, at most 38 are possible")]
    TooManyDigits { column: String, digits: u16 },
    #[error("{text:?} is not a valid {target}")]
    Misfit { text: String, target: SqlType },
    #[error("there is no encoding {0:?}")]
    UnknownEncoding(String),
    #[error("{0}")]
    Template(String),
    #[error("rows cannot be written to it: {0}")]
    Unwritable(String),
    #[error("the line is not a JSON object: {0}")]
    NotJson(String),
    #[error("the file cannot be read as {format}: {why}")]
    NotThisFormat { format: &'static str, why: String },
    #[error("column {column:?} is of the type {found}, which is not supported yet")]
    ColumnType { column: String, found: String },
    #[error("column {column:?} holds values that do not fit {target}")]
    Values { column: String, target: SqlType },
}

impl Facts for Problem {
    fn state(&self) -> SqlState {
        match self {
            Self::Unreadable(_)
            | Self::NotThere { .. }
            | Self::UnknownEnding
            | Self::Unwritable(_)
            | Self::NotRegular
            | Self::OutsideFolders => SqlState::FILE_ACCESS,
            Self::UnknownEncoding(_) | Self::Template(_) => SqlState::SYNTAX_OR_RULE,
            Self::Misfit { .. } | Self::Binary | Self::Utf16 | Self::NotUtf8 => SqlState::INVALID_CHARACTER_VALUE,
            Self::DuplicateColumn(_) => SqlState::COLUMN_EXISTS,
            Self::NumberTooLong { .. } | Self::TooManyDigits { .. } | Self::Values { .. } => {
                SqlState::NUMERIC_OUT_OF_RANGE
            }
            Self::ColumnType { .. } | Self::FeatureOff { .. } => SqlState::FEATURE_NOT_SUPPORTED,
            Self::Empty
            | Self::RowTooLong { .. }
            | Self::Ragged { .. }
            | Self::UnclosedQuote
            | Self::TextBehindQuote
            | Self::NotJson(_)
            | Self::NotThisFormat { .. } => SqlState::DATA_EXCEPTION,
        }
    }

    fn help(&self) -> Option<String> {
        Some(match self {
            Self::NotThere { near } => return near.as_ref().map(|near| format!("did you mean {near}?")),
            Self::UnknownEnding => "files end in .csv, .tsv, .json, .jsonl, .ndjson, .parquet, .arrow or .ipc, text files also in .csv.gz or .csv.zst; the option (FORMAT CSV) says what another one is".into(),
            Self::Binary => "is it a spreadsheet or a compressed file? export it as CSV".into(),
            Self::RowTooLong { .. } => "SET line_limit = '…' allows longer rows; is it text at all?".into(),
            Self::Utf16 => "save the file as UTF-8, or say (ENCODING 'UTF-16LE')".into(),
            Self::NotUtf8 => "save the file as UTF-8, or say what it is, as in (ENCODING 'ISO-8859-1')".into(),
            Self::UnknownEncoding(_) => "encodings are called as on the web: UTF-16LE, ISO-8859-1, WINDOWS-1252, SHIFT_JIS".into(),
            Self::Ragged { found, expected } if found > expected => {
                "a field with the delimiter in it is written in double quotes".into()
            }
            Self::Ragged { .. } => "a field that is omitted is still separated: a,,c".into(),
            Self::NotRegular => "write what comes from it to a file first: it is read more than once".into(),
            Self::UnclosedQuote => "a \" inside a quoted field is written twice".into(),
            _ => return None,
        })
    }
}
