//! Tables that a program adds: what they may be called, and the rows that are let in.

use super::database::Shared;
use crate::catalog::{
    Catalog, Column, ColumnStatistics, DEFAULT_SCHEMA, LOCAL_SCHEMA, ScanRequest, Segment, SegmentStream, Table,
    TableKind, TableSource,
};
use crate::collections::HashSet;
use crate::diagnostic::{Error, Result, SqlState, caught};
use crate::storage::{conforming_segment, is_made_of};
use crate::types::SqlType;
use std::sync::Arc;

/// A name given to a table that is added: `table`, `schema.table`, either in double quotes where it holds a dot.
#[derive(Debug)]
pub(super) struct TableName {
    schema: Option<String>,
    table: String,
}

impl TableName {
    /// # Errors
    /// 42602 for a name of no, of more than two, or of empty parts.
    pub(super) fn parse(name: &str) -> Result<Self> {
        let refuse = |help: &str| {
            Err(Error::new(SqlState::INVALID_NAME, format!("{name:?} can't be the name of a table")).with_help(help))
        };
        let Some(mut parts) = parts(name) else { return refuse("a double quote is not closed") };
        if parts.iter().any(|part| part.trim().is_empty()) {
            return refuse("a name has at least one character that is not a blank");
        }
        match (parts.pop(), parts.pop(), parts.pop()) {
            (Some(table), schema, None) => Ok(Self { schema, table }),
            _ => refuse("write table or schema.table; a name with dots goes into double quotes"),
        }
    }

    /// A table of this name, dots and all, in a schema.
    pub(super) fn exact(schema: Option<&str>, table: &str) -> Self {
        Self { schema: schema.map(str::to_owned), table: table.to_owned() }
    }
}

/// The parts of a name between dots outside double quotes; `None` when a quote is left open.
fn parts(name: &str) -> Option<Vec<String>> {
    let mut parts = vec![String::new()];
    let mut quoted = false;
    let mut chars = name.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '"' if quoted && chars.peek() == Some(&'"') => {
                chars.next();
                parts.last_mut()?.push('"');
            }
            '"' => quoted = !quoted,
            '.' if !quoted => parts.push(String::new()),
            other => parts.last_mut()?.push(other),
        }
    }
    (!quoted).then_some(parts)
}

/// What becomes of a schema that is not there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum MissingSchema {
    Refuse,
    Make,
}

impl Shared {
    /// Makes the rows of a source a table.
    pub(super) fn add_table(
        &self,
        name: TableName,
        source: Arc<dyn TableSource>,
        missing: MissingSchema,
    ) -> Result<()> {
        self.add_to_catalog(|catalog| {
            let schema = name.schema.as_deref().unwrap_or(DEFAULT_SCHEMA);
            check_schema(catalog, schema, missing)?;
            let found = catalog.schema_mut(schema);
            let is_taken = |known: &str| known.eq_ignore_ascii_case(&name.table);
            if found.tables.iter().any(|known| is_taken(&known.name)) {
                return Err(Error::new(SqlState::TABLE_EXISTS, format!("there is a table {:?} already", name.table)));
            }
            if found.views.iter().any(|known| is_taken(&known.name)) {
                return Err(Error::new(SqlState::TABLE_EXISTS, format!("there is a view {:?} already", name.table)));
            }
            found.tables.push(Table {
                name: name.table,
                kind: TableKind::Table,
                source,
                definition: None,
                groups: Arc::default(),
            });
            Ok(())
        })
    }
}

fn check_schema(catalog: &Catalog, schema: &str, missing: MissingSchema) -> Result<()> {
    if schema.eq_ignore_ascii_case(LOCAL_SCHEMA) || schema.eq_ignore_ascii_case("INFORMATION_SCHEMA") {
        let message = format!("schema {schema:?} is not for tables that a program adds");
        return Err(Error::new(SqlState::INVALID_SCHEMA_NAME, message));
    }
    let known = catalog.schemas.iter().any(|known| known.name.eq_ignore_ascii_case(schema));
    if known || missing == MissingSchema::Make || schema == DEFAULT_SCHEMA {
        return Ok(());
    }
    let help = format!("CREATE SCHEMA {schema} makes one; a name that holds a dot goes into double quotes");
    Err(Error::new(SqlState::INVALID_SCHEMA_NAME, format!("no schema {schema:?}")).with_help(help))
}

