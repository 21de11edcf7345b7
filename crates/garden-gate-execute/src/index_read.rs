//! Index reads: constants become the bounds of ranges of keys.

use super::streaming::internal;
use crate::catalog::Segment;
use crate::diagnostic::Result;
use crate::kernel::{array_of, cast_values, evaluate_constant};
use crate::logical::{Expr, Scan, ScanIndex};
use crate::physical::{Bound, IndexAccess, Probe};
use crate::storage::{IndexRead, KeyRange, MatchingRows, StoredTable};
use crate::types::{SqlType, Value};
use arrow::array::{Array, ArrayRef, new_null_array};
use std::any::Any;
use std::sync::Arc;

/// The rows of a table that an index, or several together, lead to.
pub(super) fn segments(scan: &Scan, access: &IndexAccess, columns: &[usize]) -> Result<Vec<Segment>> {
    let source: Arc<dyn Any + Send + Sync> = Arc::clone(&scan.source) as _;
    let table = source.downcast::<StoredTable>().map_err(|_| internal("an index of a table that is not stored"))?;
    if let Some(others) = &access.others {
        let mut reads = Vec::new();
        for one in access.every() {
            let ranges = ranges(one)?.unwrap_or_default();
            reads.push(IndexRead { index: &one.index, ranges, columns, only: false, order: None });
        }
        return table.read_indexes(&reads, others.all);
    }
    let Some(ranges) = ranges(access)? else { return Ok(Vec::new()) };
    let first = |first: Option<u64>| first.map_or(usize::MAX, |first| usize::try_from(first).unwrap_or(usize::MAX));
    table.read_index(&IndexRead {
        index: &access.index,
        ranges,
        columns,
        only: access.only,
        order: access.order.map(|order| (order.backwards, first(order.first))),
    })
}

/// The ranges that the values of now make; `None` when no row can lie in them.
fn ranges(access: &IndexAccess) -> Result<Option<Vec<KeyRange>>> {
    let mut ranges = vec![KeyRange::default()];
    for (probe, key) in access.equal.iter().zip(&access.index.keys) {
        let key_type = key.expr.sql_type();
        let values = match probe {
            Probe::Null => vec![new_null_array(&key_type.arrow(), 1)],
            Probe::OneOf(values) => {
                let mut known = Vec::new();
                for value in values {
                    if let Key::Value(value, _) = as_key(value, key_type)? {
                        known.push(value);
                    }
                }
                known
            }
        };
        let with = |range: &KeyRange, value: &ArrayRef| {
            let mut range = range.clone();
            range.equal.push(Arc::clone(value));
            range
        };
        ranges = ranges.iter().flat_map(|range| values.iter().map(|value| with(range, value))).collect();
    }
    let Some(key) = access.index.keys.get(access.equal.len()) else { return Ok(Some(ranges)) };
    for (bound, is_low) in [(&access.low, true), (&access.high, false)] {
        let Some(Bound { value, inclusive }) = bound else { continue };
        match as_key(value, key.expr.sql_type())? {
            Key::Null => return Ok(None),
            Key::Beyond => {}
            Key::Value(value, exact) => {
                let bound = Some((value, *inclusive || !exact));
                for range in &mut ranges {
                    *(if is_low { &mut range.low } else { &mut range.high }) = bound.clone();
                }
            }
        }
    }
    Ok(if ranges.is_empty() { None } else { Some(ranges) })
}

/// A constant beside a key.
pub(super) enum Key {
    /// NULL equals nothing and bounds nothing.
    Null,
    /// No value of the key's type is near it.
    Beyond,
    /// The nearest value of the key's type, and whether it is the same.
    Value(ArrayRef, bool),
}

/// A constant as a value of an index: one beyond the type of the key lies below or above all keys.
pub(super) fn as_key(expr: &Expr, key: SqlType) -> Result<Key> {
    let from = expr.sql_type();
    let value = evaluate_constant(expr)?;
    if value == Value::Null {
        return Ok(Key::Null);
    }
    let array = array_of(&value, from)?;
    if *array.data_type() == key.arrow() {
        return Ok(Key::Value(array, true));
    }
    let Ok(cast) = cast_values(&array, from, key) else { return Ok(Key::Beyond) };
    let exact = cast_values(&cast, key, from).is_ok_and(|back| back.to_data() == array.to_data());
    Ok(Key::Value(cast, exact))
}

/// The rows that an access leads to, with these columns of the table.
///
/// # Errors
/// What reading the index and the rows brings.
pub fn read_indexed(scan: &Scan, access: &IndexAccess, columns: &[usize]) -> Result<Vec<Segment>> {
    segments(scan, access, columns)
}

/// The rows of a table whose leading keys in an index are these, one array a key; `None` where the index is not at hand.
///
/// # Errors
/// What reading the index and the rows brings.
pub fn match_indexed(
    scan: &Scan,
    index: &ScanIndex,
    keys: &[ArrayRef],
    columns: &[usize],
) -> Result<Option<MatchingRows>> {
    let source: Arc<dyn Any + Send + Sync> = Arc::clone(&scan.source) as _;
    let Ok(table) = source.downcast::<StoredTable>() else { return Ok(None) };
    if table.has_index(index)? { table.matching_rows(index, keys, columns).map(Some) } else { Ok(None) }
}

/// How many rows an access leads to; `None` where telling takes more than so many searches, or the index is not at hand.
///
/// # Errors
/// What reading the index brings.
pub fn count_indexed(scan: &Scan, access: &IndexAccess, searches: usize) -> Result<Option<u64>> {
    let source: Arc<dyn Any + Send + Sync> = Arc::clone(&scan.source) as _;
    let Ok(table) = source.downcast::<StoredTable>() else { return Ok(None) };
    match ranges(access)? {
        Some(ranges) => table.count_indexed(&access.index, &ranges, searches),
        None => Ok(Some(0)),
    }
}
