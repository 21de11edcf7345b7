//! `INFORMATION_SCHEMA` (ISO/IEC 9075-11): what there is, as tables that can be queried.

use super::information_schema_time::{commits, periods};
use crate::catalog::{
    Catalog, Column, Domain, Filled, MatchType, Numbers, Schema, Sequence, Table, TableFunction, TableKind, Temporary,
    TemporaryKind, Timing, ViewCheck,
};
use crate::storage::MemoryTable;
use crate::syntax::ast::Ident;
use crate::types::{SqlType, Value};
use std::sync::Arc;

pub(super) const NAME: &str = "INFORMATION_SCHEMA";

/// The name of the one catalog there is.
pub(super) const CATALOG: &str = "garden";

pub(super) type Rows = Vec<Vec<Value>>;

/// A view: its name, its columns (a star marks a number, + a large one, @ a time), and how its rows are made.
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
            "IS_SYSTEM_TIME_PERIOD_START",
            "IS_SYSTEM_TIME_PERIOD_END",
        ],
        columns,
    ),
    (
        "VIEWS",
        &["TABLE_CATALOG", "TABLE_SCHEMA", "TABLE_NAME", "VIEW_DEFINITION", "CHECK_OPTION", "IS_UPDATABLE"],
        views,
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
        &[
            "CONSTRAINT_CATALOG",
            "CONSTRAINT_SCHEMA",
            "CONSTRAINT_NAME",
            "UNIQUE_CONSTRAINT_CATALOG",
            "UNIQUE_CONSTRAINT_SCHEMA",
            "UNIQUE_CONSTRAINT_NAME",
            "MATCH_OPTION",
            "UPDATE_RULE",
            "DELETE_RULE",
        ],
        references,
    ),
    (
        "SEQUENCES",
        &[
            "SEQUENCE_CATALOG",
            "SEQUENCE_SCHEMA",
            "SEQUENCE_NAME",
            "DATA_TYPE",
            "START_VALUE",
            "MINIMUM_VALUE",
            "MAXIMUM_VALUE",
            "INCREMENT",
            "CYCLE_OPTION",
        ],
        sequences,
    ),
    ("DOMAINS", &["DOMAIN_CATALOG", "DOMAIN_SCHEMA", "DOMAIN_NAME", "DATA_TYPE", "DOMAIN_DEFAULT"], domains),
    (
        "ROUTINES",
        &["ROUTINE_CATALOG", "ROUTINE_SCHEMA", "ROUTINE_NAME", "ROUTINE_TYPE", "ROUTINE_BODY", "ROUTINE_DEFINITION"],
        routines,
    ),
    (
        "PARAMETERS",
        &[
            "SPECIFIC_CATALOG",
            "SPECIFIC_SCHEMA",
            "SPECIFIC_NAME",
            "ORDINAL_POSITION*",
            "PARAMETER_MODE",
            "PARAMETER_NAME",
            "DATA_TYPE",
        ],
        parameters,
    ),
    (
        "PERIODS",
        &["TABLE_CATALOG", "TABLE_SCHEMA", "TABLE_NAME", "PERIOD_NAME", "START_COLUMN_NAME", "END_COLUMN_NAME"],
        periods,
    ),
    (
        "COMMITS",
        &[
            "COMMIT_NUMBER+",
            "COMMIT_TIME@",
            "TABLE_SCHEMA",
            "TABLE_NAME",
            "ROWS_ADDED+",
            "ROWS_CHANGED+",
            "ROWS_REMOVED+",
        ],
        commits,
    ),
    ("CHECK_CONSTRAINTS", &["CONSTRAINT_CATALOG", "CONSTRAINT_SCHEMA", "CONSTRAINT_NAME", "CHECK_CLAUSE"], checks),
];

