//! Rows given by value: a prepared INSERT with nothing to work out puts them straight into its table, without a plan.
//!
//! Whatever is out of the ordinary, a value of another type or a constraint that is broken, is left to the usual way, which does it or
//! says what is wrong.

use super::Session;
use super::constraints::{Changer, Delta};
use super::session::Call;
use crate::bind::{BoundChange, Meaning, MissingParameters, Parameters};
use crate::catalog::{Catalog, ColumnDefinition, Filled, LOCAL_SCHEMA, TableDefinition};
use crate::diagnostic::Result;
use crate::kernel::{Batch, array_of};
use crate::syntax::{ast, expression_of};
use crate::types::{ParameterName, SqlType, Value};
use arrow::array::{Array, ArrayRef, new_null_array};
use std::sync::Arc;

/// An INSERT whose values are parameters and literals.
#[derive(Debug)]
pub(super) struct DirectInsert {
    /// The schema of unqualified names when it was made.
    within: String,
    schema: String,
    table: String,
    definition: Arc<TableDefinition>,
    /// For each column its values, one for each row.
    columns: Vec<Vec<Cell>>,
}

#[derive(Clone, Debug)]
enum Cell {
    Parameter(ParameterName),
    Constant(ArrayRef),
}

impl DirectInsert {
    /// The direct form of a change, if it has one.
    pub(super) fn of(session: &Session, catalog: &Catalog, change: &ast::Change, bound: &BoundChange) -> Option<Self> {
        let ast::ChangeKind::Insert(insert) = &change.kind else { return None };
        let ast::InsertRows::Values(rows) = &insert.rows else { return None };
        let plain = change.with.is_none() && change.returning.is_none() && insert.overriding.is_none();
        let Meaning::Added { numbered, duplicates: ast::Duplicates::Refuse } = &bound.meaning else { return None };
        let definition = catalog.table(&bound.schema, &bound.table)?.definition.clone()?;
        if !plain
            || !numbered.is_empty()
            || !bound.checks.plain.is_empty()
            || bound.checks.with_queries
            || definition.temporary.is_some()
        {
            return None;
        }
        let named = |at: usize| match &insert.columns {
            Some(names) => names.iter().position(|name| name.matches(&definition.columns[at].name)),
            None => {
                (0..definition.columns.len()).filter(|other| !definition.columns[*other].hidden).position(|o| o == at)
            }
        };
        let mut columns = Vec::new();
        for (at, column) in definition.columns.iter().enumerate() {
            let place = named(at);
            let cell = |row: &Vec<ast::AssignedValue>| match place.map(|place| row.get(place)) {
                Some(Some(ast::AssignedValue::Value(expr))) => given(expr, column),
                Some(None) => None,
                Some(Some(ast::AssignedValue::Default(_))) | None => default(column),
            };
            columns.push(rows.iter().map(cell).collect::<Option<Vec<Cell>>>()?);
        }
        let (schema, table) = (bound.schema.clone(), bound.table.clone());
        let found = Self { within: session.schema.clone(), schema, table, definition, columns };
        // Through a view the names mean something else.
        let is_own = change.table.last().is_some_and(|name| name.matches(&found.table));
        // A name that is found by the search path may mean another table tomorrow.
        let is_fixed = change.table.len() > 1 || found.schema == session.schema;
        (is_own && is_fixed).then_some(found)
    }

    /// Whether the name still means this table, as it was defined.
    fn fits(&self, session: &Session, catalog: &Catalog) -> bool {
        let table = catalog.table(&self.schema, &self.table).and_then(|table| table.definition.as_ref());
        session.schema == self.within
            && table.is_some_and(|definition| Arc::ptr_eq(definition, &self.definition))
            && catalog.schema(LOCAL_SCHEMA).is_none_or(|local| local.tables.is_empty())
    }

