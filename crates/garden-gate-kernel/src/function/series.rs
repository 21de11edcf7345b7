//! `SERIES(from, to, step)`: numbers, days or timestamps, both ends included. The values are made a stretch at a time.

use crate::diagnostic::{Error, Result, SqlState};
use crate::types::{Decimal, MICROS_PER_DAY, SqlType, Value, add_months, approximate, rescale};
use crate::{array_of_all, constant::value_at, keys::from_integer_lanes, problem::Problem};
use arrow::array::{ArrayRef, Float64Array};
use std::sync::Arc;

/// The values of one series: the n-th can be told from n.
#[derive(Clone, Debug)]
pub struct Progression {
    steps: Steps,
    count: u64,
}

#[derive(Clone, Debug)]
enum Steps {
    /// Digits of exact numbers, or microseconds.
    Whole { first: i128, step: i128 },
    /// Each value from the first one, so that errors do not add up.
    Approximate { first: f64, step: f64 },
    /// From the first day on: the 31st stays the last day of each month.
    Months { day: i32, time: i64, step: i32 },
}

fn zero_step() -> Error {
    Error::new(SqlState::DATA_EXCEPTION, "the step of SERIES is zero")
        .with_help("give a step that leads from the first bound to the second")
}

impl Progression {
    const NOTHING: Self = Self { steps: Steps::Whole { first: 0, step: 0 }, count: 0 };

    /// The series of one row; a NULL bound gives no value.
    ///
    /// # Errors
    /// 22000 for a step of zero, 22008 when a step of months leaves the calendar.
    pub fn of(bounds: &[ArrayRef], (sql_type, step_type): (SqlType, SqlType), row: usize) -> Result<Self> {
        let [from, to] = [0, 1].map(|at| value_at(&bounds[at], sql_type, row));
        match (from, to, value_at(&bounds[2], step_type, row)) {
            (Value::Null, ..) | (_, Value::Null, _) | (.., Value::Null) => Ok(Self::NOTHING),
            (Value::Double(from), Value::Double(to), Value::Double(step)) => approximate_steps(from, to, step),
            (from @ (Value::Date(_) | Value::Timestamp(_) | Value::Instant(_)), to, step) => {
                times(micros(&from), micros(&to), &step)
            }
            (from, to, step) => {
                let scale = sql_type.digits().map_or(0, |(_, scale)| scale);
                let digits = |value: &Value| {
                    if let Value::Integer(value) = value {
                        Some(i128::from(*value))
                    } else if let Value::Numeric(value) = value {
                        rescale(value.unscaled, value.scale, scale)
                    } else {
                        None
                    }
                };
                match (digits(&from), digits(&to), digits(&step)) {
                    (Some(from), Some(to), Some(step)) => whole(from, to, step),
                    _ => Err(Error::from_facts(&Problem::Internal("numbers were expected as bounds of a series"))),
                }
            }
        }
    }

    /// How many values there are.
    #[expect(clippy::len_without_is_empty, reason = "there is always something to count")]
    pub fn len(&self) -> u64 {
        self.count
    }

    /// So many of the values, from the one at `start`, counted from 0.
    pub fn values(&self, sql_type: SqlType, start: u64, count: usize) -> Result<ArrayRef> {
        let places = start..start + count as u64;
        match self.steps {
            Steps::Approximate { first, step } => {
                Ok(Arc::new(places.map(|at| first + approximate(at) * step + 0.0).collect::<Float64Array>()))
            }
            Steps::Months { day, time, step } => {
                let value = |at: u64| {
                    let months = i32::try_from(at).ok().and_then(|at| step.checked_mul(at));
                    let day = months.and_then(|months| add_months(day, months));
                    let day = day.ok_or_else(|| Error::from_facts(&Problem::OutsideCalendar))?;
                    Ok(i64::from(day) * MICROS_PER_DAY + time)
                };
                lanes(places.map(value).collect::<Result<_>>()?, sql_type)
            }
            Steps::Whole { first, step } => {
                let value = |at: u64| first + step * i128::from(at);
                if let SqlType::Numeric { scale, .. } = sql_type {
                    let values: Vec<Value> =
                        places.map(|at| Value::Numeric(Decimal { unscaled: value(at), scale })).collect();
                    return array_of_all(&values, sql_type);
                }
                let narrow = |at: u64| i64::try_from(value(at));
                let overflow = |_| Error::from_facts(&Problem::Overflow(sql_type));
                lanes(places.map(narrow).collect::<std::result::Result<_, _>>().map_err(overflow)?, sql_type)
            }
        }
    }
}

