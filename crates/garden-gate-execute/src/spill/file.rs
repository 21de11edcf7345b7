//! A temporary file of batches. It has no name and is gone with the last block that appears in it.

use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, own_texts};
use arrow::array::RecordBatch;
use arrow::datatypes::{Field, Schema};
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::StreamWriter;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::sync::{Arc, Mutex, PoisonError};

#[derive(Debug)]
pub(super) struct SpillFile {
    file: Mutex<File>,
}

/// Rows that stand in a file.
#[derive(Clone, Debug)]
pub(crate) struct Block {
    file: Arc<SpillFile>,
    start: u64,
    length: usize,
    pub(super) rows: usize,
}

impl SpillFile {
    /// A temporary file without a name, gone with its last block.
    pub(super) fn new() -> Result<Arc<Self>> {
        let file = Mutex::new(tempfile::tempfile().map_err(|error| failed(&error))?);
        Ok(Arc::new(Self { file }))
    }

    /// Puts a batch at the end, as an Arrow stream of its own.
    pub(super) fn write(self: &Arc<Self>, batch: &Batch) -> Result<Block> {
        if batch.columns.is_empty() {
            // Rows that are only counted need no place.
            return Ok(Block { file: Arc::clone(self), start: 0, length: 0, rows: batch.rows });
        }
        let columns: Vec<_> = batch.columns.iter().map(own_texts).collect();
        let field = |column: &arrow::array::ArrayRef| Field::new("c", column.data_type().clone(), true);
        let schema = Arc::new(Schema::new(columns.iter().map(field).collect::<Vec<_>>()));
        let mut writer = StreamWriter::try_new(Vec::new(), &schema)?;
        writer.write(&RecordBatch::try_new(schema, columns)?)?;
        let bytes = writer.into_inner()?;
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        let start = file.seek(SeekFrom::End(0)).map_err(|error| failed(&error))?;
        file.write_all(&bytes).map_err(|error| failed(&error))?;
        Ok(Block { file: Arc::clone(self), start, length: bytes.len(), rows: batch.rows })
    }
}

impl Block {
    /// Bytes in the file.
    pub(super) fn bytes(&self) -> usize {
        self.length
    }

    /// The batch as it was written.
    pub(super) fn read(&self) -> Result<Batch> {
        if self.length == 0 {
            return Ok(Batch::new(Vec::new(), self.rows));
        }
        let mut bytes = vec![0; self.length];
        {
            let mut file = self.file.file.lock().unwrap_or_else(PoisonError::into_inner);
            file.seek(SeekFrom::Start(self.start)).map_err(|error| failed(&error))?;
            file.read_exact(&mut bytes).map_err(|error| failed(&error))?;
        }
        let batch = StreamReader::try_new(bytes.as_slice(), None)?.next().transpose()?;
        let batch = batch.ok_or_else(|| failed(&io::Error::from(io::ErrorKind::UnexpectedEof)))?;
        Ok(Batch::new(batch.columns().to_vec(), batch.num_rows()))
    }
}

fn failed(error: &io::Error) -> Error {
    let message = format!("a temporary file for what does not fit into memory_limit can't be used: {error}");
    Error::new(SqlState::FILE_ACCESS, message).with_help("temporary files are kept where the environment says (TMPDIR)")
}
