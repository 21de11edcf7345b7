use super::keys::{hash_bytes, integer_lanes, mix};
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use arrow::row::{RowConverter, Rows, SortField};
use hashbrown::HashTable;

/// Marks the end of a chain of rows with one key.
const END: u32 = u32::MAX;

/// The rows of a join's build side by their keys. A key with a NULL matches nothing and is left out (clause 8.2).
///
/// One slot a different key, rows with the same key chained through `next`: O(1) expected to find the first, O(1) each further.
#[derive(Debug)]
pub(crate) struct JoinTable {
    table: Table,
    next: Vec<u32>,
    /// For each key whether NULL is a value that equals itself.
    null_same: Vec<bool>,
}

#[derive(Debug)]
enum Table {
    Integer(HashTable<(i64, u32)>),
    Encoded { slots: HashTable<(u64, u32)>, converter: Box<RowConverter>, keys: Rows },
}

impl JoinTable {
    /// A table over all rows of the build side, whose keys these are. For a key of `null_same`, NULL is the same as NULL.
    pub(crate) fn build(keys: &[ArrayRef], rows: usize, null_same: &[bool]) -> Result<Self> {
        let mut next = vec![END; rows];
        let valid = |row: usize| is_key(keys, null_same, row);
        let lanes = if keys.len() == 1 && !null_same[0] { integer_lanes(&keys[0]) } else { None };
        // From the last row to the first, so that each chain runs in row order.
        let table = if let Some(lanes) = lanes {
            let mut slots = HashTable::with_capacity(rows);
            for row in (0..rows).rev().filter(|row| valid(*row)) {
                let key = lanes[row];
                let slot = slots.entry(mix(key), |slot: &(i64, u32)| slot.0 == key, |slot| mix(slot.0));
                let mut slot = slot.or_insert((key, END));
                next[row] = std::mem::replace(&mut slot.get_mut().1, index(row));
            }
            Table::Integer(slots)
        } else {
            let converter =
                RowConverter::new(keys.iter().map(|key| SortField::new(key.data_type().clone())).collect())?;
            let encoded = converter.convert_columns(keys)?;
            let mut slots: HashTable<(u64, u32)> = HashTable::with_capacity(rows);
            for row in (0..rows).rev().filter(|row| valid(*row)) {
                let key = encoded.row(row);
                let hash = hash_bytes(key.as_ref());
                let same = |slot: &(u64, u32)| slot.0 == hash && encoded.row(slot.1 as usize) == key;
                let mut slot = slots.entry(hash, same, |slot| slot.0).or_insert((hash, END));
                next[row] = std::mem::replace(&mut slot.get_mut().1, index(row));
            }
            Table::Encoded { slots, converter: Box::new(converter), keys: encoded }
        };
        Ok(Self { table, next, null_same: null_same.to_vec() })
    }

    /// Calls `found` with each pair of a probe row and a build row that have the same key, probe rows in order.
    pub(crate) fn probe(
        &self,
        keys: &[ArrayRef],
        rows: usize,
        mut found: impl FnMut(u32, u32) -> Result<()>,
    ) -> Result<()> {
        let mut chain = |row: usize, mut at: u32| -> Result<()> {
            while at != END {
                found(index(row), at)?;
                at = self.next[at as usize];
            }
            Ok(())
        };
        match &self.table {
            Table::Integer(slots) => {
                let lanes = integer_lanes(&keys[0]).unwrap_or_default();
                let nulls = keys[0].nulls();
                for (row, key) in lanes.iter().enumerate().take(rows) {
                    if nulls.is_some_and(|nulls| nulls.is_null(row)) {
                        continue;
                    }
                    if let Some(slot) = slots.find(mix(*key), |slot| slot.0 == *key) {
                        chain(row, slot.1)?;
                    }
                }
            }
            Table::Encoded { slots, converter, keys: known } => {
                let encoded = converter.convert_columns(keys)?;
                for row in (0..rows).filter(|row| is_key(keys, &self.null_same, *row)) {
                    let key = encoded.row(row);
                    let hash = hash_bytes(key.as_ref());
                    let same = |slot: &(u64, u32)| slot.0 == hash && known.row(slot.1 as usize) == key;
                    if let Some(slot) = slots.find(hash, same) {
                        chain(row, slot.1)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// Sets `found` for each probe row whose key is in the table.
    pub(crate) fn contains(&self, keys: &[ArrayRef], found: &mut [bool]) -> Result<()> {
        match &self.table {
            Table::Integer(slots) => {
                let lanes = integer_lanes(&keys[0]).unwrap_or_default();
                let nulls = keys[0].nulls();
                for (row, (key, found)) in lanes.iter().zip(found).enumerate() {
                    *found = !nulls.is_some_and(|nulls| nulls.is_null(row))
                        && slots.find(mix(*key), |slot| slot.0 == *key).is_some();
                }
            }
            Table::Encoded { slots, converter, keys: known } => {
                let encoded = converter.convert_columns(keys)?;
                for (row, found) in found.iter_mut().enumerate() {
                    let key = encoded.row(row);
                    let hash = hash_bytes(key.as_ref());
                    let same = |slot: &(u64, u32)| slot.0 == hash && known.row(slot.1 as usize) == key;
                    *found = is_key(keys, &self.null_same, row) && slots.find(hash, same).is_some();
                }
            }
        }
        Ok(())
    }

    /// Memory held, in bytes.
    pub(crate) fn bytes(&self) -> usize {
        let slots = match &self.table {
            Table::Integer(slots) => slots.capacity() * 17,
            Table::Encoded { slots, keys, .. } => slots.capacity() * 17 + keys.size(),
        };
        slots + self.next.len() * 4
    }
}

/// Whether the row has a key at all: a NULL is none, unless NULLs count as the same.
fn is_key(keys: &[ArrayRef], null_same: &[bool], row: usize) -> bool {
    keys.iter().zip(null_same).all(|(key, same)| *same || key.is_valid(row))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int32Array, StringViewArray};
    use std::sync::Arc;

    #[test]
    fn pairs_come_in_order_and_nulls_match_nothing() {
        let numbers = |values: Vec<Option<i32>>| -> ArrayRef { Arc::new(Int32Array::from(values)) };
        let texts = |values: Vec<Option<i32>>| -> ArrayRef {
            Arc::new(values.iter().map(|v| v.map(|v| v.to_string())).collect::<StringViewArray>())
        };
        for make in [&numbers as &dyn Fn(Vec<Option<i32>>) -> ArrayRef, &texts] {
            let build = make(vec![Some(1), None, Some(2), Some(1)]);
            let table = JoinTable::build(&[build], 4, &[false]).unwrap();
            let mut pairs = Vec::new();
            table
                .probe(&[make(vec![None, Some(1), Some(3), Some(2)])], 4, |probe, build| {
                    pairs.push((probe, build));
                    Ok(())
                })
                .unwrap();
            assert_eq!(pairs, [(1, 0), (1, 3), (3, 2)]);
        }
    }
}
