//! Rows sorted by keys, part by part: made when a statement first needs them, and shared by all versions of the part. A range is found
//! by binary search in each part whose keys reach into it.

use super::key_range::ByteRange;
use super::search::count_below;
use super::sorted_keys::SortedKeys;
use super::stored_segment::StoredSegment;
use crate::diagnostic::Result;
use crate::kernel::{Batch, evaluate, sort_options};
use crate::logical::{ExprKind, ScanIndex};
use crate::types::index;
use arrow::array::{ArrayRef, UInt32Array, new_null_array};
use arrow::compute;
use arrow::row::{RowConverter, SortField};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// The rows of a part, sorted.
#[derive(Debug)]
pub(super) struct PartIndex {
    /// Row numbers in the order of their keys.
    order: Vec<u32>,
    keys: SortedKeys,
    /// What each key begins with, as a number: most steps of a search need no more.
    prefixes: Vec<u64>,
    /// Whether a beginning is all there is of a key.
    prefix_is_key: bool,
    /// Columns in that order, made when they are first read from the index.
    columns: Mutex<HashMap<usize, ArrayRef>>,
}

impl PartIndex {
    /// O(rows · log rows).
    pub(super) fn new(part: &StoredSegment, shape: &ScanIndex) -> Result<Self> {
        let rows = part.mask().0;
        let width = shape.keys.iter().map(|key| highest_slot(key).map_or(0, |slot| slot + 1)).max().unwrap_or(0);
        let mut used = vec![false; width];
        shape.keys.iter().for_each(|key| {
            key.expr.walk(&mut |expr| {
                if let ExprKind::Slot(slot) = expr.kind() {
                    used[*slot] = true;
                }
            });
        });
        let empty: ArrayRef = new_null_array(&arrow::datatypes::DataType::Null, rows);
        let column = |(at, used): (usize, &bool)| if *used { part.whole(at) } else { Ok(Arc::clone(&empty)) };
        let columns = used.iter().enumerate().map(column).collect::<Result<_>>()?;
        let batch = Batch::new(columns, rows);
        let keys = shape.keys.iter().map(|key| evaluate(&key.expr, &batch)?.into_array(rows));
        let keys: Vec<ArrayRef> = keys.collect::<Result<_>>()?;
        let converter = converter(shape, shape.keys.len())?;
        let encoded = converter.convert_columns(&keys)?;
        let mut order: Vec<u32> = (0..index(rows)).collect();
        order.sort_by(|a, b| encoded.row(*a as usize).cmp(&encoded.row(*b as usize)));
        let keys = SortedKeys::of(order.iter().map(|row| encoded.row(*row as usize).data()));
        Ok(Self::of_sorted(order, keys))
    }

    /// From rows that are in the order of their keys.
    pub(super) fn of_sorted(order: Vec<u32>, keys: SortedKeys) -> Self {
        let prefixes = keys.iter().map(beginning).collect();
        let prefix_is_key = keys.iter().all(|key| key.len() <= size_of::<u64>());
        Self { order, keys, prefixes, prefix_is_key, columns: Mutex::default() }
    }

    /// Row numbers in the order of their keys.
    pub(super) fn order(&self) -> &[u32] {
        &self.order
    }

    /// The key at a place in the order.
    pub(super) fn key(&self, at: usize) -> &[u8] {
        self.keys.get(at)
    }

    /// Bytes that order and keys hold.
    pub(super) fn bytes(&self) -> usize {
        self.order.len() * (size_of::<u32>() + size_of::<u64>()) + self.keys.size()
    }

    /// Where a range begins and ends in the order of the keys.
    pub(super) fn find(&self, range: &ByteRange) -> (usize, usize) {
        let rows = self.order.len();
        if rows == 0 || range.is_above(self.key(rows - 1)) || !range.reaches(self.key(0)) {
            return (0, 0);
        }
        let from = partition(rows, |at| range.is_above(self.key(at)));
        let to = partition(rows, |at| range.reaches(self.key(at)));
        (from, to.max(from))
    }

    /// The rows whose keys begin with `prefix` and are below `limit`, in the order of their keys, deleted ones among them.
    pub(super) fn between(&self, prefix: &[u8], limit: &[u8]) -> &[u32] {
        let rows = self.order.len();
        let from = partition(rows, |at| self.key(at) < prefix);
        let to = partition(rows, |at| self.key(at) < limit);
        &self.order[from..to.max(from)]
    }

    /// The rows whose keys begin with these bytes, deleted ones among them.
    pub(super) fn rows_of(&self, prefix: &[u8]) -> &[u32] {
        let least = beginning(prefix);
        // Keys that begin with less are below; those that begin alike are neighbours, and mostly few.
        let near = count_below(&self.prefixes, least);
        if self.prefix_is_key {
            let last = least | u64::MAX.checked_shr(8 * index(prefix.len())).unwrap_or(0);
            let same = self.prefixes[near..].iter().take_while(|key| **key <= last).count();
            return &self.order[near..near + same];
        }
        let below = |at: usize| self.key(at) < prefix;
        let mut step = 1;
        while near + step < self.order.len() && below(near + step) {
            step *= 2;
        }
        let end = (near + step).min(self.order.len());
        let from = near + partition(end - near, |at| below(near + at));
        let rest = &self.order[from..];
        let same = (from..self.order.len()).take_while(|at| self.key(*at).starts_with(prefix));
        &rest[..same.count()]
    }

    /// A column in the order of the index.
    pub(super) fn column(&self, part: &StoredSegment, at: usize) -> Result<ArrayRef> {
        if let Some(known) = self.columns.lock().unwrap_or_else(PoisonError::into_inner).get(&at) {
            return Ok(Arc::clone(known));
        }
        let sorted = compute::take(&part.whole(at)?, &UInt32Array::from(self.order.clone()), None)?;
        self.columns.lock().unwrap_or_else(PoisonError::into_inner).insert(at, Arc::clone(&sorted));
        part.note_index_column(&sorted);
        Ok(sorted)
    }
}

fn highest_slot(key: &crate::logical::SortKey) -> Option<usize> {
    let mut highest = None;
    key.expr.walk(&mut |expr| {
        if let ExprKind::Slot(slot) = expr.kind() {
            highest = highest.max(Some(*slot));
        }
    });
    highest
}

/// The first bytes of a key as a number that is ordered as they are; zeros stand after a shorter one.
fn beginning(key: &[u8]) -> u64 {
    let mut bytes = [0; 8];
    let length = key.len().min(8);
    bytes[..length].copy_from_slice(&key[..length]);
    u64::from_be_bytes(bytes)
}

/// The first of `rows` for which `before` does not hold, as in `slice::partition_point`.
fn partition(rows: usize, before: impl Fn(usize) -> bool) -> usize {
    let (mut low, mut high) = (0, rows);
    while low < high {
        let middle = low.midpoint(high);
        if before(middle) {
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    low
}

/// Encodes the first `keys` keys; such a row is the beginning of the row of all keys.
pub(super) fn converter(shape: &ScanIndex, keys: usize) -> Result<RowConverter> {
    let field =
        |key: &crate::logical::SortKey| SortField::new_with_options(key.expr.sql_type().arrow(), sort_options(key));
    Ok(RowConverter::new(shape.keys[..keys].iter().map(field).collect())?)
}
