use super::ascending_groups::AscendingGroups;
use super::dense_groups::{DenseGroups, bounds, next_group};
use super::integer_slots::{IntegerSlots, NONE};
use super::keys::{from_integer_lanes, hash_bytes, integer_lanes, lane_bounds, mix};
use super::word_keys::WordTable;
use crate::diagnostic::Result;
use crate::types::index;
use arrow::array::{Array, ArrayRef};
use arrow::buffer::NullBuffer;
use arrow::datatypes::DataType;
use arrow::row::{RowConverter, Rows, SortField};
use hashbrown::HashTable;

/// Numbers groups by their keys in order of first appearance; NULL is one more key value.
///
/// A single integer-like key needs no lookup while it ascends; else it is looked up by its place among those that lie close together, or by its
/// 64 bits, everything else by its row encoding. O(1) expected a row; holds the
/// keys once.
#[derive(Debug)]
pub struct GroupTable {
    types: Vec<DataType>,
    table: Table,
    groups: usize,
}

#[derive(Debug)]
enum Table {
    /// No key: one group.
    Single,
    /// One integer key whose values ascend, so far: the keys are all there is.
    Ascending(AscendingGroups),
    /// One integer key whose values lie close together, so far.
    Dense {
        places: DenseGroups,
        keys: Vec<i64>,
        null_group: Option<u32>,
    },
    Integer {
        slots: IntegerSlots,
        keys: Vec<i64>,
        null_group: Option<u32>,
    },
    /// Several keys that fit words, so far.
    Words(WordTable),
    Encoded {
        slots: HashTable<(u64, u32)>,
        converter: Box<RowConverter>,
        keys: Rows,
    },
}

impl GroupTable {
    /// A table for keys of these types; without any, all rows are one group.
    pub fn new(types: Vec<DataType>) -> Result<Self> {
        let integer = match types.as_slice() {
            [one] => integer_lanes(&arrow::array::new_empty_array(one)).is_some(),
            _ => false,
        };
        let table = if types.is_empty() {
            Table::Single
        } else if integer {
            Table::Ascending(AscendingGroups::default())
        } else if let Some(words) = WordTable::new(&types) {
            Table::Words(words)
        } else {
            encoded(&types)?
        };
        Ok(Self { types, table, groups: 0 })
    }

    /// Groups so far.
    #[expect(clippy::len_without_is_empty, reason = "there is always something to count")]
    pub fn len(&self) -> usize {
        self.groups
    }

    /// The group of each row, written to `ids`; new keys get new groups.
    pub fn assign(&mut self, keys: &[ArrayRef], rows: usize, ids: &mut Vec<u32>) -> Result<()> {
        ids.clear();
        self.check_growth(rows)?;
        // A layout is left for good by the first batch that does not fit it: words for encoded rows, ascending keys for places, places for
        // slots. Groups keep their numbers, for accumulators go by these.
        if let Table::Words(words) = &mut self.table {
            if words.assign(keys, rows, ids) {
                self.groups = words.len();
                return Ok(());
            }
            self.encode()?;
            ids.clear();
        }
        if let Table::Ascending(ascending) = &mut self.table {
            if ascending.assign(&keys[0], ids) {
                self.groups = ascending.keys.len();
                return Ok(());
            }
            self.place_integers()?;
        }
        if matches!(self.table, Table::Dense { .. }) {
            if self.assign_dense(&keys[0], rows, ids)? {
                return Ok(());
            }
            self.hash_integers();
        }
        match &mut self.table {
            Table::Words(_) | Table::Ascending(_) | Table::Dense { .. } => {}
            Table::Single => {
                self.groups = self.groups.max(usize::from(rows > 0));
                ids.resize(rows, 0);
            }
            Table::Integer { slots, keys: known, null_group } => {
                let lanes = integer_lanes(&keys[0]).unwrap_or_default();
                let nulls = keys[0].nulls();
                let groups = &mut self.groups;
                // Rows with one key often come together.
                let mut last: Option<(i64, u32)> = None;
                for (row, key) in lanes.iter().enumerate() {
                    if nulls.is_some_and(|nulls| nulls.is_null(row)) {
                        // NULLs are one group, whatever is in their lanes; its own lane is anything, for it needs one.
                        ids.push(*null_group.get_or_insert_with(|| {
                            known.push(0);
                            next_group(groups)
                        }));
                        continue;
                    }
                    if let Some((_, group)) = last.filter(|(last, _)| last == key) {
                        ids.push(group);
                        continue;
                    }
                    let group = *slots.entry(*key, mix(*key), || {
                        known.push(*key);
                        next_group(groups)
                    });
                    ids.push(group);
                    last = Some((*key, group));
                }
            }
            Table::Encoded { slots, converter, keys: known } => {
                for row in &converter.convert_columns(keys)? {
                    let hash = hash_bytes(row.as_ref());
                    let same = |slot: &(u64, u32)| slot.0 == hash && known.row(slot.1 as usize) == row;
                    let group = match slots.find(hash, same) {
                        Some(slot) => slot.1,
                        None => {
                            let group = next_group(&mut self.groups);
                            known.push(row);
                            slots.insert_unique(hash, (hash, group), |slot| slot.0);
                            group
                        }
                    };
                    ids.push(group);
                }
            }
        }
        Ok(())
    }