/// The view of this name over what the catalog holds.
pub(super) fn table(catalog: &Catalog, name: &Ident) -> Option<Table> {
    let (name, columns, rows) = VIEWS.iter().find(|(view, ..)| name.matches(view))?;
    let column = |name: &&str| match name.strip_suffix('*') {
        Some(name) => Column::new(name, SqlType::Integer),
        None => match (name.strip_suffix('+'), name.strip_suffix('@')) {
            (Some(name), _) => Column::new(name, SqlType::BigInt),
            (_, Some(name)) => Column::new(name, SqlType::TimestampTz),
            _ => Column::new(*name, SqlType::TEXT),
        },
    };
    let columns: Vec<Column> = columns.iter().map(column).collect();
    let source = MemoryTable::from_rows(&columns, &rows(catalog)).ok()?;
    Some(Table {
        name: (*name).to_owned(),
        kind: TableKind::Table,
        source: Arc::new(source),
        definition: None,
        groups: Arc::default(),
    })
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
        .flat_map(|schema| schema.tables.iter().map(|table| row(&schema.name, &table.name, table_type(table))));
    let views =
        catalog.schemas.iter().flat_map(|schema| schema.views.iter().map(|view| row(&schema.name, &view.name, "VIEW")));
    let stored = stored.chain(views);
    stored.chain(VIEWS.iter().map(|(name, ..)| row(NAME, name, "VIEW"))).collect()
}

fn is(truth: bool) -> Value {
    if truth { "YES".into() } else { "NO".into() }
}

fn columns(catalog: &Catalog) -> Rows {
    let whole = |value: i64| Value::Integer(value);
    let mut rows = Vec::new();
    for schema in &catalog.schemas {
        for table in &schema.tables {
            for (at, column) in table.source.columns().iter().enumerate() {
                let sql_type = column.sql_type;
                let defined = table.definition.as_ref().and_then(|definition| definition.columns.get(at));
                let default = match defined.map(|column| &column.filled) {
                    Some(Filled::Default(text)) => text.text().trim().into(),
                    _ => Value::Null,
                };
                let nullable = if defined.is_some_and(|column| column.not_null) { "NO" } else { "YES" };
                let length = if let SqlType::Char(length) | SqlType::Varchar(Some(length)) = sql_type {
                    whole(length.into())
                } else {
                    Value::Null
                };
                let (precision, scale) =
                    sql_type.digits().map_or((Value::Null, Value::Null), |(p, s)| (whole(p.into()), whole(s.into())));
                rows.push(vec![
                    CATALOG.into(),
                    schema.name.as_str().into(),
                    table.name.as_str().into(),
                    column.name.as_str().into(),
                    whole(i64::from(crate::types::index(at)) + 1),
                    default,
                    nullable.into(),
                    defined.map_or_else(|| sql_type.to_string(), |column| column.declared().to_string()).into(),
                    length,
                    precision,
                    scale,
                    is(defined.is_some_and(|column| matches!(column.filled, Filled::RowStart))),
                    is(defined.is_some_and(|column| matches!(column.filled, Filled::RowEnd))),
                ]);
            }
        }
    }
    rows
}

fn views(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for schema in &catalog.schemas {
        for view in &schema.views {
            let (place, name) = (schema.name.as_str().into(), view.name.as_str().into());
            let check = match view.check {
                None => "NONE",
                Some(ViewCheck::Local) => "LOCAL",
                Some(ViewCheck::Cascaded) => "CASCADED",
            };
            let updatable = if super::updatable::is_simple(view, catalog) { "YES" } else { "NO" };
            rows.push(vec![CATALOG.into(), place, name, view.query.text().into(), check.into(), updatable.into()]);
        }
    }
    rows
}

/// A constraint with its kind, and its columns where it has any.
struct Known {
    name: String,
    kind: &'static str,
    columns: Vec<usize>,
    timing: Timing,
}

