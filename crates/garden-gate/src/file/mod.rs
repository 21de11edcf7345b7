//! Files as tables: CSV, JSON lines, Parquet and Arrow IPC, told apart by the ending of their name.
//!
//! What is read is brought to the engine's own types once, here. A file that cannot be read as what it should be is one error
//! with its name and, where the format has lines, its line; never a row left out or a value turned into NULL.

mod arrow_ipc;
mod column_builder;
mod csv;
mod infer;
mod json_lines;
mod normalize;
mod parquet;
mod problem;
mod records;

use crate::catalog::{Column, FileOptions, Segment};
use crate::diagnostic::{Error, Result};
use arrow::array::ArrayRef;
use problem::Problem;
use std::fmt;
use std::path::Path;

/// Reads one column of a file when it is first used.
pub(crate) trait ColumnLoader: fmt::Debug + Send + Sync {
    /// All rows of the column, cut into segments at the same places for every column.
    fn load(&self, column: usize) -> Result<Vec<ArrayRef>>;
}

/// The rows of a file.
#[derive(Debug)]
pub(crate) enum Content {
    Segments(Vec<Segment>),
    OnDemand { rows: u64, loader: Box<dyn ColumnLoader> },
}

/// A file that has been opened as a table.
#[derive(Debug)]
pub(crate) struct FileTable {
    pub(crate) columns: Vec<Column>,
    pub(crate) content: Content,
}

/// The formats, by the endings of their names.
const ENDINGS: &[(&str, Format)] = &[
    ("csv", Format::Csv { delimiter: b',' }),
    ("tsv", Format::Csv { delimiter: b'\t' }),
    ("jsonl", Format::JsonLines),
    ("ndjson", Format::JsonLines),
    ("parquet", Format::Parquet),
    ("arrow", Format::ArrowIpc),
    ("ipc", Format::ArrowIpc),
];

#[derive(Clone, Copy, Debug)]
enum Format {
    Csv { delimiter: u8 },
    JsonLines,
    Parquet,
    ArrowIpc,
}

fn format(path: &Path) -> Option<Format> {
    let ending = path.extension()?.to_str()?;
    ENDINGS.iter().find(|(known, _)| ending.eq_ignore_ascii_case(known)).map(|(_, format)| *format)
}

/// Whether a file's name says that it can be read as a table.
pub(crate) fn is_table_file(path: &Path) -> bool {
    format(path).is_some()
}

/// Opens a file as a table.
///
/// # Errors
/// 58030 when it cannot be opened, 22000 when it is not what its ending says, 22018 for text that is not UTF-8; each with the
/// file and, where there is one, the line.
pub(crate) fn open(path: &Path, options: &FileOptions) -> Result<FileTable> {
    let Some(format) = format(path) else {
        return Err(Error::from_facts(&Problem::UnknownEnding).in_file(path, None));
    };
    let read = || std::fs::read(path).map_err(|error| unreadable(path, error));
    match format {
        Format::Csv { delimiter } => csv::read(path, &read()?, delimiter, options),
        Format::JsonLines => json_lines::read(path, &read()?),
        Format::Parquet => parquet::open(path),
        Format::ArrowIpc => arrow_ipc::read(path),
    }
}

fn unreadable(path: &Path, error: std::io::Error) -> Error {
    Error::from_facts(&Problem::Unreadable(error.to_string())).caused_by(error).in_file(path, None)
}

/// The text of a file, without its byte order mark.
fn text<'a>(path: &Path, bytes: &'a [u8]) -> Result<&'a str> {
    let fail = |problem: &Problem, line| Err(Error::from_facts(problem).in_file(path, line));
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    if bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff") {
        return fail(&Problem::Utf16, None);
    }
    let line_at = |at: usize| memchr::memchr_iter(b'\n', &bytes[..at]).count() as u64 + 1;
    if let Some(at) = memchr::memchr(0, bytes) {
        return fail(&Problem::Binary, Some(line_at(at)));
    }
    match std::str::from_utf8(bytes) {
        Ok(text) => Ok(text),
        Err(error) => fail(&Problem::NotUtf8, Some(line_at(error.valid_up_to()))),
    }
}
