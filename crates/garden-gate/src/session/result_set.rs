use super::{FromRow, FromValue};
use crate::diagnostic::{Error, Note, Result, SqlState, counted, nearest};
use crate::kernel::{Batch, value_at};
use crate::types::{DeclaredType, Interval, SqlType, TypeLimit, Value, Zone};
use arrow::array::{RecordBatch, RecordBatchOptions};
use arrow::datatypes::{Field, Schema, SchemaRef};
use std::sync::Arc;
use std::time::Duration;

/// A column of a result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResultColumn {
    /// Its alias, its own name, or the text of its expression.
    pub name: String,
    /// Its type.
    pub sql_type: SqlType,
    pub(crate) limit: Option<TypeLimit>,
}

impl ResultColumn {
    /// A column of a result.
    pub(crate) fn new(name: impl Into<String>, declared: impl Into<DeclaredType>) -> Self {
        let DeclaredType { sql_type, limit } = declared.into();
        Self { name: name.into(), sql_type, limit }
    }

    /// The text of its type with the fields or the precision that its values are held to, where these are known:
    /// `INTERVAL HOUR TO MINUTE`, `TIMESTAMP(0)`.
    pub fn type_text(&self) -> String {
        DeclaredType { sql_type: self.sql_type, limit: self.limit }.to_string()
    }
}

/// The rows of a query.
#[derive(Clone, Debug, Default)]
pub struct ResultSet {
    pub(super) columns: Vec<ResultColumn>,
    pub(super) batches: Vec<Batch>,
    pub(super) notes: Vec<Note>,
    pub(super) elapsed: Duration,
    pub(super) affected: Option<u64>,
    /// In which instants are shown.
    pub(super) zone: Zone,
}

impl ResultSet {
    /// The columns, in order; names may repeat.
    pub fn columns(&self) -> &[ResultColumn] {
        &self.columns
    }

    /// How many rows there are.
    pub fn row_count(&self) -> usize {
        self.batches.iter().map(|batch| batch.rows).sum()
    }

    /// The first so many rows, or all when there are fewer, with the same columns and notes. O(rows / 8192).
    #[must_use]
    pub fn first(&self, rows: usize) -> Self {
        let mut left = rows;
        let batches = self.batches.iter().map_while(|batch| {
            let taken = left.min(batch.rows);
            left -= taken;
            (taken > 0).then(|| batch.slice(0, taken))
        });
        Self { batches: batches.collect(), ..self.clone() }
    }

    /// How many rows were changed, when these are the rows of RETURNING.
    pub fn affected(&self) -> Option<u64> {
        self.affected
    }

    /// What is worth knowing about the statement.
    pub fn notes(&self) -> &[Note] {
        &self.notes
    }

    /// The engine's own time: from the statement's text to its last row.
    pub fn elapsed(&self) -> Duration {
        self.elapsed
    }

    /// The rows, in order.
    pub fn rows(&self) -> Rows<'_> {
        Rows { result: self, batch: 0, row: 0, left: self.row_count() }
    }

    /// The one row of the result as a Rust type, such as a tuple.
    ///
    /// # Errors
    /// 21000 when there is no row or more than one; as [`FromRow::from_row`] otherwise.
    pub fn one<T: FromRow>(&self) -> Result<T> {
        let mut rows = self.rows();
        match (rows.next(), rows.next()) {
            (Some(row), None) => row.read(),
            (found, _) => {
                let count = if found.is_some() { counted(self.row_count(), "row") } else { "no row".to_owned() };
                let message = format!("one row was expected, the query gives {count}");
                Err(Error::new(SqlState::CARDINALITY, message).with_help("rows() gives them all"))
            }
        }
    }

    /// The rows as Arrow record batches; columns have the Arrow types of [`SqlType::arrow`].
    ///
    /// # Errors
    /// HY000 on an internal fault only.
    pub fn batches(&self) -> Result<Vec<RecordBatch>> {
        let schema = schema_of(&self.columns);
        self.batches.iter().map(|batch| record_batch(&schema, batch)).collect()
    }
}

/// The Arrow schema of a result.
pub(super) fn schema_of(columns: &[ResultColumn]) -> SchemaRef {
    let field = |column: &ResultColumn| Field::new(&column.name, column.sql_type.arrow(), true);
    Arc::new(Schema::new(columns.iter().map(field).collect::<Vec<_>>()))
}

/// A batch as Arrow has it.
pub(super) fn record_batch(schema: &SchemaRef, batch: &Batch) -> Result<RecordBatch> {
    let options = RecordBatchOptions::new().with_row_count(Some(batch.rows));
    Ok(RecordBatch::try_new_with_options(Arc::clone(schema), batch.columns.clone(), &options)?)
}

impl<'r> IntoIterator for &'r ResultSet {
    type Item = Row<'r>;
    type IntoIter = Rows<'r>;

    fn into_iter(self) -> Rows<'r> {
        self.rows()
    }
}

/// The rows of a result, in order.
#[derive(Clone, Debug)]
pub struct Rows<'r> {
    result: &'r ResultSet,
    batch: usize,
    row: usize,
    left: usize,
}

impl<'r> Iterator for Rows<'r> {
    type Item = Row<'r>;

    fn next(&mut self) -> Option<Row<'r>> {
        loop {
            let batch = self.result.batches.get(self.batch)?;
            if self.row < batch.rows {
                let row = Row { columns: &self.result.columns, batch, row: self.row, zone: self.result.zone };
                (self.row, self.left) = (self.row + 1, self.left - 1);
                return Some(row);
            }
            (self.batch, self.row) = (self.batch + 1, 0);
        }
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        (self.left, Some(self.left))
    }
}

