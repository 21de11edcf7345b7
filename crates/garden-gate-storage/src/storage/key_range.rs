//! Ranges of the keys of an index, and their encoding in bytes that sort as the keys do.

use super::index::converter;
use crate::diagnostic::Result;
use crate::kernel::sort_options;
use crate::logical::ScanIndex;
use arrow::array::{ArrayRef, new_null_array};

/// The rows whose keys begin with these values, and lie between these bounds in the key after them. Each array has one value, of the
/// type of its key; a bound may be inclusive.
#[derive(Clone, Debug, Default)]
pub struct KeyRange {
    pub equal: Vec<ArrayRef>,
    pub low: Option<(ArrayRef, bool)>,
    pub high: Option<(ArrayRef, bool)>,
}

/// What is read of an index.
#[derive(Debug)]
pub struct IndexRead<'a> {
    pub index: &'a ScanIndex,
    pub ranges: Vec<KeyRange>,
    pub columns: &'a [usize],
    /// Whether the columns are those that the index holds.
    pub only: bool,
    /// In the order of the keys, or backwards, and how many rows are wanted; else in the order of the table.
    pub order: Option<(bool, usize)>,
}

/// A range of encoded keys: those that are not below the first and not above the second. A bound stands for all keys that begin with it.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct ByteRange {
    low: (Vec<u8>, bool),
    high: Option<(Vec<u8>, bool)>,
}

impl ByteRange {
    /// Whether it begins after the key.
    pub(super) fn is_above(&self, key: &[u8]) -> bool {
        let (low, inclusive) = &self.low;
        key < low.as_slice() || (!inclusive && key.starts_with(low))
    }

    /// Whether it does not end before the key.
    pub(super) fn reaches(&self, key: &[u8]) -> bool {
        self.high
            .as_ref()
            .is_none_or(|(high, inclusive)| key < high.as_slice() || (*inclusive && key.starts_with(high)))
    }
}

fn encode(shape: &ScanIndex, values: &[ArrayRef]) -> Result<Vec<u8>> {
    if values.is_empty() {
        return Ok(Vec::new());
    }
    Ok(converter(shape, values.len())?.convert_columns(values)?.row(0).as_ref().to_vec())
}

/// The range of encoded keys that a range of values is.
pub(super) fn byte_range(shape: &ScanIndex, range: &KeyRange) -> Result<ByteRange> {
    let prefix = encode(shape, &range.equal)?;
    let mut low = (prefix.clone(), true);
    let mut high = (!prefix.is_empty()).then_some((prefix, true));
    if range.low.is_none() && range.high.is_none() {
        return Ok(ByteRange { low, high });
    }
    let key = &shape.keys[range.equal.len()];
    let options = sort_options(key);
    let bound = |value: &ArrayRef| encode(shape, &[range.equal.as_slice(), std::slice::from_ref(value)].concat());
    let (first, last) = if options.descending { (&range.high, &range.low) } else { (&range.low, &range.high) };
    // A comparison is never TRUE for NULL, which appears at one end.
    let null = new_null_array(&key.expr.sql_type().arrow(), 1);
    if let Some((value, inclusive)) = first {
        low = (bound(value)?, *inclusive);
    } else if options.nulls_first {
        low = (bound(&null)?, false);
    }
    if let Some((value, inclusive)) = last {
        high = Some((bound(value)?, *inclusive));
    } else if !options.nulls_first {
        high = Some((bound(&null)?, false));
    }
    Ok(ByteRange { low, high })
}
