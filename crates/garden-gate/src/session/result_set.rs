use crate::diagnostic::{Error, Note, Result, SqlState, counted};
use crate::kernel::{Batch, value_at};
use crate::types::{Decimal, DeclaredType, Interval, SqlType, TypeLimit, Value, Zone};
use arrow::array::RecordBatch;
use arrow::datatypes::{Field, Schema};
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
    pub fn rows(&self) -> impl Iterator<Item = Row<'_>> {
        let (columns, zone) = (&self.columns, self.zone);
        self.batches.iter().flat_map(move |batch| (0..batch.rows).map(move |row| Row { columns, batch, row, zone }))
    }

    /// The rows as Arrow record batches; columns have the Arrow types of [`SqlType::arrow`].
    ///
    /// # Errors
    /// HY000 on an internal fault only.
    pub fn batches(&self) -> Result<Vec<RecordBatch>> {
        let field = |column: &ResultColumn| Field::new(&column.name, column.sql_type.arrow(), true);
        let schema = Arc::new(Schema::new(self.columns.iter().map(field).collect::<Vec<_>>()));
        let record = |batch: &Batch| {
            let options = arrow::array::RecordBatchOptions::new().with_row_count(Some(batch.rows));
            RecordBatch::try_new_with_options(Arc::clone(&schema), batch.columns.clone(), &options)
        };
        Ok(self.batches.iter().map(record).collect::<Result<_, _>>()?)
    }
}

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

    /// The value in a column, counted from 0; NULL past the last.
    pub fn value(&self, column: usize) -> Value {
        match (self.columns.get(column), self.batch.columns.get(column)) {
            (Some(info), Some(array)) => value_at(array, info.sql_type, self.row),
            _ => Value::Null,
        }
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
            return Err(Error::new(SqlState::COLUMN_NOT_FOUND, message));
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

/// A Rust type that a value can be read as.
pub trait FromValue: Sized {
    /// The value, or `None` when it is of another type.
    fn from_value(value: Value) -> Option<Self>;
}

macro_rules! from_value {
    ($($target:ty => $($pattern:pat => $result:expr),+;)*) => {$(
        impl FromValue for $target {
            fn from_value(value: Value) -> Option<Self> {
                match value {
                    $($pattern => $result,)+
                    _ => None,
                }
            }
        }
    )*};
}

from_value! {
    bool => Value::Boolean(value) => Some(value);
    i64 => Value::Integer(value) => Some(value);
    i32 => Value::Integer(value) => Self::try_from(value).ok();
    f64 => Value::Double(value) => Some(value), Value::Integer(value) => Some(crate::types::approximate(value)),
        Value::Numeric(value) => Some(value.to_f64());
    Decimal => Value::Numeric(value) => Some(value), Value::Integer(value) => Some(Self { unscaled: value.into(), scale: 0 });
    String => Value::Text(value) => Some(value);
}

impl FromValue for Value {
    fn from_value(value: Value) -> Option<Self> {
        Some(value)
    }
}

impl<T: FromValue> FromValue for Option<T> {
    fn from_value(value: Value) -> Option<Self> {
        if value.is_null() { Some(None) } else { T::from_value(value).map(Some) }
    }
}
