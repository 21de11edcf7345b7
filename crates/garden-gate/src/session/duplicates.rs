//! INSERT … SKIP DUPLICATES and REPLACE DUPLICATES: what becomes of new rows whose keys are there already.
//!
//! Both mean what inserting one row after the other would mean. A row that is skipped takes no key from those after it. A row that replaces
//! others is an update of the first one (by the keys in the order of their definition, the primary key first where it was written
//! first), so that rows that refer to it stay; further ones are deleted.

use super::change::stored;
use super::constraints::{Changer, Delta, TableName, encoded_keys, key_arrays};
use crate::collections::{HashMap, HashSet};
use crate::control::Turns;
use crate::diagnostic::{Error, Result};
use crate::kernel::Batch;
use crate::storage::Place;
use crate::syntax::ast::Duplicates;
use crate::types::index;
use arrow::array::{Array, ArrayRef, BooleanArray};

/// The conflicts of new rows, by key.
#[derive(Default)]
struct Conflicts {
    /// A new row, and the existing row that has its key.
    existing: Vec<(u32, Place)>,
    /// For each key and new row a number that all new rows with the same values have; `None` where a NULL makes the key equal to no other.
    groups: Vec<Vec<Option<u32>>>,
}

impl Conflicts {
    /// The groups of a row: number of the key, and of the group.
    fn of(&self, row: u32) -> impl Iterator<Item = (usize, u32)> {
        self.groups.iter().enumerate().filter_map(move |(key, groups)| Some((key, groups[row as usize]?)))
    }
}

impl Changer<'_> {
    /// What an INSERT of these rows makes of the table. Expected O(rows * keys).
    pub(super) fn without_duplicates(&self, name: TableName<'_>, rows: Batch, duplicates: Duplicates) -> Result<Delta> {
        match duplicates {
            Duplicates::Refuse => Ok(Delta { removed: Vec::new(), added: rows, replaced: 0 }),
            Duplicates::Skip => skip(&self.conflicts(name, &rows)?, &rows),
            Duplicates::Replace => replace(&self.conflicts(name, &rows)?, &rows),
        }
    }

    fn conflicts(&self, (schema, name): TableName<'_>, rows: &Batch) -> Result<Conflicts> {
        let (table, definition) = stored(&self.catalog, schema, name)?;
        if definition.keys.iter().any(|key| key.period_end.is_some()) {
            return Err(Error::not_supported("SKIP or REPLACE DUPLICATES for a key WITHOUT OVERLAPS"));
        }
        let mut conflicts = Conflicts::default();
        for key in &definition.keys {
            let keys = key_arrays(rows, &key.columns);
            table.find((&key.columns, key.nulls_same), (&keys, rows.rows), |row, place| {
                conflicts.existing.push((row, place));
                Ok(())
            })?;
            conflicts.groups.push(groups(&keys, (key.nulls_same, rows.rows))?);
        }
        Ok(conflicts)
    }
}

fn groups(keys: &[ArrayRef], (nulls_same, rows): (bool, usize)) -> Result<Vec<Option<u32>>> {
    let encoded = encoded_keys(keys)?;
    let mut numbers = HashMap::with_capacity_and_hasher(rows, Default::default());
    let mut turns = Turns::new();
    let group = |row: usize| {
        turns.turn()?;
        let is_key = nulls_same || keys.iter().all(|key| key.is_valid(row));
        let next = index(numbers.len());
        Ok(is_key.then(|| *numbers.entry(encoded.row(row)).or_insert(next)))
    };
    (0..rows).map(group).collect()
}

/// The rows that have no key of an existing row, nor of a row before them that is not skipped itself.
fn skip(conflicts: &Conflicts, rows: &Batch) -> Result<Delta> {
    let mut skipped: HashSet<u32> = conflicts.existing.iter().map(|(row, _)| *row).collect();
    let mut taken: HashSet<(usize, u32)> = HashSet::default();
    for row in 0..index(rows.rows) {
        if skipped.contains(&row) {
            continue;
        }
        if conflicts.of(row).any(|group| taken.contains(&group)) {
            skipped.insert(row);
        } else {
            taken.extend(conflicts.of(row));
        }
    }
    let added = without(rows, &skipped)?;
    Ok(Delta { removed: Vec::new(), added, replaced: 0 })
}

/// For each new row the one that replaces it in the end: itself, or what replaces the next row that has one of its keys.
fn replacements(conflicts: &Conflicts, rows: u32) -> Vec<u32> {
    let mut next: HashMap<(usize, u32), u32> = HashMap::default();
    let mut last: Vec<u32> = (0..rows).collect();
    for row in (0..rows).rev() {
        if let Some(other) = conflicts.of(row).filter_map(|group| next.insert(group, row)).min() {
            last[row as usize] = last[other as usize];
        }
    }
    last
}

/// Each row replaces those before it that have one of its keys. Rows that replace an existing one come first.
fn replace(conflicts: &Conflicts, rows: &Batch) -> Result<Delta> {
    let last = replacements(conflicts, index(rows.rows));
    // Conflicts come key by key: the first one of a row decides what it updates.
    let mut by: HashMap<u32, Place> = HashMap::default();
    let mut gone: HashSet<Place> = HashSet::default();
    let mut deleted: Vec<Place> = Vec::new();
    for (row, place) in &conflicts.existing {
        let row = last[*row as usize];
        if gone.insert(*place) && *by.entry(row).or_insert(*place) != *place {
            deleted.push(*place);
        }
    }
    let kept = (0..index(rows.rows)).filter(|row| last[*row as usize] == *row);
    let (updating, fresh): (Vec<u32>, Vec<u32>) = kept.partition(|row| by.contains_key(row));
    let mut removed: Vec<Place> = updating.iter().filter_map(|row| by.get(row).copied()).collect();
    let replaced = removed.len();
    removed.append(&mut deleted);
    let added = rows.take(&updating.into_iter().chain(fresh).collect::<Vec<u32>>().into())?;
    Ok(Delta { removed, added, replaced })
}

fn without(rows: &Batch, dropped: &HashSet<u32>) -> Result<Batch> {
    let kept: BooleanArray = (0..index(rows.rows)).map(|row| Some(!dropped.contains(&row))).collect();
    rows.filter(&kept, rows.rows - dropped.len())
}