/// Names that differ and are not empty, and types that there are: NUMERIC has 1 to 38 digits, and no more after the point than in all.
pub(super) fn check_columns(columns: &[Column]) -> Result<()> {
    let mut names = HashSet::with_capacity_and_hasher(columns.len(), Default::default());
    for (at, column) in columns.iter().enumerate() {
        if column.name.trim().is_empty() {
            return Err(Error::new(SqlState::INVALID_NAME, format!("column {} has no name", at + 1)));
        }
        if !names.insert(column.name.to_ascii_lowercase()) {
            let message = format!("two columns are called {:?}", column.name);
            return Err(Error::new(SqlState::COLUMN_EXISTS, message));
        }
        if !is_possible(column.sql_type) {
            let message = format!("column {:?} can't be {}", column.name, column.sql_type);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
        }
    }
    Ok(())
}

/// Whether there is such a type: a NUMERIC may be made with digits that none has.
pub(super) fn is_possible(sql_type: SqlType) -> bool {
    match sql_type {
        SqlType::Numeric { precision, scale } => (1..=38).contains(&precision) && scale <= precision,
        SqlType::Array(element) => is_possible(*element),
        SqlType::Row(fields) => fields.iter().all(|field| is_possible(field.sql_type)),
        _ => true,
    }
}

/// A program's source whose rows are looked at as they are read.
#[derive(Debug)]
pub(super) struct CheckedSource(pub(super) Arc<dyn TableSource>);

impl CheckedSource {
    fn columns_at(&self, columns: &[usize]) -> Vec<Column> {
        columns.iter().map(|at| self.0.columns()[*at].clone()).collect()
    }
}

impl TableSource for CheckedSource {
    fn columns(&self) -> &[Column] {
        self.0.columns()
    }

    fn rows(&self) -> u64 {
        self.0.rows()
    }

    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>> {
        let segments = guarded(|| self.0.read(columns))?;
        let mut check = RowCheck::new(self.columns_at(columns));
        segments.into_iter().map(|segment| check.segment(segment)).collect()
    }

    fn scan<'s>(&'s self, request: &ScanRequest<'_>) -> Result<SegmentStream<'s>> {
        let stream = guarded(|| self.0.scan(request))?;
        let mut check = RowCheck::new(self.columns_at(request.columns));
        let mut segments = stream.segments;
        let mut next = move || guarded(|| segments.next().transpose()).transpose();
        let mut failed = false;
        let segments = std::iter::from_fn(move || {
            // What panicked is not asked again.
            let segment = if failed { None } else { next() };
            failed |= matches!(segment, Some(Err(_)));
            segment.map(|segment| check.segment(segment?))
        });
        Ok(SegmentStream { segments: Box::new(segments), ..stream })
    }

    fn keys(&self) -> &[Vec<usize>] {
        self.0.keys()
    }

    fn statistics(&self, column: usize) -> Result<Arc<ColumnStatistics>> {
        guarded(|| self.0.statistics(column))
    }

    fn sample(&self, columns: &[usize], rows: usize) -> Result<Option<Segment>> {
        guarded(|| self.0.sample(columns, rows))
    }

    fn old_statistics(&self, column: usize) -> Option<(Arc<ColumnStatistics>, u64)> {
        self.0.old_statistics(column)
    }
}

/// Segments on their way in: their values are those of the columns' types. Arrays of other types than promised are reported where they are
/// used.
struct RowCheck {
    columns: Vec<Column>,
    before: usize,
}

impl RowCheck {
    fn new(columns: Vec<Column>) -> Self {
        Self { columns, before: 0 }
    }

    fn segment(&mut self, segment: Segment) -> Result<Segment> {
        if !is_made_of(&segment, &self.columns) {
            return Ok(segment);
        }
        let found = conforming_segment(&self.columns, &segment, self.before)?;
        self.before += segment.rows;
        Ok(found)
    }
}

/// What a program's code gives; its panic is an error.
fn guarded<T>(work: impl FnOnce() -> Result<T>) -> Result<T> {
    let panicked = || Error::new(SqlState::EXTERNAL_ROUTINE, "a table source of the program panicked");
    caught(work).ok_or_else(panicked)?
}
