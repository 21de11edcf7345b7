//! `CHANGES OF t BETWEEN a AND b`: what happened to each row of a versioned table, as a table of its own.
//!
//! A version that begins at a commit is new there, one that ends is old. With a primary key a new and an old one of the same key and commit are
//! one row that was updated; without one there is no telling, and they are a row that was deleted and one that was inserted.

use crate::catalog::{Catalog, Column, SEGMENT_ROWS, Segment, SystemTime, TableDefinition, TableSource};
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::storage::{LaneRange, MemoryTable, StoredTable};
use crate::types::{SqlType, index};
use arrow::array::{Array, ArrayRef, AsArray, Int64Array, StringViewArray, TimestampMicrosecondArray, UInt32Array};
use arrow::datatypes::TimestampMicrosecondType;
use arrow::row::{RowConverter, SortField};
use std::sync::Arc;

/// The columns that say when and what: number and time of the commit, and the kind of change.
const FIRST: [(&str, SqlType); 3] =
    [("commit_number", SqlType::BigInt), ("commit_time", SqlType::TimestampTz), ("change", SqlType::TEXT)];

/// One change: its time, the row before, and the row after.
struct Change {
    time: i64,
    old: Option<u32>,
    new: Option<u32>,
}

/// The changes at these times, in the order of commits. O(history between them + versions of current rows that began then).
pub(super) fn changed_rows(
    (table, definition): (&StoredTable, &TableDefinition),
    (first, last): (i64, i64),
    catalog: &Catalog,
) -> Result<Arc<dyn TableSource>> {
    let Some(period) = definition.versioning() else { return Ok(Arc::new(MemoryTable::new(Vec::new(), Vec::new()))) };
    let key = definition.keys.iter().find(|key| key.primary).map(|key| key.columns.clone()).unwrap_or_default();
    let of_period = |at: &usize| *at == period.start || *at == period.end;
    let rest: Vec<usize> = (0..definition.columns.len()).filter(|at| !key.contains(at) && !of_period(at)).collect();
    let versions = |column: usize| -> Result<Batch> { rows_between(table, column, (first, last)) };
    let (new, old) = (versions(period.start)?, versions(period.end)?);
    let changes = paired((&old, &new), &key, period)?;
    let column = |at: &usize, prefix: &str| {
        let column = &definition.columns[*at];
        Column::new(format!("{prefix}{}", column.name), column.sql_type)
    };
    let mut columns: Vec<Column> = FIRST.iter().map(|(name, sql_type)| Column::new(*name, *sql_type)).collect();
    columns.extend(key.iter().map(|at| column(at, "")));
    columns.extend(rest.iter().flat_map(|at| [column(at, "old_"), column(at, "new_")]));
    let mut arrays = commit_columns(&changes, catalog);
    for at in &key {
        let picks: Vec<(usize, usize)> = changes.iter().map(newest).collect();
        arrays.push(arrow::compute::interleave(&[old.columns[*at].as_ref(), new.columns[*at].as_ref()], &picks)?);
    }
    for at in &rest {
        let sides = (&old.columns[*at], &new.columns[*at]);
        let differs = differing(&changes, sides)?;
        for (side, row) in [(sides.0, old_row as fn(&Change) -> Option<u32>), (sides.1, new_row)] {
            let rows = changes.iter().zip(&differs).map(|(change, differs)| row(change).filter(|_| *differs));
            arrays.push(arrow::compute::take(side.as_ref(), &rows.collect::<UInt32Array>(), None)?);
        }
    }
    let whole = Batch::new(arrays, changes.len());
    let segments = (0..whole.rows).step_by(SEGMENT_ROWS).map(|offset| {
        let rows = SEGMENT_ROWS.min(whole.rows - offset);
        Segment { columns: whole.slice(offset, rows).columns, rows }
    });
    Ok(Arc::new(MemoryTable::new(columns, segments.collect())))
}

fn old_row(change: &Change) -> Option<u32> {
    change.old
}

fn new_row(change: &Change) -> Option<u32> {
    change.new
}

/// The side that has the row as it is after the change, or as it was last.
fn newest(change: &Change) -> (usize, usize) {
    match (change.new, change.old) {
        (Some(new), _) => (1, new as usize),
        (None, old) => (0, old.unwrap_or(0) as usize),
    }
}

