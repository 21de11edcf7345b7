//! Files as tables: CSV, JSON lines, Parquet and Arrow IPC, told apart by the ending of their name; text files may be packed (.gz, .zst).
//!
//! What is read is brought to the engine's own types once, here. A file that cannot be read as what it should be is one error
//! with its name and, where the format has lines, its line; never a row omitted or a value turned into NULL.

mod arrow_ipc;
mod column_builder;
mod csv;
mod delimited;
mod formats;
mod infer;
mod json_array;
mod json_lines;
mod json_value;
mod load;
mod location;
mod new_file;
mod normalize;
#[cfg(feature = "parquet")]
mod page_checksums;
#[cfg(feature = "parquet")]
mod parquet;
#[cfg(not(feature = "parquet"))]
mod parquet_absent;
#[cfg(feature = "parquet")]
mod parquet_write;
mod problem;
mod records;
mod text_file;
mod write;

#[cfg(not(feature = "parquet"))]
use parquet_absent as parquet;

use crate::catalog::{Column, FileFormat, FileOptions, Segment, TextReason};
use crate::diagnostic::{Error, Result};
use arrow::array::ArrayRef;
pub use arrow_ipc::columns_of;
pub use delimited::Delimited;
pub use json_value::json_value;
pub use load::{BadRow, Loaded, Loader, Place};
pub use location::Location;
pub use new_file::NewFile;
pub use problem::Problem as FileProblem;
use problem::Problem;
use rayon::ThreadPool;
pub use records::csv_records;
use std::fmt;
use std::path::{Path, PathBuf};
use text_file::Packing;
pub use write::{Writer, has_own_array};

/// Bytes that a row of a text file has at most, if nothing else is said.
pub const LINE_LIMIT: u64 = 64_000_000;

/// Reads one column of a file when it is first used.
pub trait ColumnLoader: fmt::Debug + Send + Sync {
    /// The file.
    fn path(&self) -> &Path;

    /// All rows of the column, cut into segments at the same places for every column.
    fn load(&self, column: usize) -> Result<Vec<ArrayRef>>;
}

/// The rows of a file.
#[derive(Debug)]
pub enum FileContent {
    Segments {
        segments: Vec<Segment>,
        /// Why columns are text, of each column.
        reasons: Vec<Option<TextReason>>,
    },
    /// Arrays as the file has them, whose values are still to be looked at.
    Foreign {
        segments: Vec<Segment>,
        path: PathBuf,
    },
    OnDemand {
        rows: u64,
        loader: Box<dyn ColumnLoader>,
    },
}

/// A file that has been opened as a table.
#[derive(Debug)]
pub struct FileTable {
    pub columns: Vec<Column>,
    pub content: FileContent,
}

/// The formats, by the endings of their names.
const ENDINGS: &[(&str, Format)] = &[
    ("csv", Format::Csv { delimiter: b',' }),
    ("tsv", Format::Csv { delimiter: b'\t' }),
    ("json", Format::Json),
    ("jsonl", Format::JsonLines),
    ("ndjson", Format::JsonLines),
    ("parquet", Format::Parquet),
    ("arrow", Format::ArrowIpc),
    ("ipc", Format::ArrowIpc),
];

#[derive(Clone, Copy, Debug)]
enum Format {
    Csv {
        delimiter: u8,
    },
    /// One array of objects, or JSON lines.
    Json,
    JsonLines,
    Parquet,
    ArrowIpc,
}

fn format(path: &Path) -> Option<Format> {
    let ending = path.extension()?.to_str()?;
    ENDINGS.iter().find(|(known, _)| ending.eq_ignore_ascii_case(known)).map(|(_, format)| *format)
}

/// What a file is: as the options say, else by its name.
fn format_of(path: &Path, options: &FileOptions) -> Option<Format> {
    match options.format {
        Some(FileFormat::Csv) => Some(Format::Csv { delimiter: b',' }),
        Some(FileFormat::Tsv) => Some(Format::Csv { delimiter: b'\t' }),
        Some(FileFormat::Json) => Some(Format::Json),
        Some(FileFormat::JsonLines) => Some(Format::JsonLines),
        Some(FileFormat::Parquet) => Some(Format::Parquet),
        Some(FileFormat::Arrow) => Some(Format::ArrowIpc),
        None => format(&Packing::of(path).1),
    }
}

/// Whether a file's name says that it can be read as a table.
pub fn is_table_file(path: &Path) -> bool {
    let (packing, inner) = Packing::of(path);
    match format(&inner) {
        Some(Format::Csv { .. } | Format::Json | Format::JsonLines) => true,
        Some(_) => packing == Packing::None,
        None => false,
    }
}

/// The name of a file without the endings that say its format.
pub fn table_name(path: &Path) -> String {
    let (_, inner) = Packing::of(path);
    inner.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default()
}

/// Opens a file as a table; `threads` read text together.
///
/// # Errors
/// 58030 when it cannot be opened, 22000 when it is not what its ending says, 22018 for text that is not UTF-8; each with the
/// file and, where there is one, the line.
pub fn open(at: &Location, options: &FileOptions, threads: Option<&ThreadPool>) -> Result<FileTable> {
    let packing = Packing::of(at.path()).0;
    // What is not there is not said to be of no format.
    if let Err(error) = at.path().metadata() {
        return Err(unreadable(at.path(), error));
    }
    packing.check_built(at.path())?;
    match format_of(at.path(), options) {
        Some(Format::Csv { delimiter }) => csv::read(at, delimiter, options, threads),
        Some(Format::Json | Format::JsonLines) => json_lines::read(at, options, threads),
        Some(Format::Parquet) if packing == Packing::None => parquet::open(at),
        Some(Format::ArrowIpc) if packing == Packing::None => arrow_ipc::read(at),
        _ => Err(Error::from_facts(&Problem::UnknownEnding).in_file(at.path(), None)),
    }
}

fn unreadable(path: &Path, error: std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::NotFound {
        let near = near(path);
        return Error::from_facts(&Problem::NotThere { near }).caused_by(error).in_file(path, None);
    }
    Error::from_facts(&Problem::Unreadable(error.to_string())).caused_by(error).in_file(path, None)
}

/// The name of a file in the folder that a missing one is misspelt from.
fn near(path: &Path) -> Option<String> {
    let wanted = path.file_name()?.to_str()?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let names: Vec<String> = std::fs::read_dir(folder)
        .ok()?
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .take(1000)
        .collect();
    crate::diagnostic::nearest(wanted, names.iter().map(String::as_str)).map(str::to_owned)
}
