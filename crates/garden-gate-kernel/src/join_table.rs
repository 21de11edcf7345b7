use super::keys::{hash_bytes, integer_lanes, mix, part_of};
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use arrow::row::{RowConverter, Rows, SortField};
use hashbrown::HashTable;
use rayon::ThreadPool;
use rayon::iter::{IntoParallelIterator, ParallelIterator};
use std::sync::atomic::{AtomicU32, Ordering};

/// Marks the end of a chain of rows with one key.
const END: u32 = u32::MAX;

/// Bytes of a row whose key no other row has: its slot, and the next row of its key.
const ROW_BYTES: usize = 17 + 4;

/// Build rows from which on it pays to build with several workers.
const PARALLEL_ROWS: usize = 1 << 14;

/// The rows of a join's build side by their keys. A key with a NULL matches nothing and is omitted (clause 8.2).
///
/// One slot a different key, rows with the same key chained through `next`: O(1) expected to find the first, O(1) each further. The
/// slots are in parts by the hash of the key, each built by one worker.
#[derive(Debug)]
pub struct JoinTable {
    table: Table,
    /// Written by the worker that builds the part of the row.
    next: Vec<AtomicU32>,
    /// For each key whether NULL is a value that equals itself.
    null_same: Vec<bool>,
}

#[derive(Debug)]
enum Table {
    Integer(Parts<i64>),
    Encoded { slots: Parts<u64>, converter: Box<RowConverter>, keys: Rows },
}

/// Slots of a key, or its hash, and its first row; in as many parts as a power of two.
#[derive(Debug)]
struct Parts<K>(Vec<HashTable<(K, u32)>>);

impl<K: Send> Parts<K> {
    fn build(
        threads: Option<&ThreadPool>,
        rows: usize,
        fill: impl Fn(&dyn Fn(u64) -> bool, usize) -> HashTable<(K, u32)> + Sync,
    ) -> Self {
        match threads.filter(|threads| rows >= PARALLEL_ROWS && threads.current_num_threads() > 1) {
            Some(threads) => {
                let parts = threads.current_num_threads().next_power_of_two();
                let part = |part: usize| fill(&|hash| part_of(hash, parts) == part, rows / parts);
                Self(threads.install(|| (0..parts).into_par_iter().map(part).collect()))
            }
            None => Self(vec![fill(&|_| true, rows)]),
        }
    }

    fn find(&self, hash: u64, same: impl FnMut(&(K, u32)) -> bool) -> Option<u32> {
        self.0[part_of(hash, self.0.len())].find(hash, same).map(|slot| slot.1)
    }

    fn bytes(&self) -> usize {
        self.0.iter().map(|part| part.capacity() * 17).sum()
    }
}

impl JoinTable {
    /// A table over all rows of the build side, whose keys these are. For a key of `null_same`, NULL is the same as NULL. With
    /// `threads`, a large one is built by all of them.
    pub fn build(keys: &[ArrayRef], rows: usize, null_same: &[bool], threads: Option<&ThreadPool>) -> Result<Self> {
        crate::control::reserve(rows.saturating_mul(ROW_BYTES), 1)?;
        let next: Vec<AtomicU32> = std::iter::repeat_with(|| AtomicU32::new(END)).take(rows).collect();
        let valid = |row: usize| is_key(keys, null_same, row);
        let chain = |row: usize, first: &mut u32| {
            next[row].store(std::mem::replace(first, index(row)), Ordering::Relaxed);
        };
        let lanes = if keys.len() == 1 && !null_same[0] { integer_lanes(&keys[0]) } else { None };
        // From the last row to the first, so that each chain runs in row order.
        let table = if let Some(lanes) = lanes {
            Table::Integer(Parts::build(threads, rows, |mine, capacity| {
                let mut slots: HashTable<(i64, u32)> = HashTable::with_capacity(capacity);
                for row in (0..rows).rev() {
                    let (key, hash) = (lanes[row], mix(lanes[row]));
                    if !mine(hash) || !valid(row) {
                        continue;
                    }
                    let slot = slots.entry(hash, |slot| slot.0 == key, |slot| mix(slot.0));
                    chain(row, &mut slot.or_insert((key, END)).get_mut().1);
                }
                slots
            }))
        } else {
            let converter =
                RowConverter::new(keys.iter().map(|key| SortField::new(key.data_type().clone())).collect())?;
            let encoded = converter.convert_columns(keys)?;
            let slots = Parts::build(threads, rows, |mine, capacity| {
                let mut slots: HashTable<(u64, u32)> = HashTable::with_capacity(capacity);
                for row in (0..rows).rev() {
                    let key = encoded.row(row);
                    let hash = hash_bytes(key.as_ref());
                    if !mine(hash) || !valid(row) {
                        continue;
                    }
                    let same = |slot: &(u64, u32)| slot.0 == hash && encoded.row(slot.1 as usize) == key;
                    let slot = slots.entry(hash, same, |slot| slot.0);
                    chain(row, &mut slot.or_insert((hash, END)).get_mut().1);
                }
                slots
            });
            Table::Encoded { slots, converter: Box::new(converter), keys: encoded }
        };
        Ok(Self { table, next, null_same: null_same.to_vec() })
    }