fn table_type(table: &Table) -> &'static str {
    let definition = table.definition.as_deref();
    match definition.and_then(|definition| definition.temporary) {
        None if definition.is_some_and(|definition| definition.versioning().is_some()) => "SYSTEM VERSIONED",
        Some(Temporary { kind: TemporaryKind::Shared, .. }) => "SHARED TEMPORARY",
        Some(Temporary { kind: TemporaryKind::Local, .. }) => "LOCAL TEMPORARY",
        Some(Temporary { kind: TemporaryKind::Global, .. }) => "GLOBAL TEMPORARY",
        None => "BASE TABLE",
    }
}

/// The constraints of a table as it was defined; of a source its keys, under names made of the table's and their numbers.
fn known(table: &Table) -> Vec<Known> {
    let Some(definition) = &table.definition else {
        let key = |(number, columns): (usize, &Vec<usize>)| Known {
            name: format!("{}_key_{}", table.name, number + 1),
            kind: "UNIQUE",
            columns: columns.clone(),
            timing: Timing::AtOnce,
        };
        return table.source.keys().iter().enumerate().map(key).collect();
    };
    let keys = definition.keys.iter().filter(|key| !definition.is_index(&key.name)).map(|key| Known {
        name: key.name.clone(),
        kind: if key.primary { "PRIMARY KEY" } else { "UNIQUE" },
        columns: key.columns.clone(),
        timing: key.timing,
    });
    let references = definition.references.iter().map(|key| Known {
        name: key.name.clone(),
        kind: "FOREIGN KEY",
        columns: key.columns.clone(),
        timing: key.timing,
    });
    let checks = definition.checks.iter().map(|check| Known {
        name: check.name.clone(),
        kind: "CHECK",
        columns: Vec::new(),
        timing: Timing::AtOnce,
    });
    keys.chain(references).chain(checks).collect()
}

/// The parts that rows about a constraint of a table begin with.
fn begin(schema: &str, name: &str, table: &str) -> Vec<Value> {
    [CATALOG, schema, name, CATALOG, schema, table].map(Value::from).to_vec()
}

fn constraints(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for (schema, table) in catalog.tables() {
        for constraint in known(table) {
            let mut row = begin(schema, &constraint.name, &table.name);
            let is = |truth| if truth { "YES" } else { "NO" };
            let (deferrable, deferred) = (constraint.timing != Timing::AtOnce, constraint.timing == Timing::Deferred);
            row.extend([constraint.kind, is(deferrable), is(deferred)].map(Value::from));
            rows.push(row);
        }
    }
    rows
}

fn key_columns(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for (schema, table) in catalog.tables() {
        for constraint in known(table) {
            for (at, column) in constraint.columns.iter().enumerate() {
                let name = table.source.columns().get(*column).map_or("", |column| column.name.as_str());
                let mut row = begin(schema, &constraint.name, &table.name);
                row.extend([name.into(), Value::Integer(i64::from(crate::types::index(at)) + 1)]);
                rows.push(row);
            }
        }
    }
    rows
}

fn references(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for (schema, table) in catalog.tables() {
        for reference in table.definition.iter().flat_map(|definition| &definition.references) {
            let target =
                catalog.table(&reference.table.0, &reference.table.1).and_then(|table| table.definition.as_ref());
            let key = target.and_then(|target| target.keys.iter().find(|key| reference.means(key)));
            let unique = match key {
                Some(key) => [CATALOG.into(), reference.table.0.as_str().into(), key.name.as_str().into()],
                None => [Value::Null, Value::Null, Value::Null],
            };
            let option = match reference.match_type {
                MatchType::Simple => "NONE",
                MatchType::Partial => "PARTIAL",
                MatchType::Full => "FULL",
            };
            let rules = [reference.on_update.name(), reference.on_delete.name()];
            let mut row: Vec<Value> = vec![CATALOG.into(), schema.into(), reference.name.as_str().into()];
            row.extend(unique);
            row.push(option.into());
            row.extend(rules.map(Value::from));
            rows.push(row);
        }
    }
    rows
}