impl ExactSizeIterator for Rows<'_> {}

/// One row of a result.
#[derive(Clone, Copy, Debug)]
pub struct Row<'r> {
    columns: &'r [ResultColumn],
    batch: &'r Batch,
    row: usize,
    zone: Zone,
}

impl Row<'_> {
    /// How many columns the row has.
    pub fn width(&self) -> usize {
        self.columns.len()
    }

    /// The columns of the result.
    pub fn columns(&self) -> &[ResultColumn] {
        self.columns
    }

    /// The value in a column, counted from 0, as an element of a slice; [`Row::get`] gives an error instead of a panic.
    ///
    /// # Panics
    /// When there is no such column.
    pub fn value(&self, column: usize) -> Value {
        let count = self.columns.len();
        assert!(
            column < count,
            "there is no column {column}: the result has {}, counted from 0",
            counted(count, "column")
        );
        value_at(&self.batch.columns[column], self.columns[column].sql_type, self.row)
    }

    /// The value in a column as it is shown: an interval of some fields as the text of these, an instant as clocks of the session's
    /// zone show it.
    pub fn shown(&self, column: usize) -> Value {
        let value = self.value(column);
        let value = if self.zone == Zone::UTC { value } else { in_zone(value, self.zone) };
        let Some(TypeLimit::Fields(fields)) = self.columns.get(column).and_then(|info| info.limit) else {
            return value;
        };
        let interval = match value {
            Value::Months(months) => Interval::Months(months),
            Value::Micros(micros) => Interval::Micros(micros),
            other => return other,
        };
        fields.format(interval).map_or(value, Value::Text)
    }

    /// All values as they are shown; see [`Row::shown`].
    pub fn all_shown(&self) -> Vec<Value> {
        (0..self.width()).map(|column| self.shown(column)).collect()
    }

    /// All values.
    pub fn values(&self) -> Vec<Value> {
        (0..self.width()).map(|column| self.value(column)).collect()
    }

    /// The value in a column as a Rust type; `Option` takes NULL.
    ///
    /// # Errors
    /// 42S22 when there is no such column, 22000 when the value is of another type or NULL.
    pub fn get<T: FromValue>(&self, column: usize) -> Result<T> {
        let Some(info) = self.columns.get(column) else {
            let message =
                format!("the result has {}, there is no column {column}", counted(self.columns.len(), "column"));
            return Err(Error::new(SqlState::COLUMN_NOT_FOUND, message).with_help("columns are counted from 0"));
        };
        let value = self.value(column);
        let null = value.is_null();
        T::from_value(value).ok_or_else(|| {
            let found = if null { "NULL".to_owned() } else { info.sql_type.to_string() };
            let message =
                format!("column {:?} holds {found}, not the Rust type {}", info.name, std::any::type_name::<T>());
            Error::new(SqlState::DATA_EXCEPTION, message)
        })
    }
}

impl<'r> Row<'r> {
    /// The value in the one column of this name, without regard to case, as a Rust type.
    ///
    /// # Errors
    /// 42S22 when no column has this name, 42000 when several have, 22000 as [`Row::get`].
    pub fn get_by_name<T: FromValue>(&self, name: &str) -> Result<T> {
        let is_it = |column: &ResultColumn| column.name.eq_ignore_ascii_case(name);
        let mut found = (0..self.columns.len()).filter(|at| is_it(&self.columns[*at]));
        match (found.next(), found.next()) {
            (Some(at), None) => self.get(at),
            (None, _) => {
                let known: Vec<&str> = self.columns.iter().map(|column| column.name.as_str()).collect();
                let error = Error::new(SqlState::COLUMN_NOT_FOUND, format!("the result has no column {name:?}"));
                Err(match nearest(name, known.iter().copied()) {
                    Some(near) => error.with_help(format!("did you mean {near:?}?")),
                    None => error.with_help(format!("its columns are {}", known.join(", "))),
                })
            }
            (Some(_), Some(_)) => {
                let message = format!("several columns of the result are called {name:?}");
                Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                    .with_help("give each a name with AS, or read them by their number"))
            }
        }
    }

    /// The row as a Rust type, such as a tuple.
    ///
    /// # Errors
    /// As [`FromRow::from_row`].
    pub fn read<T: FromRow>(self) -> Result<T> {
        T::from_row(self)
    }

    /// Whether the result has as many columns as were asked for.
    pub(super) fn check_width(&self, wanted: usize) -> Result<()> {
        if self.width() == wanted {
            return Ok(());
        }
        let message = format!(
            "the result has {}, {} asked for",
            counted(self.width(), "column"),
            if wanted == 1 { "one is".to_owned() } else { format!("{wanted} are") }
        );
        Err(Error::new(SqlState::COLUMN_NOT_FOUND, message).with_help("list the columns that are wanted in SELECT"))
    }
}

/// A value with its instants as texts in a time zone.
fn in_zone(value: Value, zone: Zone) -> Value {
    let all = |values: Vec<Value>| values.into_iter().map(|value| in_zone(value, zone)).collect();
    match value {
        Value::Instant(micros) => Value::Untyped(zone.text_of_instant(micros)),
        Value::Array(elements) => Value::Array(all(elements)),
        Value::Row(fields) => Value::Row(all(fields)),
        other => other,
    }
}
