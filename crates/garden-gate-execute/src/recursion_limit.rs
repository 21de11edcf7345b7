//! The error past `recursion_limit`: the last rows found, and which way out there is. Where values come back, CYCLE ends the recursion;
//! where a value grows in every round, only a bound does.

use super::result::cut;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, GroupTable, value_at};
use crate::physical::MemberSpec;
use arrow::array::ArrayRef;

/// Rows of the last round that the message shows.
const SHOWN_ROWS: usize = 3;

/// Rows that are looked at before the last round, and of it.
const LOOKED_AT: usize = 500_000;

/// How the values of columns went on in the last round.
struct Repeat {
    /// Every value of the last round had been found before.
    known: bool,
    /// Different values in all rounds.
    different: usize,
}

/// `all` rows that were found, those of the `last` round at their end.
pub(super) fn too_deep(member: &MemberSpec, all: &[Batch], last: &[Batch], rounds: u64) -> Result<Error> {
    let shown = last_rows(member, last);
    let message = format!("the recursion of {} has not ended after {rounds} rounds{shown}", member.name);
    let help = way_out(member, all, last, "recursion_limit = … allows more rounds")?;
    Ok(placed(Error::new(SqlState::RECURSION_LIMIT, message).with_help(help), member))
}

/// The rows outgrew the memory in the round after the `last` one, whose number is given; `error` says what the limit is.
pub(super) fn too_large(
    member: &MemberSpec,
    all: &[Batch],
    (last, round): (&[Batch], u64),
    error: Error,
) -> Result<Error> {
    let (limit, name) = (error.message().to_owned(), &member.name);
    let rows: usize = all.iter().map(|batch| batch.rows).sum();
    let shown = last_rows(member, last);
    let message = format!("{limit}: the recursion of {name} had found {rows} rows in round {round}{shown}");
    let help = way_out(member, all, last, "memory_limit = '…' allows more memory")?;
    Ok(placed(Error::new(SqlState::MEMORY, message).with_help(help).caused_by(error), member))
}

/// The error at the name of the recursion.
fn placed(error: Error, member: &MemberSpec) -> Error {
    match member.span {
        Some(span) => error.at(span),
        None => error,
    }
}

fn way_out(member: &MemberSpec, all: &[Batch], last: &[Batch], setting: &str) -> Result<String> {
    let columns = columns_that_come_back(member, all, last)?;
    if columns.is_empty() {
        return Ok(format!(
            "each round finds new values: bound a value that grows in WHERE, or leave it out; SET {setting}"
        ));
    }
    let (columns, come) = (columns.join(", "), if columns.len() == 1 { "comes" } else { "come" });
    Ok(format!(
        "{columns} {come} back to values found before: write CYCLE {columns} SET on_cycle USING path after the query; \
         SET {setting}"
    ))
}

/// The first rows of the last round, as the end of a message.
fn last_rows(member: &MemberSpec, last: &[Batch]) -> String {
    let row = |(batch, row): (&Batch, usize)| {
        let value = |(column, (name, sql_type)): (&ArrayRef, &(String, _))| {
            format!("{name} = {}", value_at(column, *sql_type, row))
        };
        let values: Vec<String> = batch.columns.iter().zip(&member.columns).map(value).collect();
        values.join(", ")
    };
    let rows = last.iter().flat_map(|batch| (0..batch.rows).map(move |row| (batch, row))).take(SHOWN_ROWS).map(row);
    let shown = rows.collect::<Vec<_>>().join("; ");
    if shown.is_empty() { shown } else { format!("; the last rows found: {shown}") }
}

/// The columns to watch for a cycle: those whose values all came back, without those that never change.
fn columns_that_come_back<'m>(member: &'m MemberSpec, all: &[Batch], last: &[Batch]) -> Result<Vec<&'m str>> {
    let rows = |batches: &[Batch]| batches.iter().map(|batch| batch.rows).sum::<usize>();
    let (total, new) = (rows(all), rows(last));
    if new == 0 || new >= total {
        return Ok(Vec::new());
    }
    // Among many rows the first ones are looked at: they have most of the values that come back.
    let earlier = (total - new).min(LOOKED_AT);
    let first = cut(all.iter().cloned(), 0, Some(earlier));
    let behind = cut(last.iter().cloned(), 0, Some(LOOKED_AT));
    let all = Batch::concat(&first.into_iter().chain(behind).collect::<Vec<_>>(), None)?;
    let each = (0..all.columns.len()).map(|at| repeat(&[at], &all, earlier));
    let each = each.collect::<Result<Vec<Repeat>>>()?;
    let whole_rows = each.iter().all(|column| column.known);
    let changing = |(_, column): &(usize, &Repeat)| column.known && column.different > 1;
    let mut watched: Vec<usize> = each.iter().enumerate().filter(changing).map(|(at, _)| at).collect();
    if watched.is_empty() && whole_rows {
        watched.push(0);
    }
    if watched.len() > 1 && !repeat(&watched, &all, earlier)?.known {
        watched.clear();
    }
    Ok(watched.into_iter().filter_map(|at| member.columns.get(at)).map(|(name, _)| name.as_str()).collect())
}

fn repeat(columns: &[usize], all: &Batch, earlier: usize) -> Result<Repeat> {
    let keys = |batch: &Batch| columns.iter().map(|at| batch.columns[*at].clone()).collect::<Vec<ArrayRef>>();
    let mut table = GroupTable::new(keys(all).iter().map(|key| key.data_type().clone()).collect())?;
    let mut ids = Vec::new();
    table.assign(&keys(&all.slice(0, earlier)), earlier, &mut ids)?;
    let known = table.len();
    table.assign(&keys(&all.slice(earlier, all.rows - earlier)), all.rows - earlier, &mut ids)?;
    Ok(Repeat { known: table.len() == known, different: table.len() })
}
