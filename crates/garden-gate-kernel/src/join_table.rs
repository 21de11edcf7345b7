use super::integer_slots::{self, IntegerSlots};
use super::key_layout::{Layout, layout_of};
use super::keys::{hash_bytes, integer_lanes, mix, part_of};
use super::packed_keys::PackedKeys;
use super::sparse_places::{SparsePlaces, distance};
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef, Int64Array};
use arrow::buffer::NullBuffer;
use arrow::row::{RowConverter, Rows, SortField};
use hashbrown::HashTable;
use rayon::ThreadPool;
use rayon::iter::{IntoParallelIterator, ParallelIterator};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

/// Marks the end of a chain of rows with one key.
const END: u32 = integer_slots::NONE;

/// Build rows from which on it pays to build with several workers.
const PARALLEL_ROWS: usize = 1 << 14;

/// Keys for which slots are made before it is known how many there are.
const FEW_KEYS: usize = 1 << 12;

/// The rows of a join's build side by their keys. A key with a NULL matches nothing and is omitted (clause 8.2).
///
/// One slot a different key, rows with the same key chained through `next`: O(1) expected to find the first, O(1) each further. Dense
/// integers need no slots: the first row of a key stands at its distance from the minimum, or, where most keys between the minimum and the
/// maximum are missing, at the place that the bits of the others say. Else the slots are in parts by the hash of the key, each built by
/// one worker.
#[derive(Debug)]
pub struct JoinTable {
    table: Table,
    /// Written by the worker that builds the part of the row; empty where no two rows have one key.
    next: Vec<AtomicU32>,
    /// Of several integer keys: how they are one.
    packing: Option<PackedKeys>,
    /// For each key whether NULL is a value that equals itself.
    null_same: Vec<bool>,
}

#[derive(Debug)]
enum Table {
    Dense { min: i64, first: Vec<u32> },
    Sparse(SparsePlaces),
    Integer(Parts<IntegerSlots>),
    Encoded { slots: Parts<HashSlots>, converter: Box<RowConverter>, keys: Rows },
}

/// The hash of a key and its first row.
type HashSlots = HashTable<(u64, u32)>;

/// Slots of keys and their first rows; in as many parts as a power of two.
#[derive(Debug)]
struct Parts<S>(Vec<S>);

impl<S: Send> Parts<S> {
    fn build(
        threads: Option<&ThreadPool>,
        rows: usize,
        fill: impl Fn(&dyn Fn(u64) -> bool, usize) -> S + Sync,
    ) -> Self {
        match threads.filter(|threads| rows >= PARALLEL_ROWS && threads.current_num_threads() > 1) {
            Some(threads) => {
                // Each worker goes through all rows and keeps those whose hashes are of its part: hashing twice costs less than handing rows
                // over, and no two write to one table.
                let parts = threads.current_num_threads().next_power_of_two();
                let part = |part: usize| fill(&|hash| part_of(hash, parts) == part, rows / parts);
                Self(threads.install(|| (0..parts).into_par_iter().map(part).collect()))
            }
            None => Self(vec![fill(&|_| true, rows)]),
        }
    }

    /// The part that a hash belongs to.
    #[inline]
    fn of(&self, hash: u64) -> &S {
        &self.0[part_of(hash, self.0.len())]
    }
}

impl JoinTable {
    /// A table over all rows of the build side, whose keys these are. For a key of `null_same`, NULL is the same as NULL. With
    /// `threads`, a large one is built by all of them.
    pub fn build(keys: &[ArrayRef], rows: usize, null_same: &[bool], threads: Option<&ThreadPool>) -> Result<Self> {
        Self::for_probes(keys, rows, null_same, 0, threads)
    }

    /// [`JoinTable::build`], where about so many rows will look for their keys.
    pub fn for_probes(
        keys: &[ArrayRef],
        rows: usize,
        null_same: &[bool],
        probes: usize,
        threads: Option<&ThreadPool>,
    ) -> Result<Self> {
        // A NULL that is a key has no place among packed lanes.
        let may_pack = keys.len() > 1 && !null_same.contains(&true);
        if let Some(packing) = if may_pack { PackedKeys::of(keys) } else { None } {
            let lanes = packing.pack(keys, rows);
            let nulls = is_key_of_all(keys, rows);
            let packed: ArrayRef = Arc::new(Int64Array::new(lanes.into(), nulls));
            let table = Self::for_probes(&[packed], rows, &[false], probes, threads)?;
            return Ok(Self { packing: Some(packing), ..table });
        }
        let lanes = if keys.len() == 1 && !null_same[0] { integer_lanes(&keys[0]) } else { None };
        let layout = if lanes.is_some() { layout_of(&keys[0], rows, probes) } else { Layout::Scattered };
        let layout = layout.that_fits(rows)?;
        let chains = Chains::of(rows);
        let valid = |row: usize| is_key(keys, null_same, row);
        let table = match lanes {
            Some(lanes) => of_integers(&lanes, layout, threads, &chains, valid),
            None => encoded(keys, threads, &chains, valid)?,
        };
        Ok(Self { table, next: chains.into_next(), packing: None, null_same: null_same.to_vec() })
    }

