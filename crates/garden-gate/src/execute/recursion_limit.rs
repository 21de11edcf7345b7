//! The error past `recursion_limit`: the last rows found, and which way out there is. Where values come back, CYCLE ends the recursion;
//! where a value grows in every round, only a bound does.

use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, GroupTable, value_at};
use crate::physical::MemberSpec;
use arrow::array::ArrayRef;

/// Rows of the last round that the message shows.
const SHOWN_ROWS: usize = 3;

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
    let shown = if shown.is_empty() { String::new() } else { format!("; the last rows found: {}", shown.join("; ")) };
    let message = format!("the recursion of {} has not ended after {rounds} rounds{shown}", member.name);
    let columns = columns_that_come_back(member, all, last)?;
    let help = if columns.is_empty() {
        "each round finds new values: bound a value that grows in WHERE, or leave it out; \
         SET recursion_limit = … allows more rounds"
            .to_owned()
    } else {
        let (columns, come) = (columns.join(", "), if columns.len() == 1 { "comes" } else { "come" });
        format!(
            "{columns} {come} back to values found before: write CYCLE {columns} SET on_cycle USING path behind the \
             query; SET recursion_limit = … allows more rounds"
        )
    };
    Ok(Error::new(SqlState::RECURSION_LIMIT, message).with_help(help))
}

fn last_rows(member: &MemberSpec, last: &[Batch]) -> Vec<String> {
    let row = |(batch, row): (&Batch, usize)| {
        let value = |(column, (name, sql_type)): (&ArrayRef, &(String, _))| {
            format!("{name} = {}", value_at(column, *sql_type, row))
        };
        let values: Vec<String> = batch.columns.iter().zip(&member.columns).map(value).collect();
        values.join(", ")
    };
    last.iter().flat_map(|batch| (0..batch.rows).map(move |row| (batch, row))).take(SHOWN_ROWS).map(row).collect()
}

/// The columns to watch for a cycle: those whose values all came back, without those that never change.
fn columns_that_come_back<'m>(member: &'m MemberSpec, all: &[Batch], last: &[Batch]) -> Result<Vec<&'m str>> {
    let rows = |batches: &[Batch]| batches.iter().map(|batch| batch.rows).sum::<usize>();
    let (total, new) = (rows(all), rows(last));
    if new == 0 || new >= total {
        return Ok(Vec::new());
    }
    let all = Batch::concat(all, None)?;
    let each = (0..all.columns.len()).map(|at| repeat(&[at], &all, total - new));
    let each = each.collect::<Result<Vec<Repeat>>>()?;
    let whole_rows = each.iter().all(|column| column.known);
    let changing = |(_, column): &(usize, &Repeat)| column.known && column.different > 1;
    let mut watched: Vec<usize> = each.iter().enumerate().filter(changing).map(|(at, _)| at).collect();
    if watched.is_empty() && whole_rows {
        watched.push(0);
    }
    if watched.len() > 1 && !repeat(&watched, &all, total - new)?.known {
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
