//! Parquet: the footer is read when the file is opened, a column when a statement first uses it.

use super::problem::Problem;
use super::{ColumnLoader, Content, FileTable, normalize, unreadable};
use crate::catalog::{Column, SEGMENT_ROWS};
use crate::diagnostic::{Error, Result};
use arrow::array::ArrayRef;
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder};
use std::error::Error as StdError;
use std::fs::File;
use std::path::{Path, PathBuf};

#[derive(Debug)]
struct ParquetFile {
    path: PathBuf,
    metadata: ArrowReaderMetadata,
    columns: Vec<Column>,
}

fn bad(path: &Path, error: impl StdError + Send + Sync + 'static) -> Error {
    let problem = Problem::NotThisFormat { format: "Parquet", why: error.to_string() };
    Error::from_facts(&problem).caused_by(error).in_file(path, None)
}

pub(super) fn open(path: &Path) -> Result<FileTable> {
    let file = File::open(path).map_err(|error| unreadable(path, error))?;
    let metadata = ArrowReaderMetadata::load(&file, ArrowReaderOptions::new()).map_err(|error| bad(path, error))?;
    let fields = metadata.schema().fields();
    let columns: Vec<Column> = fields.iter().map(|field| normalize::column(path, field)).collect::<Result<_>>()?;
    let rows = u64::try_from(metadata.metadata().file_metadata().num_rows()).unwrap_or(0);
    let loader = Box::new(ParquetFile { path: path.to_owned(), metadata, columns: columns.clone() });
    Ok(FileTable { columns, content: Content::OnDemand { rows, loader } })
}

impl ColumnLoader for ParquetFile {
    fn load(&self, column: usize) -> Result<Vec<ArrayRef>> {
        let file = File::open(&self.path).map_err(|error| unreadable(&self.path, error))?;
        let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(file, self.metadata.clone());
        let mask = ProjectionMask::roots(builder.parquet_schema(), [column]);
        let reader = builder.with_projection(mask).with_batch_size(SEGMENT_ROWS).build();
        let reader = reader.map_err(|error| bad(&self.path, error))?;
        let mut arrays = Vec::new();
        for batch in reader {
            let batch = batch.map_err(|error| bad(&self.path, error))?;
            arrays.push(normalize::array(&self.path, batch.column(0), &self.columns[column])?);
        }
        Ok(arrays)
    }
}
