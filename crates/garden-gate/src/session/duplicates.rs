//! INSERT … SKIP DUPLICATES and REPLACE DUPLICATES: what becomes of new rows whose keys are there already.
//!
//! Both mean what inserting one row after the other would mean. A row that is skipped takes no key from those behind it. A row that replaces
//! others is an update of the first one (by the keys in the order of their definition, the primary key first where it was written
//! first), so that rows that refer to it stay; further ones are deleted.

use super::change::stored;
use super::constraints::{Changer, Delta, TableName, key_arrays, table_columns};
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::storage::{Place, StoredTable};
use crate::syntax::ast::Duplicates;
use crate::types::index;
use arrow::array::BooleanArray;
use std::collections::{HashMap, HashSet};

/// The conflicts of new rows, by key.
#[derive(Default)]
struct Conflicts {
    /// A new row, and the existing row that has its key.
    existing: Vec<(u32, Place)>,
    /// For each new row the other new rows that have one of its keys.
    among: HashMap<u32, Vec<u32>>,
}

impl Changer<'_> {
    /// What an INSERT of these rows makes of the table. Expected O(rows + conflicts).
    pub(super) fn without_duplicates(&self, name: TableName<'_>, rows: Batch, duplicates: Duplicates) -> Result<Delta> {
        match duplicates {
            Duplicates::Refuse => Ok(Delta { removed: Vec::new(), added: rows, replaced: 0 }),
            Duplicates::Skip => skip(&self.conflicts(name, &rows)?, &rows),
            Duplicates::Replace => replace(&self.conflicts(name, &rows)?, &rows),
        }
    }

    fn conflicts(&self, (schema, name): TableName<'_>, rows: &Batch) -> Result<Conflicts> {
        let (table, definition) = stored(&self.catalog, schema, name)?;
        let new = StoredTable::new(table_columns(&definition), Vec::new()).changed(&[], std::slice::from_ref(rows))?;
        let places = new.places()?;
        let mut conflicts = Conflicts::default();
        for key in &definition.keys {
            let keys = key_arrays(rows, &key.columns);
            let (columns, keys) = ((key.columns.as_slice(), key.nulls_same), (keys.as_slice(), rows.rows));
            table.find(columns, keys, |row, place| conflicts.existing.push((row, place)))?;
            new.find(columns, keys, |row, place| {
                let other = places.binary_search(&place).map_or(row, index);
                if other != row {
                    conflicts.among.entry(row).or_default().push(other);
                }
            })?;
        }
        Ok(conflicts)
    }
}

/// The rows that have no key of an existing row, nor of a row before them that is not skipped itself.
fn skip(conflicts: &Conflicts, rows: &Batch) -> Result<Delta> {
    let mut skipped: HashSet<u32> = conflicts.existing.iter().map(|(row, _)| *row).collect();
    for row in 0..index(rows.rows) {
        let before = conflicts.among.get(&row).into_iter().flatten().filter(|other| **other < row);
        if before.into_iter().any(|other| !skipped.contains(other)) {
            skipped.insert(row);
        }
    }
    let added = without(rows, &skipped)?;
    Ok(Delta { removed: Vec::new(), added, replaced: 0 })
}

/// Each row replaces those before it that have one of its keys. Rows that replace an existing one come first.
fn replace(conflicts: &Conflicts, rows: &Batch) -> Result<Delta> {
    // The next row that replaces a new row, if any does.
    let next = |row: u32| conflicts.among.get(&row).into_iter().flatten().copied().filter(|other| *other > row).min();
    let last = |mut row: u32| {
        while let Some(other) = next(row) {
            row = other;
        }
        row
    };
    // Conflicts come key by key: the first one of a row decides what it updates.
    let mut by: HashMap<u32, Place> = HashMap::new();
    let mut gone: HashSet<Place> = HashSet::new();
    let mut deleted: Vec<Place> = Vec::new();
    for (row, place) in &conflicts.existing {
        let row = last(*row);
        if gone.insert(*place) && *by.entry(row).or_insert(*place) != *place {
            deleted.push(*place);
        }
    }
    let kept = (0..index(rows.rows)).filter(|row| next(*row).is_none());
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
