//! MATCH PARTIAL of a foreign key (clause 11.8): a row refers by those of its columns that are not NULL, and may so match several rows of
//! the table that it refers to. Rows are looked up by each set of columns that is given:
//!
//! ```text
//! key (a, b)   (1, 2)     looked up by a and b
//!              (1, NULL)  looked up by a
//!              (NULL, 2)  looked up by b
//!              (NULL, NULL)  refers to nothing
//! ```

use super::constraints::{encoded_keys, key_arrays};
use super::key_types::keys_as;
use crate::catalog::{ForeignKey, TableDefinition};
use crate::collections::HashSet;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::Batch;
use crate::storage::{Place, StoredTable};
use crate::types::index;
use arrow::array::{Array, ArrayRef, UInt32Array};
use std::collections::BTreeMap;

/// Columns that may be NULL at most: rows are looked up by each set of them.
const MOST_NULLABLE: usize = 8;

/// Columns of a key at most: a set of them is one word.
const MOST_COLUMNS: usize = 64;

/// A set of places among the columns of a foreign key, a bit each.
type GivenColumns = u64;

/// Keys of rows that refer to others.
pub(super) struct PartialKeys<'k> {
    /// As they are: they say which columns count.
    pub(super) given: &'k [ArrayRef],
    /// As values of the types of the columns that are referred to; NULL where there is no such value, which finds nothing.
    pub(super) sought: &'k [ArrayRef],
    pub(super) rows: usize,
}

/// Matching rows: for each the row that it matches, and its place.
pub(super) type Matching = Vec<(u32, Place)>;

/// What is supported of MATCH PARTIAL.
///
/// # Errors
/// 0A000 for a PERIOD or very many columns.
pub(super) fn check_definition(made: &TableDefinition, columns: &[usize], period: bool) -> Result<()> {
    if period {
        return Err(Error::not_supported("MATCH PARTIAL of a foreign key with PERIOD"));
    }
    if columns.len() > MOST_COLUMNS {
        return Err(Error::not_supported("MATCH PARTIAL of a foreign key with more than 64 columns"));
    }
    let nullable = columns.iter().filter(|at| !made.columns[**at].not_null).count();
    if nullable > MOST_NULLABLE {
        return Err(Error::not_supported(
            "MATCH PARTIAL of a foreign key with more than eight columns that can be NULL",
        ));
    }
    Ok(())
}

/// Calls `found` with a row of `keys` and the place of each row of the parent that it matches. Expected O(rows + matches), once the parent's
/// columns are known by their values.
pub(super) fn parents(
    (parent, referred): (&StoredTable, &[usize]),
    keys: &PartialKeys<'_>,
    mut found: impl FnMut(u32, Place) -> Result<()>,
) -> Result<()> {
    for (given, of_rows) in by_given_columns(keys.given, keys.rows) {
        let columns = chosen(referred, given);
        let all: UInt32Array = of_rows.clone().into();
        let sought = chosen(keys.sought, given);
        let sought = sought.iter().map(|key| arrow::compute::take(key, &all, None));
        let sought: Vec<ArrayRef> = sought.collect::<Result<_, _>>()?;
        parent.find((&columns, false), (&sought, of_rows.len()), |row, place| found(of_rows[row as usize], place))?;
    }
    Ok(())
}

/// The rows that match those of the parent whose keys are given: for each the row of the parent, and its place. Expected O(2^n (keys + matches))
/// for n columns that may be NULL.
pub(super) fn children(
    (table, definition): (&StoredTable, &TableDefinition),
    columns: &[usize],
    (keys, rows): (&[ArrayRef], usize),
) -> Result<Matching> {
    let never_null: GivenColumns =
        columns.iter().enumerate().filter(|(_, at)| definition.columns[**at].not_null).map(|(bit, _)| 1 << bit).sum();
    let mut matching = Matching::new();
    let nullable = every(columns.len()) & !never_null;
    // Each set of columns that may be NULL, from all of them down to none.
    let mut some = Some(nullable);
    while let Some(set) = some {
        some = set.checked_sub(1).map(|next| next & nullable);
        let given = never_null | set;
        if given == 0 {
            break;
        }
        crate::control::checkpoint()?;
        let mut found = Matching::new();
        table.find((&chosen(columns, given), false), (&chosen(keys, given), rows), |row, place| {
            found.push((row, place));
            Ok(())
        })?;
        let places: Vec<Place> = found.iter().map(|(_, place)| *place).collect();
        let others = key_arrays(&table.rows_at(&places)?, &chosen(columns, nullable & !set));
        let is_partial = |row: usize| others.iter().all(|other| other.is_null(row));
        matching.extend(found.into_iter().enumerate().filter(|(row, _)| is_partial(*row)).map(|(_, found)| found));
    }
    matching.sort_unstable_by_key(|(row, place)| (*place, *row));
    Ok(matching)
}

