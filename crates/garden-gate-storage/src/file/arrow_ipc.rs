//! Arrow IPC, as a file with a footer or as a stream.

use super::location::Location;
use super::problem::Problem;
use super::{FileContent, FileTable, normalize, unreadable};
use crate::catalog::{Column, Segment};
use crate::diagnostic::{Error, Result, caught};
use arrow::array::RecordBatch;
use arrow::datatypes::Schema;
use arrow::error::ArrowError;
use arrow::ipc::reader::{FileReader, StreamReader};
use std::io::{BufReader, Read, Seek};
use std::path::Path;

/// The table that an Arrow file or stream is, read whole.
pub(super) fn read(at: &Location) -> Result<FileTable> {
    // As with Parquet, damage may make the crate panic.
    let contradicts = || {
        let problem = Problem::NotThisFormat { format: "Arrow IPC", why: "its parts contradict one another".into() };
        Err(Error::from_facts(&problem).in_file(at.path(), None))
    };
    caught(|| read_batches(at)).unwrap_or_else(contradicts)
}

fn read_batches(at: &Location) -> Result<FileTable> {
    let (mut file, path) = (at.open()?, at.path());
    let mut magic = [0; 6];
    let has_footer = file.read_exact(&mut magic).is_ok() && &magic == b"ARROW1";
    file.rewind().map_err(|error| unreadable(path, error))?;
    let file = BufReader::new(file);
    let bad = |error: ArrowError| {
        let problem = Problem::NotThisFormat { format: "Arrow IPC", why: error.to_string() };
        Error::from_facts(&problem).caused_by(error).in_file(path, None)
    };
    if has_footer {
        let reader = FileReader::try_new(file, None).map_err(bad)?;
        let schema = reader.schema();
        table(path, &schema, reader.map(|batch| batch.map_err(bad)))
    } else {
        let reader = StreamReader::try_new(file, None).map_err(bad)?;
        let schema = reader.schema();
        table(path, &schema, reader.map(|batch| batch.map_err(bad)))
    }
}

fn table(path: &Path, schema: &Schema, batches: impl Iterator<Item = Result<RecordBatch>>) -> Result<FileTable> {
    let read = || columns_of(schema, batches);
    let (columns, segments) = read().map_err(|error| error.in_file(path, None))?;
    Ok(FileTable { columns, content: FileContent::Foreign { segments, path: path.to_owned() } })
}

/// Record batches as columns and segments of a table: arrays are cast to the Arrow types of their SQL types where no value is lost.
///
/// # Errors
/// 0A000 for an Arrow type without an SQL type, 22003 with the column for values that do not fit.
pub fn columns_of(
    schema: &Schema,
    batches: impl Iterator<Item = Result<RecordBatch>>,
) -> Result<(Vec<Column>, Vec<Segment>)> {
    let columns: Vec<Column> = schema.fields().iter().map(|field| normalize::column(field)).collect::<Result<_>>()?;
    let mut segments = Vec::new();
    for batch in batches {
        crate::control::checkpoint()?;
        let batch = batch?;
        let arrays = batch.columns().iter().zip(&columns);
        let arrays = arrays.map(|(array, column)| normalize::array(array, column)).collect::<Result<_>>()?;
        segments.push(Segment { columns: arrays, rows: batch.num_rows() });
    }
    Ok((columns, segments))
}
