//! System time in changes: a row begins with the commit that makes it, and is history from the commit that changes or deletes it on (clauses
//! 4.15.2, 14.9 to 14.14). As long as the transaction is open its rows have a time of their own, later than all commits that it has seen; its
//! commit gives them the time of the commit.

use super::change::stored;
use super::constraints::{Changer, Delta, TableName, repeat};
use crate::catalog::{Catalog, Commit, FOREVER, Filled, SystemTime, Table, TableDefinition, TableSource};
use crate::diagnostic::{Note, Result};
use crate::kernel::Batch;
use crate::storage::{History, StoredTable};
use crate::types::{SqlType, Value};
use arrow::array::{AsArray, BooleanArray};
use arrow::datatypes::TimestampMicrosecondType;
use std::any::Any;
use std::sync::Arc;

/// A time as a value of a column of system time.
pub(super) fn time_value(micros: i64, sql_type: SqlType) -> Value {
    if sql_type == SqlType::TimestampTz { Value::Instant(micros) } else { Value::Timestamp(micros) }
}

/// The time that the rows of a transaction begin with, until its commit has one.
pub(super) fn pending_time(catalog: &mut Catalog, now: i64) -> i64 {
    let next = now.max(catalog.last_time().saturating_add(1));
    *catalog.pending.time.get_or_insert(next)
}

/// Fills the columns of system time of new rows.
pub(super) fn fill_system_time(rows: &mut Batch, definition: &TableDefinition, now: i64) -> Result<()> {
    if definition.system_time.is_none() {
        return Ok(());
    }
    for (at, column) in definition.columns.iter().enumerate() {
        let time = match column.filled {
            Filled::RowStart => now,
            Filled::RowEnd => FOREVER,
            Filled::Null | Filled::Default(_) | Filled::Identity(_) | Filled::Generated(_) => continue,
        };
        rows.columns[at] = repeat(&time_value(time, column.sql_type), column.sql_type, rows.rows)?;
    }
    Ok(())
}

impl Changer<'_> {
    /// Fills the columns of system time of all rows that a statement adds.
    pub(super) fn fill_times(&mut self, (schema, name): TableName<'_>, delta: &mut Delta) -> Result<()> {
        let (_, definition) = stored(&self.catalog, schema, name)?;
        if definition.system_time.is_none() {
            return Ok(());
        }
        let now = pending_time(&mut self.catalog, self.around.moment.micros);
        fill_system_time(&mut delta.added, &definition, now)
    }

    /// Puts the rows that go into the history of their table, and takes note of what has changed.
    pub(super) fn keep_history(
        &mut self,
        (schema, name): TableName<'_>,
        (old, new): (&StoredTable, StoredTable),
        (definition, delta): (&TableDefinition, &Delta),
    ) -> Result<StoredTable> {
        if definition.temporary.is_none() {
            let added = (delta.added.rows - delta.replaced) as u64;
            let removed = (delta.removed.len() - delta.replaced) as u64;
            self.catalog.pending.note((schema, name), (added, delta.replaced as u64, removed));
        }
        let Some(period) = definition.versioning() else { return Ok(new) };
        if delta.removed.is_empty() {
            return Ok(new);
        }
        let now = pending_time(&mut self.catalog, self.around.moment.micros);
        let ended = ended(&old.rows_at(&delta.removed)?, (definition, period), now)?;
        let new = new.with_ended(&ended, period, now)?;
        if new.history().is_over_full(&period.rule, now) {
            self.note_full(name, period);
        }
        Ok(new)
    }

    fn note_full(&mut self, name: &str, period: &SystemTime) {
        let kept = period.rule.keep.unwrap_or(1);
        let message = format!("the last of the {kept} stretches of the history of {name:?} is full, and grows");
        let help = format!(
            "TRIM HISTORY OF {name} BEFORE … takes old history away; ALTER TABLE {name} SET HISTORY (KEEP {}) allows another stretch",
            kept + 1
        );
        self.notes.push(Note::new("history-full", message).help(help));
    }
}

