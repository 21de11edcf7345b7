//! A commit as the file lists it: its time, then for each table schema, name and rows added, changed and removed, as JSON.

use crate::catalog::{Commit, TableChange};

type Text = (i64, Vec<(String, String, u64, u64, u64)>);

/// What a commit did, as the file keeps it.
pub(super) fn write(commit: &Commit) -> Vec<u8> {
    let table = |change: &TableChange| {
        (change.schema.clone(), change.table.clone(), change.added, change.changed, change.removed)
    };
    let text: Text = (commit.time, commit.tables.iter().map(table).collect());
    serde_json::to_vec(&text).unwrap_or_default()
}

/// `None` when the text makes no sense.
pub(super) fn read(number: u64, text: &[u8]) -> Option<Commit> {
    let (time, tables): Text = serde_json::from_slice(text).ok()?;
    let table = |(schema, table, added, changed, removed)| TableChange { schema, table, added, changed, removed };
    Some(Commit { number, time, tables: tables.into_iter().map(table).collect() })
}
