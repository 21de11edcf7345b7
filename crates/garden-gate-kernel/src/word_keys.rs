//! Several group keys as words of 64 bits: integers, days and the like as they are, texts of up to seven bytes with their length.
//! Groups are then found without encoding rows.

use super::keys::{from_integer_lanes, integer_lanes, mix};
use crate::types::index;
use arrow::array::{Array, ArrayRef, AsArray, StringViewArray, new_empty_array};
use arrow::buffer::NullBuffer;
use arrow::datatypes::DataType;
use hashbrown::HashTable;
use std::sync::Arc;

/// Bytes of a text that fit a word beside its length.
const MOST_BYTES: u128 = 7;

/// Groups that are found without a hash, and what stands where there is none yet.
const RECENT: usize = 256;
const NONE: u32 = u32::MAX;

/// Where the group of words stands among those that came lately.
#[inline]
fn recent_place(row: &[u64]) -> usize {
    let sum = row.iter().fold(0_u64, |sum, word| (sum.rotate_left(11) ^ word).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    usize::try_from(sum >> 56).unwrap_or_default()
}

#[derive(Debug)]
pub(super) struct WordTable {
    slots: HashTable<(u64, u32)>,
    /// For each group its words: first which keys are NULL, then one a key.
    keys: Vec<u64>,
    width: usize,
    scratch: Vec<u64>,
    /// The groups of words that came lately, by a few of their bits.
    recent: Vec<u32>,
}

impl WordTable {
    /// A table for keys of these types; `None` when one of them never fits a word.
    pub(super) fn new(types: &[DataType]) -> Option<Self> {
        let fits = |data_type: &DataType| {
            *data_type == DataType::Utf8View || integer_lanes(&new_empty_array(data_type)).is_some()
        };
        let width = types.len() + 1;
        (width <= 9 && types.iter().all(fits)).then(|| Self {
            slots: HashTable::new(),
            keys: Vec::new(),
            width,
            scratch: Vec::new(),
            recent: vec![NONE; RECENT],
        })
    }

    /// The group of each row; `false`, and nothing done, when a text of the batch is too long.
    pub(super) fn assign(&mut self, columns: &[ArrayRef], rows: usize, ids: &mut Vec<u32>) -> bool {
        let width = self.width;
        self.scratch.clear();
        self.scratch.resize(rows * width, 0);
        for (at, column) in columns.iter().enumerate() {
            if !self.fill(at, column) {
                return false;
            }
        }
        for row in self.scratch.chunks_exact(width) {
            let recent = &mut self.recent[recent_place(row)];
            let start = *recent as usize * width;
            if *recent != NONE && self.keys[start..start + width] == *row {
                ids.push(*recent);
                continue;
            }
            let hash = row.iter().fold(0_u64, |hash, word| mix((hash ^ word).wrapping_add(0x9e37_79b9).cast_signed()));
            let keys = &mut self.keys;
            let same = |slot: &(u64, u32)| {
                let start = slot.1 as usize * width;
                slot.0 == hash && keys[start..start + width] == *row
            };
            let group = match self.slots.find(hash, same) {
                Some(slot) => slot.1,
                None => {
                    let group = index(keys.len() / width);
                    keys.extend_from_slice(row);
                    self.slots.insert_unique(hash, (hash, group), |slot| slot.0);
                    group
                }
            };
            *recent = group;
            ids.push(group);
        }
        true
    }

    /// Writes the words of one key; `false` when one does not fit.
    fn fill(&mut self, at: usize, column: &ArrayRef) -> bool {
        let nulls = column.nulls().filter(|nulls| nulls.null_count() > 0);
        let rows = self.scratch.chunks_exact_mut(self.width);
        if let Some(lanes) = integer_lanes(column) {
            rows.zip(lanes.iter()).for_each(|(row, value)| row[at + 1] = value.cast_unsigned());
        } else {
            let mut fits = true;
            for (row, view) in rows.zip(column.as_string_view().views().iter()) {
                let length = view & u128::from(u32::MAX);
                fits &= length <= MOST_BYTES;
                // Up to twelve bytes stand after the length, filled up with zeros.
                let bytes = (view >> 32) & ((1 << 56) - 1);
                row[at + 1] = u64::try_from(length << 56 | bytes).unwrap_or(u64::MAX);
            }
            if !fits {
                return false;
            }
        }
        if let Some(nulls) = nulls {
            for (row, valid) in self.scratch.chunks_exact_mut(self.width).zip(nulls) {
                if !valid {
                    row[0] |= 1 << at;
                    row[at + 1] = 0;
                }
            }
        }
        true
    }

    /// New keys that there are slots for.
    pub(super) fn free(&self) -> usize {
        self.slots.capacity() - self.slots.len()
    }

    /// Keys so far.
    pub(super) fn len(&self) -> usize {
        self.keys.len() / self.width
    }

    /// The keys, one row a group.
    pub(super) fn columns(&self, types: &[DataType]) -> Vec<ArrayRef> {
        let column = |(at, data_type): (usize, &DataType)| -> ArrayRef {
            let rows = self.keys.chunks_exact(self.width);
            let valid: NullBuffer = rows.clone().map(|row| row[0] & (1 << at) == 0).collect();
            if *data_type != DataType::Utf8View {
                let lanes = rows.map(|row| row[at + 1].cast_signed()).collect();
                return from_integer_lanes(lanes, Some(valid), data_type);
            }
            let text = |(row, valid): (&[u64], bool)| {
                let word = row[at + 1];
                let length = usize::try_from(word >> 56).unwrap_or(0).min(7);
                valid.then(|| String::from_utf8_lossy(&word.to_le_bytes()[..length]).into_owned())
            };
            Arc::new(rows.zip(valid.iter()).map(text).collect::<StringViewArray>())
        };
        types.iter().enumerate().map(column).collect()
    }

    /// Bytes that slots and keys hold.
    pub(super) fn bytes(&self) -> usize {
        self.slots.capacity() * 17 + self.keys.capacity() * 8
    }
}
