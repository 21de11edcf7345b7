//! `INFORMATION_SCHEMA` (ISO/IEC 9075-11): what there is, as tables that can be queried.

use crate::catalog::{Catalog, Column, Table, TableKind};
use crate::storage::MemoryTable;
use crate::syntax::ast::Ident;
use crate::types::{SqlType, Value};
use std::sync::Arc;

pub(super) const NAME: &str = "INFORMATION_SCHEMA";

/// The name of the one catalog there is.
const CATALOG: &str = "garden";

type Rows = Vec<Vec<Value>>;

/// A view: its name, its columns (a star marks a number), and how its rows are made.
type View = (&'static str, &'static [&'static str], fn(&Catalog) -> Rows);

const VIEWS: &[View] = &[
    ("SCHEMATA", &["CATALOG_NAME", "SCHEMA_NAME", "SCHEMA_OWNER"], schemata),
    ("TABLES", &["TABLE_CATALOG", "TABLE_SCHEMA", "TABLE_NAME", "TABLE_TYPE"], tables),
    (
        "COLUMNS",
        &[
            "TABLE_CATALOG",
            "TABLE_SCHEMA",
            "TABLE_NAME",
            "COLUMN_NAME",
            "ORDINAL_POSITION*",
            "COLUMN_DEFAULT",
            "IS_NULLABLE",
            "DATA_TYPE",
            "CHARACTER_MAXIMUM_LENGTH*",
            "NUMERIC_PRECISION*",
            "NUMERIC_SCALE*",
        ],
        columns,
    ),
    (
        "VIEWS",
        &["TABLE_CATALOG", "TABLE_SCHEMA", "TABLE_NAME", "VIEW_DEFINITION", "CHECK_OPTION", "IS_UPDATABLE"],
        none,
    ),
    (
        "TABLE_CONSTRAINTS",
        &[
            "CONSTRAINT_CATALOG",
            "CONSTRAINT_SCHEMA",
            "CONSTRAINT_NAME",
            "TABLE_CATALOG",
            "TABLE_SCHEMA",
            "TABLE_NAME",
            "CONSTRAINT_TYPE",
            "IS_DEFERRABLE",
            "INITIALLY_DEFERRED",
        ],
        constraints,
    ),
    (
        "KEY_COLUMN_USAGE",
        &[
            "CONSTRAINT_CATALOG",
            "CONSTRAINT_SCHEMA",
            "CONSTRAINT_NAME",
            "TABLE_CATALOG",
            "TABLE_SCHEMA",
            "TABLE_NAME",
            "COLUMN_NAME",
            "ORDINAL_POSITION*",
        ],
        key_columns,
    ),
    (
        "REFERENTIAL_CONSTRAINTS",
        &["CONSTRAINT_CATALOG", "CONSTRAINT_SCHEMA", "CONSTRAINT_NAME", "UNIQUE_CONSTRAINT_NAME", "MATCH_OPTION"],
        none,
    ),
    ("CHECK_CONSTRAINTS", &["CONSTRAINT_CATALOG", "CONSTRAINT_SCHEMA", "CONSTRAINT_NAME", "CHECK_CLAUSE"], none),
];

/// The view of this name over what the catalog holds.
pub(super) fn table(catalog: &Catalog, name: &Ident) -> Option<Table> {
    let (name, columns, rows) = VIEWS.iter().find(|(view, ..)| name.matches(view))?;
    let column = |name: &&str| match name.strip_suffix('*') {
        Some(name) => Column::new(name, SqlType::Integer),
        None => Column::new(*name, SqlType::TEXT),
    };
    let columns: Vec<Column> = columns.iter().map(column).collect();
    let source = MemoryTable::from_rows(&columns, &rows(catalog)).ok()?;
    Some(Table { name: (*name).to_owned(), kind: TableKind::Table, source: Arc::new(source), definition: None })
}

fn none(_: &Catalog) -> Rows {
    Vec::new()
}

fn schemata(catalog: &Catalog) -> Rows {
    let row = |name: &str| vec![CATALOG.into(), name.into(), Value::Null];
    catalog.schemas.iter().map(|schema| row(&schema.name)).chain(std::iter::once(row(NAME))).collect()
}

fn tables(catalog: &Catalog) -> Rows {
    let row = |schema: &str, name: &str, kind: &str| vec![CATALOG.into(), schema.into(), name.into(), kind.into()];
    let stored = catalog
        .schemas
        .iter()
        .flat_map(|schema| schema.tables.iter().map(|table| row(&schema.name, &table.name, "BASE TABLE")));
    stored.chain(VIEWS.iter().map(|(name, ..)| row(NAME, name, "VIEW"))).collect()
}

fn columns(catalog: &Catalog) -> Rows {
    let whole = |value: i64| Value::Integer(value);
    let mut rows = Vec::new();
    for schema in &catalog.schemas {
        for table in &schema.tables {
            for (at, column) in table.source.columns().iter().enumerate() {
                let sql_type = column.sql_type;
                let length = match sql_type {
                    SqlType::Char(length) | SqlType::Varchar(Some(length)) => whole(length.into()),
                    _ => Value::Null,
                };
                let (precision, scale) =
                    sql_type.digits().map_or((Value::Null, Value::Null), |(p, s)| (whole(p.into()), whole(s.into())));
                rows.push(vec![
                    CATALOG.into(),
                    schema.name.as_str().into(),
                    table.name.as_str().into(),
                    column.name.as_str().into(),
                    whole(i64::from(crate::types::index(at)) + 1),
                    Value::Null,
                    "YES".into(),
                    sql_type.to_string().into(),
                    length,
                    precision,
                    scale,
                ]);
            }
        }
    }
    rows
}

/// Every key of a table, under a name made of the table's and its number.
fn each_key(catalog: &Catalog, mut visit: impl FnMut([Value; 6], &[usize], &Table)) {
    for schema in &catalog.schemas {
        for table in &schema.tables {
            for (number, key) in table.source.keys().iter().enumerate() {
                let name = format!("{}_key_{}", table.name, number + 1);
                let (schema, name): (Value, Value) = (schema.name.as_str().into(), name.into());
                let parts = [CATALOG.into(), schema.clone(), name, CATALOG.into(), schema, table.name.as_str().into()];
                visit(parts, key, table);
            }
        }
    }
}

fn constraints(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    each_key(catalog, |parts, _, _| {
        rows.push(parts.into_iter().chain(["UNIQUE".into(), "NO".into(), "NO".into()]).collect());
    });
    rows
}

fn key_columns(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    each_key(catalog, |parts, key, table| {
        for (at, column) in key.iter().enumerate() {
            let name = table.source.columns().get(*column).map_or("", |column| column.name.as_str());
            let place = Value::Integer(i64::from(crate::types::index(at)) + 1);
            rows.push(parts.iter().cloned().chain([name.into(), place]).collect());
        }
    });
    rows
}