/// Rows that end now, without those that the same transaction made: of these nothing is kept.
fn ended(rows: &Batch, (definition, period): (&TableDefinition, &SystemTime), now: i64) -> Result<Batch> {
    let starts = rows.columns[period.start].as_primitive::<TimestampMicrosecondType>();
    let kept: BooleanArray = starts.values().iter().map(|start| Some(*start != now)).collect();
    let count = kept.true_count();
    let mut rows = rows.filter(&kept, count)?;
    let end = &definition.columns[period.end];
    rows.columns[period.end] = repeat(&time_value(now, end.sql_type), end.sql_type, count)?;
    Ok(rows)
}

fn stored_of(table: &Table) -> Option<Arc<StoredTable>> {
    let source: Arc<dyn Any + Send + Sync> = Arc::clone(&table.source) as _;
    source.downcast().ok()
}

/// What a transaction made of the database, as a commit with a number and a time: later than the commit before, whatever the clock says. The
/// rows that it made begin then, and those that it ended end then. O(changed parts).
pub(super) fn committed(catalog: &Catalog, before: &Catalog, now: i64) -> Result<Catalog> {
    let mut made = catalog.clone();
    let last = before.commits.last();
    let (number, last_time) = last.map_or((1, i64::MIN), |last| (last.number + 1, last.time));
    let mut pending = std::mem::take(&mut made.pending);
    let time = now.max(last_time.saturating_add(1)).max(pending.time.unwrap_or(i64::MIN));
    if let Some(from) = pending.time.filter(|from| *from != time) {
        restamp(&mut made, before, (from, time))?;
    }
    // Temporary tables of sessions are nobody else's business.
    pending.tables.retain(|change| made.table(&change.schema, &change.table).is_some());
    made.commits.push(Commit { number, time, tables: pending.tables });
    made.last_commit = number;
    Ok(made)
}

fn restamp(made: &mut Catalog, before: &Catalog, times: (i64, i64)) -> Result<()> {
    let mut changed = Vec::new();
    for (schema, table) in made.tables() {
        let Some(period) = table.definition.as_deref().and_then(|definition| definition.system_time.as_ref()) else {
            continue;
        };
        let known = before.table(schema, &table.name);
        if known.is_some_and(|known| std::ptr::addr_eq(Arc::as_ptr(&known.source), Arc::as_ptr(&table.source))) {
            continue;
        }
        let Some(stored) = stored_of(table) else { continue };
        let old = known.and_then(stored_of);
        let source: Arc<dyn TableSource> = Arc::new(stored.restamped(old.as_deref(), period, times)?);
        changed.push((schema.to_owned(), Table { source, ..table.clone() }));
    }
    for (schema, table) in changed {
        made.put_table(&schema, table);
    }
    Ok(())
}

/// A table whose rows all begin now: its history is empty, and nothing is known of before.
pub(super) fn begun(table: &StoredTable, now: i64) -> StoredTable {
    table.with_history(History::begun(now))
}

#[cfg(test)]
mod tests {
    use super::committed;
    use crate::catalog::Catalog;

    #[test]
    fn commits_follow_one_another_whatever_the_clock_says() {
        let mut catalog = Catalog::default();
        let times: Vec<i64> = [100, 100, 50, 200]
            .into_iter()
            .map(|clock| {
                catalog = committed(&catalog, &catalog, clock).unwrap();
                catalog.last_time()
            })
            .collect();
        assert_eq!(times, [100, 101, 102, 200]);
        assert_eq!(catalog.last_commit, 4);
        // What an open transaction wrote ends at its commit, and not before it began.
        catalog.pending.time = Some(500);
        catalog = committed(&catalog, &catalog, 300).unwrap();
        assert_eq!((catalog.last_time(), catalog.pending.time), (500, None));
    }
}
