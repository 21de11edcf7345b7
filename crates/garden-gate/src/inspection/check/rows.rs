//! Rows that a check expects, as CSV text with a header; an unquoted empty field is NULL.

use super::{Failure, RowChange, failure};
use crate::collections::HashMap;
use crate::file::csv_records;
use crate::inspection::row_diff::key;
use crate::kernel::parse_value;
use crate::session::ResultSet;
use crate::types::Value;

/// Changed rows that a failure shows.
const MOST_ROWS: usize = 20;

/// How many rows are missing and how many were not expected, and of the changes those that are shown: of either kind at least half of
/// [`MOST_ROWS`] where there are so many, in their order.
pub(super) fn shown_of(changes: Vec<RowChange>) -> ([usize; 2], Vec<RowChange>) {
    let more = changes.iter().filter(|change| change.found).count();
    let less = changes.len() - more;
    let mut room = [MOST_ROWS - more.min(MOST_ROWS / 2), MOST_ROWS - less.min(MOST_ROWS / 2)];
    let mut fits = |change: &RowChange| {
        let left = &mut room[usize::from(change.found)];
        let fits = *left > 0;
        *left -= usize::from(fits);
        fits
    };
    ([less, more], changes.into_iter().filter(|change| fits(change)).collect())
}

/// What says that not all changes are shown.
pub(super) fn cut_short([less, more]: [usize; 2], shown: &[RowChange]) -> String {
    if shown.len() < less + more { format!("; {} of these are shown", shown.len()) } else { String::new() }
}

/// What of the rows is not as the text says.
pub(super) fn broken(rows: &ResultSet, expected: &str, ordered: bool) -> Option<Failure> {
    let mut records = match csv_records(expected) {
        Ok(records) => records.into_iter(),
        Err(problem) => return Some(failure("rows", format!("what is expected is not CSV text: {problem}"))),
    };
    let header: Vec<String> = records.next().unwrap_or_default().into_iter().map(Option::unwrap_or_default).collect();
    let names: Vec<String> = rows.columns().iter().map(|column| column.name.clone()).collect();
    if header.iter().map(|name| name.to_lowercase()).ne(names.iter().map(|name| name.to_lowercase())) {
        let text = format!("the columns are {}, not {}", names.join(", "), header.join(", "));
        return Some(failure("rows", text));
    }
    let mut wanted = Vec::new();
    for (number, record) in records.enumerate() {
        if record.len() != names.len() {
            let text =
                format!("row {} of what is expected has {} fields, not {}", number + 1, record.len(), names.len());
            return Some(failure("rows", text));
        }
        wanted.push(typed(record, rows));
    }
    let found: Vec<Vec<Value>> = rows.rows().map(|row| row.values()).collect();
    let changes = if ordered { in_order(&wanted, &found) } else { as_multisets(&wanted, &found) };
    if changes.is_empty() {
        return None;
    }
    let (counts, rows) = shown_of(changes);
    let text = format!(
        "{} of {} expected rows are missing, {} of {} rows are not expected{}",
        counts[0],
        wanted.len(),
        counts[1],
        found.len(),
        cut_short(counts, &rows)
    );
    Some(Failure { columns: names, rows, ..failure("rows", text) })
}

/// The values of the types that the columns have; a text that is none of its column's type stays a text, and differs.
fn typed(record: Vec<Option<String>>, rows: &ResultSet) -> Vec<Value> {
    let one = |(text, column): (Option<String>, &crate::session::ResultColumn)| match text {
        None => Value::Null,
        Some(text) => parse_value(&text, column.sql_type).unwrap_or(Value::Text(text)),
    };
    record.into_iter().zip(rows.columns()).map(one).collect()
}

fn as_multisets(wanted: &[Vec<Value>], found: &[Vec<Value>]) -> Vec<RowChange> {
    let mut counts: HashMap<String, usize> = HashMap::default();
    found.iter().for_each(|row| *counts.entry(key(row)).or_default() += 1);
    let mut changes = Vec::new();
    for row in wanted {
        match counts.get_mut(&key(row)) {
            Some(count) if *count > 0 => *count -= 1,
            _ => changes.push(RowChange { found: false, row: row.clone() }),
        }
    }
    // What is left was found and not wanted; the last of equal rows are told.
    let mut odd: Vec<RowChange> = Vec::new();
    for row in found.iter().rev() {
        if let Some(count) = counts.get_mut(&key(row)).filter(|count| **count > 0) {
            *count -= 1;
            odd.push(RowChange { found: true, row: row.clone() });
        }
    }
    changes.extend(odd.into_iter().rev());
    changes
}

/// The rows between the common beginning and the common end.
fn in_order(wanted: &[Vec<Value>], found: &[Vec<Value>]) -> Vec<RowChange> {
    let same = |(a, b): &(&Vec<Value>, &Vec<Value>)| key(a) == key(b);
    let head = wanted.iter().zip(found).take_while(same).count();
    let (wanted, found) = (&wanted[head..], &found[head..]);
    let tail = wanted.iter().rev().zip(found.iter().rev()).take_while(same).count();
    let change = |found: bool| move |row: &Vec<Value>| RowChange { found, row: row.clone() };
    let less = wanted[..wanted.len() - tail].iter().map(change(false));
    less.chain(found[..found.len() - tail].iter().map(change(true))).collect()
}