/// The versions whose time in `column` lies between these.
fn rows_between(table: &StoredTable, column: usize, (first, last): (i64, i64)) -> Result<Batch> {
    let past = table.past();
    let all: Vec<usize> = (0..past.columns().len()).collect();
    let (segments, _) = past.read_between(&all, &[LaneRange { column, least: first, greatest: last }])?;
    let mut found: Vec<Batch> = Vec::new();
    for segment in segments {
        crate::control::checkpoint()?;
        let times = segment.columns[column].as_primitive::<TimestampMicrosecondType>();
        let inside = (0..index(segment.rows)).filter(|row| (first..=last).contains(&times.value(*row as usize)));
        let inside: Vec<u32> = inside.collect();
        if !inside.is_empty() {
            found.push(Batch::new(segment.columns.clone(), segment.rows).take(&inside.into())?);
            crate::control::reserve(found.iter().map(Batch::bytes).sum(), found.iter().map(|batch| batch.rows).sum())?;
        }
    }
    if found.is_empty() {
        let empty = |column: &Column| arrow::array::new_empty_array(&column.sql_type.arrow());
        return Ok(Batch::new(past.columns().iter().map(empty).collect(), 0));
    }
    Batch::concat(&found, None)
}

/// Old and new versions as changes, in the order of their commits.
fn paired((old, new): (&Batch, &Batch), key: &[usize], period: &SystemTime) -> Result<Vec<Change>> {
    let times = |rows: &Batch, column: usize| -> Vec<i64> {
        rows.columns[column].as_primitive::<TimestampMicrosecondType>().values().to_vec()
    };
    let (ends, starts) = (times(old, period.end), times(new, period.start));
    let mut partner: HashMap<(i64, Box<[u8]>), u32> = HashMap::default();
    let mut changes = Vec::with_capacity(old.rows + new.rows);
    let mut paired_new = vec![false; new.rows];
    if !key.is_empty() {
        let fields = key.iter().map(|at| SortField::new(new.columns[*at].data_type().clone())).collect();
        let converter = RowConverter::new(fields)?;
        let keys = |rows: &Batch| -> Vec<ArrayRef> { key.iter().map(|at| Arc::clone(&rows.columns[*at])).collect() };
        let (new_keys, old_keys) = (converter.convert_columns(&keys(new))?, converter.convert_columns(&keys(old))?);
        for (row, (start, key)) in starts.iter().zip(new_keys.iter()).enumerate() {
            partner.insert((*start, key.as_ref().into()), index(row));
        }
        for (row, (end, key)) in ends.iter().zip(old_keys.iter()).enumerate() {
            let found = partner.get(&(*end, key.as_ref().into())).copied();
            if let Some(new) = found {
                paired_new[new as usize] = true;
            }
            changes.push(Change { time: *end, old: Some(index(row)), new: found });
        }
    } else {
        changes.extend((0..old.rows).map(|row| Change { time: ends[row], old: Some(index(row)), new: None }));
    }
    let fresh = (0..new.rows).filter(|row| !paired_new[*row]);
    changes.extend(fresh.map(|row| Change { time: starts[row], old: None, new: Some(index(row)) }));
    changes.sort_by_key(|change| change.time);
    Ok(changes)
}

fn commit_columns(changes: &[Change], catalog: &Catalog) -> Vec<ArrayRef> {
    let commits = catalog.commits.until(catalog.last_commit);
    let number = |change: &Change| {
        let at = commits.binary_search_by_key(&change.time, |commit| commit.time).ok()?;
        i64::try_from(commits[at].number).ok()
    };
    let kind = |change: &Change| {
        Some(match (change.old, change.new) {
            (Some(_), Some(_)) => "updated",
            (Some(_), None) => "deleted",
            (None, _) => "inserted",
        })
    };
    let times: TimestampMicrosecondArray = changes.iter().map(|change| change.time).collect::<Vec<i64>>().into();
    vec![
        Arc::new(changes.iter().map(number).collect::<Int64Array>()),
        Arc::new(times.with_timezone("UTC")),
        Arc::new(changes.iter().map(kind).collect::<StringViewArray>()),
    ]
}

/// Whether a column has another value after each change than before it.
fn differing(changes: &[Change], (old, new): (&ArrayRef, &ArrayRef)) -> Result<Vec<bool>> {
    let both = |change: &Change| change.old.zip(change.new);
    let (before, after): (Vec<u32>, Vec<u32>) = changes.iter().filter_map(both).unzip();
    let before = arrow::compute::take(old.as_ref(), &UInt32Array::from(before), None)?;
    let after = arrow::compute::take(new.as_ref(), &UInt32Array::from(after), None)?;
    let converter = RowConverter::new(vec![SortField::new(old.data_type().clone())])?;
    let (before, after) = (converter.convert_columns(&[before])?, converter.convert_columns(&[after])?);
    let mut pairs = before.iter().zip(after.iter());
    let differs =
        |change: &Change| both(change).is_none() || pairs.next().is_none_or(|(before, after)| before != after);
    Ok(changes.iter().map(differs).collect())
}