    /// The group of each row by the place of its key; `false`, and nothing done, when keys do not lie close together.
    fn assign_dense(&mut self, key: &ArrayRef, rows: usize, ids: &mut Vec<u32>) -> Result<bool> {
        let Table::Dense { places, keys, null_group } = &mut self.table else { return Ok(false) };
        let lanes = integer_lanes(key).unwrap_or_default();
        let nulls = key.nulls().filter(|nulls| nulls.null_count() > 0);
        // Lanes under a NULL hold anything.
        let found = if nulls.is_none() { bounds(&lanes) } else { lane_bounds(key) };
        if let Some(found) = found
            && !places.make_room(found, rows)?
        {
            return Ok(false);
        }
        let groups = &mut self.groups;
        let mut new = |key: i64| {
            keys.push(key);
            next_group(groups)
        };
        match nulls {
            None => ids.extend(lanes.iter().map(|key| places.group(*key, || new(*key)))),
            Some(nulls) => ids.extend(lanes.iter().zip(nulls).map(|(key, valid)| match valid {
                true => places.group(*key, || new(*key)),
                false => *null_group.get_or_insert_with(|| new(0)),
            })),
        }
        Ok(true)
    }

    /// Slots are moved to twice as many where there is no place for new ones: whether there is memory for that, besides what is held.
    fn check_growth(&self, rows: usize) -> Result<()> {
        let free = match &self.table {
            Table::Single | Table::Ascending(_) | Table::Dense { .. } => return Ok(()),
            Table::Integer { slots, .. } => slots.free(),
            Table::Words(words) => words.free(),
            Table::Encoded { slots, .. } => slots.capacity() - slots.len(),
        };
        if free >= rows { Ok(()) } else { crate::control::reserve(2 * self.bytes(), 1) }
    }