    /// For each probe row the first build row with its key, or [`END`].
    fn firsts(&self, keys: &[ArrayRef], rows: usize) -> Result<Vec<u32>> {
        if let Some(packing) = &self.packing {
            return Ok(self.firsts_of(&packing.pack(keys, rows)));
        }
        let mut firsts: Vec<u32> = match &self.table {
            Table::Dense { .. } | Table::Sparse(_) | Table::Integer(_) => {
                let lanes = integer_lanes(&keys[0]).unwrap_or_default();
                self.firsts_of(&lanes[..rows.min(lanes.len())])
            }
            Table::Encoded { slots, converter, keys: known } => {
                let encoded = converter.convert_columns(keys)?;
                let find = |row: usize| {
                    let key = encoded.row(row);
                    let hash = hash_bytes(key.as_ref());
                    // The hash first: the bytes of a key lie elsewhere, and keys of one place mostly differ in it.
                    let same = |slot: &(u64, u32)| slot.0 == hash && known.row(slot.1 as usize) == key;
                    slots.of(hash).find(hash, same).map_or(END, |slot| slot.1)
                };
                (0..rows).map(find).collect()
            }
        };
        // Lanes under a NULL hold anything: what they have met is taken back.
        for (key, same) in keys.iter().zip(&self.null_same) {
            if let Some(nulls) = key.nulls().filter(|nulls| !same && nulls.null_count() > 0) {
                firsts.iter_mut().zip(nulls).filter(|(_, valid)| !valid).for_each(|(first, _)| *first = END);
            }
        }
        Ok(firsts)
    }

    /// The same for integer keys.
    fn firsts_of(&self, lanes: &[i64]) -> Vec<u32> {
        match &self.table {
            Table::Dense { min, first } => {
                let find = |lane: &i64| first.get(distance(*lane, *min)).copied().unwrap_or(END);
                lanes.iter().map(find).collect()
            }
            Table::Sparse(places) => lanes.iter().map(|key| places.find(*key)).collect(),
            Table::Integer(Parts(parts)) => match parts.as_slice() {
                [slots] => lanes.iter().map(|key| slots.find(*key, mix(*key))).collect(),
                parts => {
                    let find = |key: &i64| {
                        let hash = mix(*key);
                        parts[part_of(hash, parts.len())].find(*key, hash)
                    };
                    lanes.iter().map(find).collect()
                }
            },
            Table::Encoded { .. } => vec![END; lanes.len()],
        }
    }

    /// Calls `found` with each pair of a probe row and a build row that have the same key, probe rows in order.
    pub fn probe(&self, keys: &[ArrayRef], rows: usize, mut found: impl FnMut(u32, u32) -> Result<()>) -> Result<()> {
        for (row, first) in self.firsts(keys, rows)?.into_iter().enumerate() {
            let mut at = first;
            while at != END {
                found(index(row), at)?;
                at = self.next.get(at as usize).map_or(END, |next| next.load(Ordering::Relaxed));
            }
        }
        Ok(())
    }

    /// The pairs of a probe row and the build row that has its key, probe rows in order; `None` where a key may have several rows.
    pub fn unique_pairs(&self, keys: &[ArrayRef], rows: usize) -> Result<Option<(Vec<u32>, Vec<u32>)>> {
        if !self.next.is_empty() {
            return Ok(None);
        }
        if let Some(packing) = &self.packing {
            return Ok(Some(self.unique_pairs_of(&packing.pack(keys, rows))));
        }
        if !matches!(self.table, Table::Encoded { .. })
            && keys[0].null_count() == 0
            && let Some(lanes) = integer_lanes(&keys[0])
        {
            return Ok(Some(self.unique_pairs_of(&lanes[..rows.min(lanes.len())])));
        }
        let firsts = self.firsts(keys, rows)?;
        Ok(Some(found_pairs(&firsts, |first| *first)))
    }

    /// The same for integer keys.
    fn unique_pairs_of(&self, lanes: &[i64]) -> (Vec<u32>, Vec<u32>) {
        match &self.table {
            Table::Dense { min, first } => {
                found_pairs(lanes, |lane| first.get(distance(*lane, *min)).copied().unwrap_or(END))
            }
            Table::Sparse(places) => places.pairs(lanes),
            Table::Integer(_) | Table::Encoded { .. } => found_pairs(&self.firsts_of(lanes), |first| *first),
        }
    }

