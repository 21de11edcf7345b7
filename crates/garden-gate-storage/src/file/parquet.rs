//! Parquet: the footer is read when the file is opened, a column when a statement first uses it.

use super::location::Location;
use super::problem::Problem;
use super::{ColumnLoader, FileContent, FileTable, normalize};
use crate::catalog::{Column, SEGMENT_ROWS};
use crate::diagnostic::{Error, Result, caught};
use arrow::array::{Array, ArrayRef};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder};
use std::error::Error as StdError;
use std::path::Path;

#[derive(Debug)]
struct ParquetFile {
    at: Location,
    metadata: ArrowReaderMetadata,
    columns: Vec<Column>,
}

fn bad(path: &Path, error: impl StdError + Send + Sync + 'static) -> Error {
    let problem = Problem::NotThisFormat { format: "Parquet", why: error.to_string() };
    Error::from_facts(&problem).caused_by(error).in_file(path, None)
}

/// The crate trusts what the pages of a file say of themselves: some damage makes it panic.
fn guarded<T>(path: &Path, work: impl FnOnce() -> Result<T>) -> Result<T> {
    caught(work).unwrap_or_else(|| Err(damaged(path, "its pages contradict one another".into())))
}

fn damaged(path: &Path, why: String) -> Error {
    Error::from_facts(&Problem::NotThisFormat { format: "Parquet", why }).in_file(path, None)
}

/// The table that a Parquet file is; of its pages none is read yet.
pub(super) fn open(at: &Location) -> Result<FileTable> {
    guarded(at.path(), || open_metadata(at))
}

fn open_metadata(at: &Location) -> Result<FileTable> {
    let (file, path) = (at.open()?, at.path());
    let metadata = ArrowReaderMetadata::load(&file, ArrowReaderOptions::new()).map_err(|error| bad(path, error))?;
    let fields = metadata.schema().fields();
    let columns: Vec<Column> = fields
        .iter()
        .map(|field| normalize::column(field))
        .collect::<Result<_>>()
        .map_err(|error| error.in_file(path, None))?;
    let rows = u64::try_from(metadata.metadata().file_metadata().num_rows()).unwrap_or(0);
    let loader = Box::new(ParquetFile { at: at.clone(), metadata, columns: columns.clone() });
    Ok(FileTable { columns, content: FileContent::OnDemand { rows, loader } })
}

impl ColumnLoader for ParquetFile {
    fn path(&self) -> &Path {
        self.at.path()
    }

    fn load(&self, column: usize) -> Result<Vec<ArrayRef>> {
        guarded(self.at.path(), || self.load_column(column))
    }
}

impl ParquetFile {
    fn load_column(&self, column: usize) -> Result<Vec<ArrayRef>> {
        let (file, path) = (self.at.open()?, self.at.path());
        let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(file, self.metadata.clone());
        let mask = ProjectionMask::roots(builder.parquet_schema(), [column]);
        let reader = builder.with_projection(mask).with_batch_size(SEGMENT_ROWS).build();
        let reader = reader.map_err(|error| bad(path, error))?;
        let mut arrays: Vec<ArrayRef> = Vec::new();
        for batch in reader {
            crate::control::checkpoint()?;
            let batch = batch.map_err(|error| bad(path, error))?;
            arrays.push(
                normalize::array(batch.column(0), &self.columns[column]).map_err(|error| error.in_file(path, None))?,
            );
        }
        let rows: usize = arrays.iter().map(|array| array.len()).sum();
        if i64::try_from(rows) != Ok(self.metadata.metadata().file_metadata().num_rows()) {
            return Err(damaged(
                path,
                format!("column {:?} has {rows} rows, others more or fewer", self.columns[column].name),
            ));
        }
        Ok(arrays)
    }
}