    /// The rows with the values of parameters; `None` when one is not of the type of its column.
    fn rows(&self, parameters: &Parameters) -> Option<Batch> {
        let mut arrays = Vec::with_capacity(self.columns.len());
        for (cells, column) in self.columns.iter().zip(&self.definition.columns) {
            let array = |cell: &Cell| match cell {
                Cell::Parameter(name) => value(parameters.get(name)?, column.sql_type),
                Cell::Constant(array) => Some(Arc::clone(array)),
            };
            arrays.push(match cells.as_slice() {
                [one] => array(one)?,
                several => {
                    let parts = several.iter().map(array).collect::<Option<Vec<ArrayRef>>>()?;
                    let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
                    arrow::compute::concat(&parts).ok()?
                }
            });
        }
        let rows = self.columns.first().map_or(0, Vec::len);
        Some(Batch::new(arrays, rows))
    }
}

fn given(expr: &ast::Expr, column: &ColumnDefinition) -> Option<Cell> {
    match &expr.kind {
        // What a column asks besides its type is computed the usual way.
        _ if column.limit.is_some() => None,
        ast::ExprKind::Parameter(name) => Some(Cell::Parameter(name.clone())),
        ast::ExprKind::Literal(literal, _) => value(literal, column.sql_type).map(Cell::Constant),
        _ => None,
    }
}

fn default(column: &ColumnDefinition) -> Option<Cell> {
    match &column.filled {
        _ if column.limit.is_some() => None,
        Filled::Null => value(&Value::Null, column.sql_type).map(Cell::Constant),
        Filled::Default(text) => match expression_of(text).ok()?.kind {
            ast::ExprKind::Literal(literal, _) => value(&literal, column.sql_type).map(Cell::Constant),
            _ => None,
        },
        Filled::RowStart | Filled::RowEnd => value(&Value::Null, column.sql_type).map(Cell::Constant),
        Filled::Identity(_) | Filled::Generated(_) => None,
    }
}

/// A value that is one of the type as it appears.
pub(super) fn value(value: &Value, sql_type: SqlType) -> Option<ArrayRef> {
    use SqlType as T;
    let fits = match (value, sql_type) {
        (Value::Null, _) => return Some(new_null_array(&sql_type.arrow(), 1)),
        (Value::Text(text), T::Varchar(Some(length))) => text.chars().count() <= length as usize,
        (Value::Numeric(number), T::Numeric { scale, .. }) => number.scale <= scale,
        (Value::Integer(_), T::SmallInt | T::Integer | T::BigInt | T::Numeric { .. })
        | (Value::Text(_), T::Varchar(None))
        | (Value::Boolean(_), T::Boolean)
        | (Value::Double(_), T::Double)
        | (Value::Date(_), T::Date)
        | (Value::Time(_), T::Time)
        | (Value::Timestamp(_), T::Timestamp)
        | (Value::Instant(_), T::TimestampTz)
        | (Value::Uuid(_), T::Uuid)
        | (Value::Micros(_), T::DayTime)
        | (Value::Months(_), T::YearMonth) => true,
        _ => false,
    };
    // What does not fit its digits is reported by the usual way.
    if fits { array_of(value, sql_type).ok() } else { None }
}

impl Session {
    /// Adds the rows; `None` when they have to go the usual way, and nothing has been done.
    pub(super) fn insert_directly(&mut self, insert: &DirectInsert, call: &Call<'_>) -> Result<Option<u64>> {
        let Some(rows) = insert.rows(call.parameters) else { return Ok(None) };
        self.change_catalog(|session, catalog| {
            if !insert.fits(session, catalog) {
                return Ok((Catalog::clone(catalog), None));
            }
            let files = session.files();
            let around = session.around(catalog, &files, call.parameters, MissingParameters::Refuse);
            let mut changer = Changer::new(Catalog::clone(catalog), &around, false, session.deferral());
            let added = rows.rows as u64;
            let delta = Delta { removed: Vec::new(), added: rows, replaced: 0 };
            Ok(match changer.apply((&insert.schema, &insert.table), &delta) {
                Ok(_) => (changer.catalog, Some(added)),
                Err(_) => (Catalog::clone(catalog), None),
            })
        })
    }
}