    /// Sets `found` for each probe row whose key is in the table.
    pub fn contains(&self, keys: &[ArrayRef], found: &mut [bool]) -> Result<()> {
        let firsts = self.firsts(keys, found.len())?;
        found.iter_mut().zip(firsts).for_each(|(found, first)| *found = first != END);
        Ok(())
    }

    /// Memory held, in bytes.
    pub fn bytes(&self) -> usize {
        let slots = match &self.table {
            Table::Dense { first, .. } => first.len() * 4,
            Table::Sparse(places) => places.bytes(),
            Table::Integer(Parts(parts)) => parts.iter().map(IntegerSlots::bytes).sum(),
            Table::Encoded { slots: Parts(parts), keys, .. } => {
                parts.iter().map(|part| part.capacity() * 17).sum::<usize>() + keys.size()
            }
        };
        slots + self.next.len() * 4
    }
}

/// The places of the values for which `find` finds a row, and these rows.
fn found_pairs<T>(values: &[T], find: impl Fn(&T) -> u32) -> (Vec<u32>, Vec<u32>) {
    let (mut probe, mut build) = (vec![0_u32; values.len()], vec![0_u32; values.len()]);
    let mut count = 0;
    // Every row is written, and those that match nothing are written over: no branch that is guessed wrong.
    for (row, value) in values.iter().enumerate() {
        let first = find(value);
        probe[count] = index(row);
        build[count] = first;
        count += usize::from(first != END);
    }
    probe.truncate(count);
    build.truncate(count);
    (probe, build)
}

/// Which rows have a key: those of which no part is NULL.
fn is_key_of_all(keys: &[ArrayRef], rows: usize) -> Option<NullBuffer> {
    let nulls = keys.iter().fold(None, |all, key| NullBuffer::union(all.as_ref(), key.nulls()));
    nulls.filter(|nulls| nulls.len() == rows && nulls.null_count() > 0)
}

/// The rows of each key, from the last row to the first, so that each chain runs in row order.
struct Chains {
    next: Vec<AtomicU32>,
    is_used: AtomicBool,
}

impl Chains {
    fn of(rows: usize) -> Self {
        let next = std::iter::repeat_with(|| AtomicU32::new(END)).take(rows).collect();
        Self { next, is_used: AtomicBool::new(false) }
    }

    /// Makes a row the first of its key.
    #[inline]
    fn put(&self, row: usize, first: &mut u32) {
        let known = std::mem::replace(first, index(row));
        if known != END {
            self.next[row].store(known, Ordering::Relaxed);
            self.is_used.store(true, Ordering::Relaxed);
        }
    }

    /// Empty where no two rows have one key.
    fn into_next(self) -> Vec<AtomicU32> {
        if self.is_used.into_inner() { self.next } else { Vec::new() }
    }
}

fn of_integers(
    lanes: &[i64],
    layout: Layout,
    threads: Option<&ThreadPool>,
    chains: &Chains,
    valid: impl Fn(usize) -> bool + Sync,
) -> Table {
    let rows = chains.next.len();
    // From the last row to the first: the row in the slot of its key is then the first one, and its chain runs in the order of rows.
    match layout {
        Layout::Dense { min, places } => {
            let mut first = vec![END; places];
            for row in (0..rows).rev().filter(|row| valid(*row)) {
                chains.put(row, &mut first[distance(lanes[row], min)]);
            }
            Table::Dense { min, first }
        }
        Layout::Sparse { min, places } => {
            let known = (0..rows).filter(|row| valid(*row)).map(|row| lanes[row]);
            let mut sparse = SparsePlaces::of(min, places, known);
            for row in (0..rows).rev().filter(|row| valid(*row)) {
                chains.put(row, sparse.entry(lanes[row]));
            }
            Table::Sparse(sparse)
        }
        Layout::Scattered => Table::Integer(Parts::build(threads, rows, |mine, capacity| {
            // Of many rows there may be few keys: room for more is made when there are.
            let mut slots = IntegerSlots::with_capacity(capacity.min(FEW_KEYS));
            for row in (0..rows).rev() {
                let (key, hash) = (lanes[row], mix(lanes[row]));
                if !mine(hash) || !valid(row) {
                    continue;
                }
                let mut is_new = false;
                let first = slots.entry(key, hash, || {
                    is_new = true;
                    index(row)
                });
                if !is_new {
                    chains.put(row, first);
                }
            }
            slots
        })),
    }
}

