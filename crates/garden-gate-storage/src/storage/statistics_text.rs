//! Statistics of columns as JSON, so that a file need not be read again to know them.

use super::store::stored_table;
use super::stored_table::{KnownStatistics, is_stale};
use crate::catalog::{Catalog, ColumnStatistics, CommonValue, GroupStatistics, TableDefinition};
use crate::kernel::{array_of, cast_values, value_at};
use crate::types::{SqlType, Value};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

/// Schema, table, and for each column what is known.
type Text = Vec<(String, String, Vec<Option<ColumnText>>)>;

/// The columns of tables by schema and name.
pub(super) type Tables = HashMap<(String, String), Vec<Option<ColumnText>>>;

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct ColumnText {
    rows: u64,
    nulls: u64,
    distinct: f64,
    exact: bool,
    /// Rows that have changed since.
    changed: u64,
    min: Option<String>,
    max: Option<String>,
    most_common: Vec<(String, f64)>,
    #[serde(default)]
    histogram: Vec<String>,
    #[serde(default)]
    correlation: f64,
}

/// Which statistics a text holds: it is written anew when they are others.
#[derive(Debug, Default)]
pub(super) struct Signature(Vec<Option<(Arc<ColumnStatistics>, Age)>>);

/// How far the rows have gone on since.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Age {
    Fresh,
    /// Some rows have changed, too few to matter.
    Worn,
    /// So many have changed that the statistics are to be computed again.
    Stale,
}

impl PartialEq for Signature {
    fn eq(&self, other: &Self) -> bool {
        self.0.len() == other.0.len()
            && self.0.iter().zip(&other.0).all(|pair| match pair {
                (Some((a, age)), Some((b, other))) => Arc::ptr_eq(a, b) && age == other,
                (None, None) => true,
                _ => false,
            })
    }
}

/// What the kept statistics were made of: as long as it stays, they need not be written.
pub(super) fn signature(catalog: &Catalog) -> Signature {
    let known =
        catalog.tables().filter_map(|(_, table)| stored_table(table)).flat_map(|table| table.known_statistics());
    let aged = |(statistics, changed): KnownStatistics| {
        let age = match changed {
            0 => Age::Fresh,
            _ if is_stale(&statistics, changed) => Age::Stale,
            _ => Age::Worn,
        };
        (statistics, age)
    };
    Signature(known.map(|known| known.map(aged)).collect())
}

/// The statistics of all tables; columns of types whose values have no text are omitted.
pub(super) fn write(catalog: &Catalog) -> Vec<u8> {
    let mut text: Text = Vec::new();
    for (schema, table) in catalog.tables() {
        let Some(stored) = stored_table(table) else { continue };
        let types = table.source.columns().iter().map(|column| column.sql_type);
        let columns: Vec<Option<ColumnText>> =
            stored.known_statistics().into_iter().zip(types).map(|(known, sql_type)| of(known?, sql_type)).collect();
        if columns.iter().any(Option::is_some) {
            text.push((schema.to_owned(), table.name.clone(), columns));
        }
    }
    serde_json::to_vec(&text).unwrap_or_default()
}

/// The statistics in the file; `None` where they cannot be read, which costs no more than to compute them anew.
pub(super) fn read(text: &[u8]) -> Option<Tables> {
    let text: Text = serde_json::from_slice(text).ok()?;
    Some(text.into_iter().map(|(schema, table, columns)| ((schema, table), columns)).collect())
}

fn of((known, changed): (Arc<ColumnStatistics>, u64), sql_type: SqlType) -> Option<ColumnText> {
    let has_text = sql_type.is_text()
        || sql_type.is_number()
        || sql_type.is_datetime()
        || sql_type.is_interval()
        || sql_type == SqlType::Boolean;
    let text = |value: &Value| if value.is_null() { None } else { Some(value.to_string()) };
    has_text.then(|| ColumnText {
        rows: known.rows,
        nulls: known.nulls,
        distinct: known.distinct,
        exact: known.exact,
        changed,
        min: text(&known.min),
        max: text(&known.max),
        most_common: known.most_common.iter().map(|common| (common.value.to_string(), common.share)).collect(),
        histogram: known.histogram.iter().map(ToString::to_string).collect(),
        correlation: known.correlation,
    })
}

/// What is known of several columns together.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct GroupText {
    columns: Vec<usize>,
    rows: u64,
    distinct: f64,
    most_common: Vec<(Vec<Option<String>>, f64)>,
}

impl GroupText {
    /// The statistics of several columns, as the file keeps them.
    pub(super) fn of(group: &GroupStatistics) -> Self {
        let text = |value: &Value| if value.is_null() { None } else { Some(value.to_string()) };
        let common = |(values, share): &(Vec<Value>, f64)| (values.iter().map(text).collect(), *share);
        Self {
            columns: group.columns.clone(),
            rows: group.rows,
            distinct: group.distinct,
            most_common: group.most_common.iter().map(common).collect(),
        }
    }

    /// `None` when a text is not a value of its column.
    pub(super) fn statistics(self, definition: &TableDefinition) -> Option<GroupStatistics> {
        let Self { columns, rows, distinct, most_common } = self;
        let types = columns.iter().map(|at| definition.columns.get(*at).map(|column| column.sql_type));
        let types: Vec<SqlType> = types.collect::<Option<_>>()?;
        let value = |(text, sql_type): (Option<String>, &SqlType)| match text {
            None => Some(Value::Null),
            Some(text) => value_of(text, *sql_type),
        };
        let common = |(texts, share): (Vec<Option<String>>, f64)| {
            Some((texts.into_iter().zip(&types).map(value).collect::<Option<Vec<_>>>()?, share))
        };
        let most_common = most_common.into_iter().map(common).collect::<Option<_>>()?;
        Some(GroupStatistics { columns, rows, distinct, most_common })
    }
}

/// The value of a type that a text stands for.
fn value_of(text: String, sql_type: SqlType) -> Option<Value> {
    let text = array_of(&Value::Text(text), SqlType::TEXT).ok()?;
    Some(value_at(&cast_values(&text, SqlType::TEXT, sql_type).ok()?, sql_type, 0))
}

impl ColumnText {
    /// The statistics of a column of this type, and how many of its rows have changed since; `None` when a text is no such value.
    pub(super) fn statistics(self, sql_type: SqlType) -> Option<KnownStatistics> {
        let value = |text: String| value_of(text, sql_type);
        let bound = |text: Option<String>| text.map_or(Some(Value::Null), value);
        let common = |(text, share): (String, f64)| Some(CommonValue { value: value(text)?, share });
        let Self { rows, nulls, distinct, exact, changed, min, max, most_common, histogram, correlation } = self;
        let most_common = most_common.into_iter().map(common).collect::<Option<Vec<_>>>()?;
        let (min, max) = (bound(min)?, bound(max)?);
        let histogram = histogram.into_iter().map(value).collect::<Option<Vec<_>>>()?;
        let known = ColumnStatistics { rows, nulls, distinct, min, max, most_common, histogram, correlation, exact };
        Some((Arc::new(known), changed))
    }
}
