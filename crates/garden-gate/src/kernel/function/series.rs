//! `SERIES(from, to, step)`: numbers, days or timestamps, both ends included.

use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{array_of_all, constant::value_at, problem::Problem};
use crate::types::{Decimal, MICROS_PER_DAY, SqlType, Value, add_months, rescale};
use arrow::array::ArrayRef;

/// Values of one series at most.
const MOST_VALUES: usize = 100_000_000;

/// For each row how many values its series has, and all values of all rows. A NULL bound gives none.
pub(crate) fn series(
    bounds: &[ArrayRef],
    (sql_type, step_type): (SqlType, SqlType),
) -> Result<(Vec<usize>, Vec<ArrayRef>)> {
    let rows = bounds[0].len();
    let mut counts = Vec::with_capacity(rows);
    let mut values = Vec::new();
    for row in 0..rows {
        let before = values.len();
        let [from, to] = [0, 1].map(|at| value_at(&bounds[at], sql_type, row));
        let step = value_at(&bounds[2], step_type, row);
        if !from.is_null() && !to.is_null() && !step.is_null() {
            one(&from, &to, &step, sql_type, &mut values)?;
        }
        counts.push(values.len() - before);
    }
    Ok((counts, vec![array_of_all(&values, sql_type)?]))
}

fn zero_step() -> Error {
    Error::new(SqlState::DATA_EXCEPTION, "the step of SERIES is zero")
        .with_help("give a step that leads from the first bound to the second")
}

fn too_many() -> Error {
    Error::new(SqlState::MEMORY, format!("SERIES would give more than {MOST_VALUES} values"))
}

fn one(from: &Value, to: &Value, step: &Value, sql_type: SqlType, values: &mut Vec<Value>) -> Result<()> {
    match (from, to, step) {
        (Value::Double(from), Value::Double(to), Value::Double(step)) => {
            if *step == 0.0 {
                return Err(zero_step());
            }
            // Each value from the first one, so that errors do not add up.
            let count = ((to - from) / step + 1e-9).floor();
            for at in 0_u32.. {
                if f64::from(at) > count {
                    break;
                }
                if values.len() >= MOST_VALUES {
                    return Err(too_many());
                }
                values.push(Value::Double(from + f64::from(at) * step));
            }
            Ok(())
        }
        (Value::Date(_) | Value::Timestamp(_) | Value::Instant(_), _, step) => times(from, to, step, values),
        _ => {
            let scale = sql_type.digits().map_or(0, |(_, scale)| scale);
            let digits = |value: &Value| match value {
                Value::Integer(value) => Some(i128::from(*value)),
                Value::Numeric(value) => rescale(value.unscaled, value.scale, scale),
                _ => None,
            };
            let (Some(from), Some(to), Some(step)) = (digits(from), digits(to), digits(step)) else { return Ok(()) };
            let make = |unscaled: i128| match sql_type {
                SqlType::Numeric { .. } => Value::Numeric(Decimal { unscaled, scale }),
                _ => Value::Integer(i64::try_from(unscaled).unwrap_or(0)),
            };
            count_up(from, to, step, |value| values.push(make(value)))
        }
    }
}

fn count_up(from: i128, to: i128, step: i128, mut push: impl FnMut(i128)) -> Result<()> {
    if step == 0 {
        return Err(zero_step());
    }
    let count = (to - from) / step;
    if (to - from).signum() == -step.signum() {
        return Ok(());
    }
    let count = usize::try_from(count).ok().filter(|count| *count < MOST_VALUES).ok_or_else(too_many)?;
    let mut value = from;
    for _ in 0..=count {
        push(value);
        value += step;
    }
    Ok(())
}

/// Days and timestamps, by an interval of months or of days and seconds.
fn times(from: &Value, to: &Value, step: &Value, values: &mut Vec<Value>) -> Result<()> {
    let micros = |value: &Value| match value {
        Value::Date(days) => i64::from(*days) * MICROS_PER_DAY,
        Value::Timestamp(micros) | Value::Instant(micros) => *micros,
        _ => 0,
    };
    let make = |micros: i64| match from {
        Value::Date(_) => Value::Date(i32::try_from(micros.div_euclid(MICROS_PER_DAY)).unwrap_or(0)),
        Value::Instant(_) => Value::Instant(micros),
        _ => Value::Timestamp(micros),
    };
    let (start, end) = (micros(from), micros(to));
    match step {
        Value::Micros(step) => count_up(start.into(), end.into(), (*step).into(), |value| {
            values.push(make(i64::try_from(value).unwrap_or(0)))
        }),
        Value::Months(0) => Err(zero_step()),
        Value::Months(step) => {
            let (days, time) = (start.div_euclid(MICROS_PER_DAY), start.rem_euclid(MICROS_PER_DAY));
            for at in 0.. {
                // From the first day on: the 31st stays the last day of each month.
                let months = step.checked_mul(at).ok_or_else(too_many)?;
                let day = i32::try_from(days).ok().and_then(|days| add_months(days, months));
                let Some(day) = day else { return Err(Error::from_facts(&Problem::OutsideCalendar)) };
                let value = i64::from(day) * MICROS_PER_DAY + time;
                if (*step > 0 && value > end) || (*step < 0 && value < end) {
                    return Ok(());
                }
                values.push(make(value));
            }
            Ok(())
        }
        _ => Ok(()),
    }
}