    /// Calls `found` with each pair of a probe row and a build row that have the same key, probe rows in order.
    pub fn probe(&self, keys: &[ArrayRef], rows: usize, mut found: impl FnMut(u32, u32) -> Result<()>) -> Result<()> {
        let mut chain = |row: usize, mut at: u32| -> Result<()> {
            while at != END {
                found(index(row), at)?;
                at = self.next[at as usize].load(Ordering::Relaxed);
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
                    if let Some(first) = slots.find(mix(*key), |slot| slot.0 == *key) {
                        chain(row, first)?;
                    }
                }
            }
            Table::Encoded { slots, converter, keys: known } => {
                let encoded = converter.convert_columns(keys)?;
                for row in (0..rows).filter(|row| is_key(keys, &self.null_same, *row)) {
                    let key = encoded.row(row);
                    let hash = hash_bytes(key.as_ref());
                    let same = |slot: &(u64, u32)| slot.0 == hash && known.row(slot.1 as usize) == key;
                    if let Some(first) = slots.find(hash, same) {
                        chain(row, first)?;
                    }
                }
            }
        }
        Ok(())
    }

    /// Sets `found` for each probe row whose key is in the table.
    pub fn contains(&self, keys: &[ArrayRef], found: &mut [bool]) -> Result<()> {
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
    pub fn bytes(&self) -> usize {
        let slots = match &self.table {
            Table::Integer(slots) => slots.bytes(),
            Table::Encoded { slots, keys, .. } => slots.bytes() + keys.size(),
        };
        slots + self.next.len() * 4
    }
}

/// Whether the row has a key at all: a NULL is none, unless NULLs count as the same.
#[inline]
pub(super) fn is_key(keys: &[ArrayRef], null_same: &[bool], row: usize) -> bool {
    keys.iter().zip(null_same).all(|(key, same)| *same || key.is_valid(row))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int32Array, StringViewArray};
    use std::sync::Arc;

    fn pairs(table: &JoinTable, probe: &ArrayRef) -> Vec<(u32, u32)> {
        let mut pairs = Vec::new();
        let mut add = |probe, build| {
            pairs.push((probe, build));
            Ok(())
        };
        table.probe(std::slice::from_ref(probe), probe.len(), &mut add).unwrap();
        pairs
    }

    #[test]
    fn pairs_come_in_order_and_nulls_match_nothing() {
        let numbers = |values: Vec<Option<i32>>| -> ArrayRef { Arc::new(Int32Array::from(values)) };
        let texts = |values: Vec<Option<i32>>| -> ArrayRef {
            Arc::new(values.iter().map(|v| v.map(|v| v.to_string())).collect::<StringViewArray>())
        };
        for make in [&numbers as &dyn Fn(Vec<Option<i32>>) -> ArrayRef, &texts] {
            let build = make(vec![Some(1), None, Some(2), Some(1)]);
            let table = JoinTable::build(&[build], 4, &[false], None).unwrap();
            let found = pairs(&table, &make(vec![None, Some(1), Some(3), Some(2)]));
            assert_eq!(found, [(1, 0), (1, 3), (3, 2)]);
            // Three workers make four parts: the same chains.
            let threads = rayon::ThreadPoolBuilder::new().num_threads(3).build().unwrap();
            let keys = make((0..40_000).map(|row| (row % 10 != 9).then_some(row % 16_000)).collect());
            let table = JoinTable::build(&[keys], 40_000, &[false], Some(&threads)).unwrap();
            let probe = make(vec![Some(5), Some(9), Some(15_998), Some(16_000)]);
            assert_eq!(pairs(&table, &probe), [(0, 5), (0, 16_005), (0, 32_005), (2, 15_998), (2, 31_998)]);
        }
    }
}
