//! What a cell of the database file holds: bytes after their CRC-32.

use super::packed_column::{needs_codec, packed, unpacked};
use crate::diagnostic::{Error, Result};
use arrow::array::ArrayRef;

/// Bytes after their checksum.
pub(super) fn framed(bytes: &[u8]) -> Vec<u8> {
    [&crc32fast::hash(bytes).to_le_bytes(), bytes].concat()
}

/// The bytes of a column in the file: packed, with a checksum (see the table above).
pub(super) fn encoded(column: &ArrayRef) -> Result<Vec<u8>> {
    Ok(framed(&packed(column)?))
}

/// The column that bytes stand for; `None` for bytes that are none.
///
/// # Errors
/// As [`check_codec`].
pub(super) fn decoded(bytes: &[u8]) -> Result<Option<ArrayRef>> {
    check_codec(bytes)?;
    Ok(unpacked(bytes))
}

/// 0A000 for compressed bytes in a build that can't read them.
pub(super) fn check_codec(bytes: &[u8]) -> Result<()> {
    if needs_codec(bytes) {
        let what = "reading a compressed database file in a build without the feature \"compression\"";
        return Err(Error::not_supported(what));
    }
    Ok(())
}

/// A number in little-endian order; 0 for bytes that are none.
pub(super) fn number_of(bytes: &[u8]) -> u64 {
    bytes.try_into().map_or(0, u64::from_le_bytes)
}
