//! What a cell of the database file holds: bytes after their CRC-32.

use super::packed_column::{packed, unpacked};
use crate::diagnostic::Result;
use arrow::array::ArrayRef;

/// Bytes after their checksum.
pub(super) fn framed(bytes: &[u8]) -> Vec<u8> {
    [&crc32fast::hash(bytes).to_le_bytes(), bytes].concat()
}

pub(super) fn encoded(column: &ArrayRef) -> Result<Vec<u8>> {
    Ok(framed(&packed(column)?))
}

pub(super) fn decoded(bytes: &[u8]) -> Option<ArrayRef> {
    unpacked(bytes)
}

/// A number in little-endian order; 0 for bytes that are none.
pub(super) fn number_of(bytes: &[u8]) -> u64 {
    bytes.try_into().map_or(0, u64::from_le_bytes)
}