fn encoded(
    keys: &[ArrayRef],
    threads: Option<&ThreadPool>,
    chains: &Chains,
    valid: impl Fn(usize) -> bool + Sync,
) -> Result<Table> {
    let rows = chains.next.len();
    let converter = RowConverter::new(keys.iter().map(|key| SortField::new(key.data_type().clone())).collect())?;
    let encoded = converter.convert_columns(keys)?;
    let slots = Parts::build(threads, rows, |mine, capacity| {
        let mut slots = HashSlots::with_capacity(capacity);
        for row in (0..rows).rev() {
            let key = encoded.row(row);
            let hash = hash_bytes(key.as_ref());
            if !mine(hash) || !valid(row) {
                continue;
            }
            let same = |slot: &(u64, u32)| slot.0 == hash && encoded.row(slot.1 as usize) == key;
            let slot = slots.entry(hash, same, |slot| slot.0);
            chains.put(row, &mut slot.or_insert((hash, END)).get_mut().1);
        }
        slots
    });
    Ok(Table::Encoded { slots, converter: Box::new(converter), keys: encoded })
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
    fn dense_and_scattered_keys_find_the_same_rows() {
        let numbers = |values: &[Option<i64>]| -> ArrayRef { Arc::new(Int64Array::from(values.to_vec())) };
        let probe = [Some(i64::MIN), Some(9), None, Some(12), Some(10), Some(i64::MAX), Some(-1)];
        // The second keys lie far apart: they are hashed.
        for (factor, shift) in [(1, 0), (1 << 40, 7)] {
            let scaled = |key: &Option<i64>| key.map(|key| key.wrapping_mul(factor).wrapping_add(shift));
            let table = |keys: &[Option<i64>]| {
                let keys: Vec<Option<i64>> = keys.iter().map(scaled).collect();
                JoinTable::build(&[numbers(&keys)], keys.len(), &[false], None).unwrap()
            };
            let probe =
                numbers(&probe[1..5].iter().map(scaled).chain([Some(i64::MIN), Some(i64::MAX)]).collect::<Vec<_>>());
            let keys = std::slice::from_ref(&probe);
            let unique = table(&[Some(10), None, Some(9)]);
            assert_eq!(matches!(unique.table, Table::Dense { .. }), factor == 1);
            assert_eq!(pairs(&unique, &probe), [(0, 2), (3, 0)]);
            assert_eq!(unique.unique_pairs(keys, 6).unwrap(), Some((vec![0, 3], vec![2, 0])));
            let several = table(&[Some(10), Some(12), Some(10)]);
            assert_eq!(pairs(&several, &probe), [(2, 1), (3, 0), (3, 2)]);
            assert_eq!(several.unique_pairs(keys, 6).unwrap(), None);
            let mut found = [false; 6];
            several.contains(keys, &mut found).unwrap();
            assert_eq!(found, [false, false, true, true, false, false]);
            assert_eq!(pairs(&table(&[]), &probe), []);
        }
    }

    #[test]
    fn keys_of_which_most_are_missing_find_the_same_rows_as_hashed_ones() {
        // Every third key has two rows, and every seventh row none.
        let key = |row: i64| (row % 7 != 6).then_some(if row % 3 == 0 { row / 6 * 240 } else { row * 40 });
        let numbers = |rows: i64, factor: i64, key: &dyn Fn(i64) -> Option<i64>| -> ArrayRef {
            Arc::new((0..rows).map(|row| key(row).map(|key| key * factor)).collect::<Int64Array>())
        };
        let probe = |at: i64| (at % 11 != 0).then_some(at - 100);
        let table = |factor: i64| JoinTable::build(&[numbers(500, factor, &key)], 500, &[false], None).unwrap();
        let (sparse, hashed) = (table(1), table(1 << 40));
        assert!(matches!((&sparse.table, &hashed.table), (Table::Sparse(_), Table::Integer(_))));
        let found = pairs(&sparse, &numbers(25_000, 1, &probe));
        assert_eq!(found, pairs(&hashed, &numbers(25_000, 1 << 40, &probe)));
        assert!(found.len() > 300);
    }

    #[test]
    fn several_integer_keys_are_one() {
        let keys = |a: Vec<Option<i32>>, b: Vec<Option<i32>>| -> [ArrayRef; 2] {
            [Arc::new(Int32Array::from(a)), Arc::new(Int32Array::from(b))]
        };
        let built =
            keys(vec![Some(1), Some(2), None, Some(2), Some(2)], vec![Some(7), Some(9), Some(7), Some(9), None]);
        let table = JoinTable::build(&built, 5, &[false, false], None).unwrap();
        assert!(table.packing.is_some());
        let probe =
            keys(vec![Some(2), Some(2), None, Some(1), Some(3)], vec![Some(9), Some(7), Some(9), Some(7), Some(7)]);
        let mut found = Vec::new();
        let mut add = |probe, build| {
            found.push((probe, build));
            Ok(())
        };
        table.probe(&probe, 5, &mut add).unwrap();
        assert_eq!(found, [(0, 1), (0, 3), (3, 0)]);
        let same = JoinTable::build(&built, 5, &[true, false], None).unwrap();
        assert!(same.packing.is_none(), "NULL is a value of the first key");
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