    /// The group of each row, where its key has one.
    pub fn find(&mut self, keys: &[ArrayRef], rows: usize) -> Result<Vec<Option<u32>>> {
        // Words and ascending keys are only ever added to: who looks keys up gets a layout that finds them.
        if matches!(self.table, Table::Words(_)) {
            self.encode()?;
        } else if matches!(self.table, Table::Ascending(_)) {
            self.place_integers()?;
        }
        Ok(match &self.table {
            Table::Single | Table::Words(_) | Table::Ascending(_) => vec![(self.groups > 0).then_some(0); rows],
            Table::Dense { places, null_group, .. } => {
                let lanes = integer_lanes(&keys[0]).unwrap_or_default();
                let find =
                    |(row, key): (usize, &i64)| if keys[0].is_null(row) { *null_group } else { places.find(*key) };
                lanes.iter().enumerate().map(find).collect()
            }
            Table::Integer { slots, null_group, .. } => {
                let lanes = integer_lanes(&keys[0]).unwrap_or_default();
                let find = |(row, key): (usize, &i64)| match keys[0].is_null(row) {
                    true => *null_group,
                    false => Some(slots.find(*key, mix(*key))).filter(|group| *group != NONE),
                };
                lanes.iter().enumerate().map(find).collect()
            }
            Table::Encoded { slots, converter, keys: known } => {
                let rows = converter.convert_columns(keys)?;
                let find = |row: arrow::row::Row<'_>| {
                    let hash = hash_bytes(row.as_ref());
                    slots.find(hash, |slot| slot.0 == hash && known.row(slot.1 as usize) == row).map(|slot| slot.1)
                };
                rows.iter().map(find).collect()
            }
        })
    }

    /// Goes over from ascending keys to places or slots; groups keep their numbers.
    fn place_integers(&mut self) -> Result<()> {
        let Table::Ascending(ascending) = &mut self.table else { return Ok(()) };
        let AscendingGroups { keys, rows } = std::mem::take(ascending);
        let mut places = DenseGroups::default();
        let is_dense = match bounds(&keys) {
            Some(found) => places.make_room(found, rows)?,
            None => true,
        };
        if is_dense {
            for (key, group) in keys.iter().zip(0_u32..) {
                places.group(*key, || group);
            }
        }
        self.table = Table::Dense { places, keys, null_group: None };
        if !is_dense {
            self.hash_integers();
        }
        Ok(())
    }

    /// The groups of several tables whose keys all ascend as one table, in the order of the keys, and for each table the group that each of
    /// its own becomes; `None` for others. O(groups).
    pub fn merged_ascending(tables: &[&Self]) -> Option<(Self, Vec<Vec<u32>>)> {
        let lists = tables.iter().map(|table| match &table.table {
            Table::Ascending(ascending) => Some(ascending.keys.as_slice()),
            Table::Single | Table::Dense { .. } | Table::Integer { .. } | Table::Words(_) | Table::Encoded { .. } => {
                None
            }
        });
        let lists = lists.collect::<Option<Vec<_>>>()?;
        // Each key once more, and the group that it becomes; without memory for them the tables are merged one by one.
        crate::control::reserve(lists.iter().map(|list| list.len()).sum::<usize>() * 12, 1).ok()?;
        let (merged, maps) = AscendingGroups::merged(&lists);
        let groups = merged.keys.len();
        Some((Self { types: tables.first()?.types.clone(), table: Table::Ascending(merged), groups }, maps))
    }

    /// Goes over from places to slots, where keys do not lie close together; groups keep their numbers.
    fn hash_integers(&mut self) {
        if let Table::Dense { keys, null_group, .. } = &mut self.table {
            let keys = std::mem::take(keys);
            let mut slots = IntegerSlots::with_capacity(keys.len());
            // The lane of the NULL group is no key: a row with that number must not find it.
            for (key, group) in keys.iter().zip(0_u32..).filter(|(_, group)| Some(*group) != *null_group) {
                slots.entry(*key, mix(*key), || group);
            }
            self.table = Table::Integer { slots, keys, null_group: *null_group };
        }
    }

    /// Goes over from words to encoded rows; groups keep their numbers.
    fn encode(&mut self) -> Result<()> {
        let known = self.keys()?;
        let rows = self.groups;
        self.table = encoded(&self.types)?;
        // The known keys come again in the order of their groups, so that each gets the number that it had.
        self.groups = 0;
        let mut ids = Vec::new();
        if rows > 0 { self.assign(&known, rows, &mut ids) } else { Ok(()) }
    }

    /// The keys, one row a group.
    pub fn keys(&self) -> Result<Vec<ArrayRef>> {
        match &self.table {
            Table::Single => Ok(Vec::new()),
            Table::Ascending(AscendingGroups { keys, .. }) => {
                Ok(vec![from_integer_lanes(keys.clone(), None, &self.types[0])])
            }
            Table::Dense { keys, null_group, .. } | Table::Integer { keys, null_group, .. } => {
                let nulls =
                    null_group.map(|group| (0..keys.len()).map(|at| index(at) != group).collect::<NullBuffer>());
                Ok(vec![from_integer_lanes(keys.clone(), nulls, &self.types[0])])
            }
            Table::Words(words) => Ok(words.columns(&self.types)),
            Table::Encoded { converter, keys, .. } => Ok(converter.convert_rows(keys)?),
        }
    }

    /// Memory held, in bytes.
    pub fn bytes(&self) -> usize {
        match &self.table {
            Table::Single => 0,
            Table::Ascending(AscendingGroups { keys, .. }) => keys.capacity() * 8,
            Table::Dense { places, keys, .. } => places.bytes() + keys.capacity() * 8,
            Table::Integer { slots, keys, .. } => slots.bytes() + keys.capacity() * 8,
            Table::Words(words) => words.bytes(),
            Table::Encoded { slots, keys, .. } => slots.capacity() * 17 + keys.size(),
        }
    }
}