/// Of matching rows those that match no row of the parent that `stays`: unique matching rows, to which alone referential actions are done.
pub(super) fn unique(
    matching: Matching,
    (children, reference): (&StoredTable, &ForeignKey),
    (parent, definition): (&StoredTable, &TableDefinition),
    stays: impl Fn(Place) -> bool,
) -> Result<Matching> {
    let places: Vec<Place> = matching.iter().map(|(_, place)| *place).collect();
    let rows = children.rows_at(&places)?;
    let given = key_arrays(&rows, &reference.columns);
    let sought = keys_as(given.clone(), definition.types_of(&reference.referred))?;
    let keys = PartialKeys { given: &given, sought: &sought, rows: rows.rows };
    let mut held = HashSet::default();
    parents((parent, &reference.referred), &keys, |row, place| {
        if stays(place) {
            held.insert(row);
        }
        Ok(())
    })?;
    Ok(matching
        .into_iter()
        .enumerate()
        .filter(|(row, _)| !held.contains(&index(*row)))
        .map(|(_, found)| found)
        .collect())
}

/// One match of each row that matched several: they must all have got the same values in the columns that the row gives.
///
/// # Errors
/// 27000 (clause 11.8, general rule 12) when a row is to follow two rows to different keys.
pub(super) fn one_of_each(
    matching: &[(u32, Place)],
    (children, reference): (&StoredTable, &ForeignKey),
    after: Option<&Batch>,
) -> Result<Matching> {
    let mut kept = Matching::new();
    for same in matching.chunk_by(|a, b| a.1 == b.1) {
        kept.push(same[0]);
        let (Some(after), [_, _, ..]) = (after, same) else { continue };
        let row = children.rows_at(&[same[0].1])?;
        let all = reference.columns.iter().zip(&reference.referred);
        let given: Vec<usize> =
            all.filter(|(at, _)| row.columns[**at].is_valid(0)).map(|(_, referred)| *referred).collect();
        let keys = encoded_keys(&key_arrays(after, &given))?;
        if same.iter().any(|(row, _)| keys.row(*row as usize) != keys.row(same[0].0 as usize)) {
            let message = format!("a row matches several by {}, which get different keys", reference.name);
            return Err(Error::new(SqlState::TRIGGERED_DATA_CHANGE, message).with_help(
                "give the row values in all columns of the foreign key first, or change the rows one after the other",
            ));
        }
    }
    Ok(kept)
}

/// Rows by the columns that they give, all of whose values are NULL in none.
fn by_given_columns(keys: &[ArrayRef], rows: usize) -> BTreeMap<GivenColumns, Vec<u32>> {
    let mut groups: BTreeMap<GivenColumns, Vec<u32>> = BTreeMap::new();
    for row in 0..rows {
        let given = keys.iter().enumerate().filter(|(_, key)| key.is_valid(row)).map(|(bit, _)| 1 << bit).sum();
        groups.entry(given).or_default().push(index(row));
    }
    groups.remove(&0);
    groups
}

/// All of so many columns, of which there are at most [`MOST_COLUMNS`].
fn every(columns: usize) -> GivenColumns {
    (0..columns).map(|bit| 1 << bit).sum()
}

fn chosen<T: Clone>(all: &[T], given: GivenColumns) -> Vec<T> {
    all.iter().enumerate().filter(|(bit, _)| given & (1 << bit) != 0).map(|(_, one)| one.clone()).collect()
}
