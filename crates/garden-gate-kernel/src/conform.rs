//! The one gate for values that come from outside the kernels (programs, parameters, files): an Arrow array can hold what its SQL type
//! forbids, and every kernel relies on what this module has let through.
//!
//! What has one right form is brought to it: a negative zero becomes zero, CHAR and BINARY are filled up, blanks past the length of a
//! VARCHAR go. All else is a misfit: NaN and infinities, decimals of too many digits, texts that are too long, days outside the years
//! 1 to 9999, times of day outside the day.

use super::cast::{binary_length, limit_length, padded};
use super::composite::relist;
use super::keys::integer_lanes;
use super::problem::Problem;
use crate::diagnostic::{Error, Facts};
use crate::types::{FIRST_DAY, LAST_DAY, MICROS_PER_DAY, SqlType};
use arrow::array::{Array, ArrayRef, AsArray, StructArray};
use arrow::datatypes::{ArrowPrimitiveType, Decimal64Type, Decimal128Type, Float32Type, Float64Type};
use std::sync::Arc;

/// A lane that holds no value of the type.
#[derive(Debug)]
pub struct Misfit {
    /// Its number, from 0.
    pub row: usize,
    problem: Problem,
}

impl Misfit {
    /// The error of the statement.
    pub(super) fn into_error(self) -> Error {
        Error::from_facts(&self.problem)
    }

    /// The error for a row of a table, counted from 1 after `before` others.
    pub fn of_row(&self, before: usize, column: &str) -> Error {
        let message = format!("row {}, column {column:?}: {}", before + self.row + 1, self.problem);
        let error = Error::new(self.problem.state(), message);
        match self.problem.help() {
            Some(help) => error.with_help(help),
            None => error,
        }
    }
}

/// The array with every valid lane a value of the type, in the form that the kernels rely on. O(lanes), and nothing is copied where
/// all is well; for types whose Arrow arrays hold only values of theirs O(1).
pub fn conform(array: &ArrayRef, sql_type: SqlType) -> Result<ArrayRef, Misfit> {
    match sql_type {
        SqlType::Null
        | SqlType::Boolean
        | SqlType::SmallInt
        | SqlType::Integer
        | SqlType::BigInt
        | SqlType::Uuid
        | SqlType::IpAddress
        | SqlType::YearMonth
        | SqlType::DayTime
        | SqlType::Varchar(None)
        | SqlType::Varbinary(None) => Ok(Arc::clone(array)),
        SqlType::Numeric { precision, .. } if precision <= crate::types::LONG_PRECISION => {
            let most = 10_u64.pow(precision.into());
            let lanes = array.as_primitive::<Decimal64Type>();
            all(array, sql_type, |row| lanes.value(row).unsigned_abs() < most)
        }
        SqlType::Numeric { precision, .. } => {
            let most = 10_u128.pow(precision.into());
            let lanes = array.as_primitive::<Decimal128Type>();
            all(array, sql_type, |row| lanes.value(row).unsigned_abs() < most)
        }
        SqlType::Real => float::<Float32Type>(array, sql_type, |value| value.is_finite(), |value| value + 0.0),
        SqlType::Double => float::<Float64Type>(array, sql_type, |value| value.is_finite(), |value| value + 0.0),
        SqlType::Char(length) => {
            whole(array, |array| Ok(padded(&limit_length(array, Some(length), sql_type)?, length)))
        }
        SqlType::Varchar(length) => whole(array, |array| limit_length(array, length, sql_type)),
        SqlType::Binary(_) | SqlType::Varbinary(_) => whole(array, |array| binary_length(array, sql_type)),
        SqlType::Date => within(array, i64::from(FIRST_DAY), i64::from(LAST_DAY) + 1, outside_calendar),
        SqlType::Timestamp | SqlType::TimestampTz => {
            let (first, last) = (i64::from(FIRST_DAY), i64::from(LAST_DAY) + 1);
            within(array, first * MICROS_PER_DAY, last * MICROS_PER_DAY, outside_calendar)
        }
        SqlType::Time | SqlType::TimeTz => within(array, 0, MICROS_PER_DAY, outside_day),
        SqlType::Array(element) => {
            let list = array.as_list::<i32>();
            let values = conform(list.values(), *element).map_err(|misfit| {
                let row = list
                    .value_offsets()
                    .partition_point(|start| usize::try_from(*start).is_ok_and(|start| start <= misfit.row))
                    .saturating_sub(1);
                Misfit { row, ..misfit }
            })?;
            if Arc::ptr_eq(&values, list.values()) { Ok(Arc::clone(array)) } else { Ok(relist(list, values, *element)) }
        }
        SqlType::Row(fields) => {
            let rows = array.as_struct();
            let columns = rows.columns().iter().zip(fields).map(|(column, field)| conform(column, field.sql_type));
            let columns = columns.collect::<Result<Vec<_>, _>>()?;
            let same = columns.iter().zip(rows.columns()).all(|(new, old)| Arc::ptr_eq(new, old));
            if same {
                return Ok(Arc::clone(array));
            }
            Ok(Arc::new(StructArray::new(rows.fields().clone(), columns, rows.nulls().cloned())))
        }
    }
}

fn outside_calendar() -> Problem {
    Problem::NoSuchMoment { range: "the years 1 to 9999" }
}

fn outside_day() -> Problem {
    Problem::NoSuchMoment { range: "one day" }
}

fn first_bad(array: &ArrayRef, fits: impl Fn(usize) -> bool) -> Option<usize> {
    (0..array.len()).find(|row| array.is_valid(*row) && !fits(*row))
}

fn all(array: &ArrayRef, sql_type: SqlType, fits: impl Fn(usize) -> bool) -> Result<ArrayRef, Misfit> {
    match first_bad(array, fits) {
        None => Ok(Arc::clone(array)),
        Some(row) => Err(Misfit { row, problem: Problem::TooManyDigits { target: sql_type } }),
    }
}

fn float<T: ArrowPrimitiveType>(
    array: &ArrayRef,
    sql_type: SqlType,
    is_finite: impl Fn(T::Native) -> bool,
    positive: impl Fn(T::Native) -> T::Native,
) -> Result<ArrayRef, Misfit>
where
    T::Native: std::fmt::Display,
{
    let lanes = array.as_primitive::<T>();
    if let Some(row) = first_bad(array, |row| is_finite(lanes.value(row))) {
        let problem = Problem::OutOfRange { value: lanes.value(row).to_string(), target: sql_type };
        return Err(Misfit { row, problem });
    }
    Ok(Arc::new(lanes.unary::<_, T>(positive)))
}

fn within(array: &ArrayRef, first: i64, end: i64, problem: impl Fn() -> Problem) -> Result<ArrayRef, Misfit> {
    let Some(lanes) = integer_lanes(array) else { return Ok(Arc::clone(array)) };
    match first_bad(array, |row| (first..end).contains(&lanes[row])) {
        None => Ok(Arc::clone(array)),
        Some(row) => Err(Misfit { row, problem: problem() }),
    }
}

/// A check that says nothing of the lane it fails at: it is looked for when there is one.
fn whole(array: &ArrayRef, check: impl Fn(&ArrayRef) -> Result<ArrayRef, Problem>) -> Result<ArrayRef, Misfit> {
    check(array).map_err(|problem| {
        let row = (0..array.len()).find(|row| check(&array.slice(*row, 1)).is_err()).unwrap_or(0);
        Misfit { row, problem }
    })
}