/// Integers as they are, microseconds as days or timestamps.
fn lanes(mut values: Vec<i64>, sql_type: SqlType) -> Result<ArrayRef> {
    if sql_type == SqlType::Date {
        values.iter_mut().for_each(|micros| *micros = micros.div_euclid(MICROS_PER_DAY));
    }
    Ok(from_integer_lanes(values, None, &sql_type.arrow()))
}

fn micros(value: &Value) -> i64 {
    if let Value::Date(days) = value {
        i64::from(*days) * MICROS_PER_DAY
    } else if let Value::Timestamp(micros) | Value::Instant(micros) = value {
        *micros
    } else {
        0
    }
}

fn approximate_steps(first: f64, to: f64, step: f64) -> Result<Progression> {
    if step == 0.0 {
        return Err(zero_step());
    }
    let last = ((to - first) / step + 1e-9).floor();
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "past 2^53 steps the last ones are the same number"
    )]
    let count = if last < 0.0 { 0 } else { last.min(9e15) as u64 + 1 };
    Ok(Progression { steps: Steps::Approximate { first, step }, count })
}

fn whole(first: i128, to: i128, step: i128) -> Result<Progression> {
    if step == 0 {
        return Err(zero_step());
    }
    let count = if (to - first).signum() == -step.signum() { 0 } else { (to - first) / step + 1 };
    Ok(Progression { steps: Steps::Whole { first, step }, count: u64::try_from(count).unwrap_or(u64::MAX) })
}

/// Days and timestamps, by an interval of months or of days and seconds.
fn times(start: i64, end: i64, step: &Value) -> Result<Progression> {
    match step {
        Value::Micros(step) => whole(start.into(), end.into(), (*step).into()),
        Value::Months(0) => Err(zero_step()),
        Value::Months(step) => {
            let (days, time) = (start.div_euclid(MICROS_PER_DAY), start.rem_euclid(MICROS_PER_DAY));
            let outside = || Error::from_facts(&Problem::OutsideCalendar);
            let day = i32::try_from(days).map_err(|_| outside())?;
            let steps = Steps::Months { day, time, step: *step };
            for at in 0_i32.. {
                let months = step.checked_mul(at).ok_or_else(outside)?;
                let value = i64::from(add_months(day, months).ok_or_else(outside)?) * MICROS_PER_DAY + time;
                if (*step > 0 && value > end) || (*step < 0 && value < end) {
                    return Ok(Progression { steps, count: u64::try_from(at).unwrap_or(0) });
                }
            }
            Err(outside())
        }
        Value::Null
        | Value::Boolean(_)
        | Value::Integer(_)
        | Value::Numeric(_)
        | Value::Double(_)
        | Value::Text(_)
        | Value::Date(_)
        | Value::Time(_)
        | Value::TimeTz(_)
        | Value::Timestamp(_)
        | Value::Instant(_)
        | Value::Binary(_)
        | Value::Uuid(_)
        | Value::IpAddress(_)
        | Value::Array(_)
        | Value::Row(_)
        | Value::Untyped(_) => {
            Err(Error::from_facts(&Problem::Internal("an interval was expected as the step of a series")))
        }
    }
}