fn checks(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for (schema, table) in catalog.tables() {
        for check in table.definition.iter().flat_map(|definition| &definition.checks) {
            let text = check.condition.text().trim();
            rows.push([CATALOG, schema, &check.name, text].map(Value::from).to_vec());
        }
    }
    rows
}

fn sequences(catalog: &Catalog) -> Rows {
    let row = |schema: &Schema, sequence: &Sequence| {
        let Numbers { sql_type, start, increment, least, most, cycle } = sequence.numbers;
        let numbers = [start, least, most, increment].map(|number| number.to_string().into());
        let firsts = [CATALOG.into(), schema.name.as_str().into(), sequence.name.as_str().into()];
        let cycle = if cycle { "YES" } else { "NO" };
        firsts.into_iter().chain([sql_type.to_string().into()]).chain(numbers).chain([cycle.into()]).collect()
    };
    catalog.schemas.iter().flat_map(|schema| schema.sequences.iter().map(|sequence| row(schema, sequence))).collect()
}

fn domains(catalog: &Catalog) -> Rows {
    let row = |schema: &Schema, domain: &Domain| {
        let default = domain.default.as_ref().map_or(Value::Null, |text| text.text().trim().into());
        let (schema, name) = (schema.name.as_str(), domain.name.as_str());
        vec![CATALOG.into(), schema.into(), name.into(), domain.sql_type.to_string().into(), default]
    };
    catalog.schemas.iter().flat_map(|schema| schema.domains.iter().map(|domain| row(schema, domain))).collect()
}

/// Table functions of the database, and functions of the program, which have no schema and no text.
fn routines(catalog: &Catalog) -> Rows {
    let external = program_routines(catalog).map(|(name, _)| {
        vec![CATALOG.into(), Value::Null, name.into(), "FUNCTION".into(), "EXTERNAL".into(), Value::Null]
    });
    let row = |schema: &Schema, function: &TableFunction| {
        let (schema, name) = (schema.name.as_str(), function.name.as_str());
        vec![CATALOG.into(), schema.into(), name.into(), "FUNCTION".into(), "SQL".into(), function.query.text().into()]
    };
    let own = catalog.schemas.iter().flat_map(|schema| schema.functions.iter().map(|function| row(schema, function)));
    own.chain(external).collect()
}

/// Scalar and aggregate functions of the program, with the types of their arguments.
fn program_routines(catalog: &Catalog) -> impl Iterator<Item = (&str, &[SqlType])> {
    let scalar =
        catalog.program_functions.iter().map(|known| (known.name.as_str(), known.signature.arguments.as_slice()));
    let aggregates =
        catalog.program_aggregates.iter().map(|known| (known.name.as_str(), known.signature.arguments.as_slice()));
    scalar.chain(aggregates)
}

fn parameters(catalog: &Catalog) -> Rows {
    let mut rows = Vec::new();
    for schema in &catalog.schemas {
        for function in &schema.functions {
            for (at, (name, sql_type)) in function.parameters.iter().enumerate() {
                let number = Value::Integer(i64::from(crate::types::index(at)) + 1);
                let (schema, function) = (schema.name.as_str(), function.name.as_str());
                let first = [CATALOG.into(), schema.into(), function.into(), number];
                let rest = ["IN".into(), name.as_str().into(), sql_type.to_string().into()];
                rows.push(first.into_iter().chain(rest).collect());
            }
        }
    }
    for (name, arguments) in program_routines(catalog) {
        for (at, sql_type) in arguments.iter().enumerate() {
            let number = Value::Integer(i64::from(crate::types::index(at)) + 1);
            let first = [CATALOG.into(), Value::Null, name.into(), number];
            let rest = ["IN".into(), Value::Null, sql_type.to_string().into()];
            rows.push(first.into_iter().chain(rest).collect());
        }
    }
    rows
}
