//! What a cell of the database file holds: bytes after their CRC-32; a column is an Arrow IPC stream of one batch with one column.

use crate::diagnostic::Result;
use crate::kernel::own_texts;
use arrow::array::{Array, ArrayRef, RecordBatch};
use arrow::datatypes::{Field, Schema};
use arrow::ipc::reader::StreamReader;
use arrow::ipc::writer::StreamWriter;
use std::sync::Arc;

/// Bytes after their checksum.
pub(super) fn framed(bytes: &[u8]) -> Vec<u8> {
    [&crc32fast::hash(bytes).to_le_bytes(), bytes].concat()
}

pub(super) fn encoded(column: &ArrayRef) -> Result<Vec<u8>> {
    let column = if column.offset() == 0 { Arc::clone(column) } else { arrow::compute::concat(&[column.as_ref()])? };
    let column = own_texts(&column);
    let schema = Arc::new(Schema::new(vec![Field::new("c", column.data_type().clone(), true)]));
    let mut writer = StreamWriter::try_new(Vec::new(), &schema)?;
    writer.write(&RecordBatch::try_new(schema, vec![column])?)?;
    Ok(framed(&writer.into_inner()?))
}

pub(super) fn decoded(bytes: &[u8]) -> Option<ArrayRef> {
    let mut reader = StreamReader::try_new(bytes, None).ok()?;
    let batch = reader.next()?.ok()?;
    batch.columns().first().cloned()
}

/// A number in little-endian order; 0 for bytes that are none.
pub(super) fn number_of(bytes: &[u8]) -> u64 {
    bytes.try_into().map_or(0, u64::from_le_bytes)
}
