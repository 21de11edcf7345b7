//! The views of `INFORMATION_SCHEMA` about time: PERIODS, and COMMITS, which is ours.

use super::information_schema::{CATALOG, Rows};
use crate::catalog::{Catalog, SYSTEM_TIME, TableDefinition};
use crate::types::Value;

/// `PERIODS`: name and columns of each period.
pub(super) fn periods(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for (schema, table) in catalog.tables() {
        let Some(definition) = table.definition.as_deref() else { continue };
        for (name, start, end) in all_periods(definition) {
            let column = |at: usize| definition.columns[at].name.as_str();
            rows.push([CATALOG, schema, &table.name, name, column(start), column(end)].map(Value::from).to_vec());
        }
    }
    rows
}

fn all_periods(definition: &TableDefinition) -> impl Iterator<Item = (&str, usize, usize)> {
    let own = definition.periods.iter().map(|period| (period.name.as_str(), period.start, period.end));
    own.chain(definition.system_time.iter().map(|period| (SYSTEM_TIME, period.start, period.end)))
}

/// `COMMITS`: for each commit the rows that it added, changed and removed in each table; a commit of definitions alone has one row without a
/// table.
pub(super) fn commits(catalog: &Catalog) -> Rows {
    let whole = |number: u64| Value::Integer(i64::try_from(number).unwrap_or(i64::MAX));
    let mut rows = Vec::new();
    for commit in catalog.commits.until(catalog.last_commit) {
        let first = || vec![whole(commit.number), Value::Instant(commit.time)];
        if commit.tables.is_empty() {
            let mut row = first();
            row.extend([const { Value::Null }; 5]);
            rows.push(row);
        }
        for change in &commit.tables {
            let mut row = first();
            row.extend([change.schema.as_str().into(), change.table.as_str().into()]);
            row.extend([change.added, change.changed, change.removed].map(whole));
            rows.push(row);
        }
    }
    rows
}