fn encoded(types: &[DataType]) -> Result<Table> {
    let converter = RowConverter::new(types.iter().cloned().map(SortField::new).collect())?;
    let keys = converter.empty_rows(0, 0);
    Ok(Table::Encoded { slots: HashTable::new(), converter: Box::new(converter), keys })
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{AsArray, Int32Array, StringViewArray};
    use std::sync::Arc;

    #[test]
    fn null_is_a_group_of_its_own() {
        let numbers: ArrayRef = Arc::new(Int32Array::from(vec![Some(7), None, Some(0), Some(7), None]));
        let texts: ArrayRef = Arc::new(StringViewArray::from(vec![Some("a"), None, Some(""), Some("a"), None]));
        let long = vec![Some("longer than a word"), None, Some(""), Some("longer than a word"), None];
        let long: ArrayRef = Arc::new(StringViewArray::from(long));
        for keys in [
            vec![Arc::clone(&numbers)],
            vec![Arc::clone(&texts)],
            vec![Arc::clone(&numbers), texts],
            vec![numbers, long],
        ] {
            let mut table = GroupTable::new(keys.iter().map(|key| key.data_type().clone()).collect()).unwrap();
            let mut ids = Vec::new();
            table.assign(&keys, 5, &mut ids).unwrap();
            assert_eq!(ids, [0, 1, 2, 0, 1]);
            let shown = table.keys().unwrap();
            assert_eq!(shown[0].null_count(), 1, "keys come back with their NULL");
            assert!(shown[0].is_null(1));
        }
        // Long texts come after short ones: the groups found so far keep their numbers.
        let batch = |texts: [&str; 2]| -> Vec<ArrayRef> {
            vec![Arc::new(Int32Array::from(vec![1, 2])), Arc::new(StringViewArray::from(texts.to_vec()))]
        };
        let types = batch(["a", "b"]).iter().map(|key| key.data_type().clone()).collect();
        let (mut table, mut ids) = (GroupTable::new(types).unwrap(), Vec::new());
        for (texts, expected) in [(["a", "b"], [0, 1]), (["a", "too long for it"], [0, 2]), (["seven b", "b"], [3, 1])]
        {
            table.assign(&batch(texts), 2, &mut ids).unwrap();
            assert_eq!(ids, expected, "{texts:?}");
        }
        assert_eq!(table.keys().unwrap()[1].as_string_view().value(2), "too long for it");
        let mut none = GroupTable::new(Vec::new()).unwrap();
        let mut ids = Vec::new();
        none.assign(&[], 3, &mut ids).unwrap();
        assert_eq!((none.len(), ids.len()), (1, 3));
        assert!(none.keys().unwrap().is_empty());
    }
}
