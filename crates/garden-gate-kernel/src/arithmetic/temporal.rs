//! Dates, times and intervals (clauses 6.41 and 6.43). A day past a month's end becomes its last day.

use super::lanes::{side, try_zip};
use crate::types::{ArithmeticOp as Op, MICROS_PER_DAY, SqlType as T, add_months, approximate, whole_part};
use crate::{Lane, problem::Problem};
use arrow::array::{Array, ArrayRef, ArrowPrimitiveType, PrimitiveArray};
use arrow::compute;
use arrow::datatypes::{
    DataType, Date32Type, Decimal128Type, DurationMicrosecondType as Micros, Float64Type, Int64Type,
    IntervalYearMonthType as Months, Time64MicrosecondType as Time, TimestampMicrosecondType as Timestamp,
};
use std::sync::Arc;

/// Microseconds of the first and the day after the last day of the calendar.
const FIRST: i64 = crate::types::FIRST_DAY as i64 * MICROS_PER_DAY;
const PAST_LAST: i64 = 2_932_897 * MICROS_PER_DAY;

/// An operation with a date, time, timestamp or interval on one side at least.
pub(super) fn binary(op: Op, left: &Lane, right: &Lane, result: T) -> Result<ArrayRef, Problem> {
    // `interval + date` is `date + interval`; `number * interval` likewise.
    let interval_first = is_interval(left) && !is_interval(right) && matches!(op, Op::Add);
    let number_first = op == Op::Multiply && !is_interval(left);
    let (left, right) = if interval_first || number_first { (right, left) } else { (left, right) };
    if matches!(op, Op::Multiply | Op::Divide) {
        return scale(op, left, right, result);
    }
    let sign: i64 = if op == Op::Subtract { -1 } else { 1 };
    match (left.array().data_type(), right.array().data_type()) {
        (DataType::Interval(_), DataType::Interval(_)) => {
            let sum = |a: i32, b: i32| if sign < 0 { a.checked_sub(b) } else { a.checked_add(b) };
            let sum = |a, b| sum(a, b).ok_or(Problem::Overflow(result));
            done(try_zip::<Months, Months, Months, _>(side(left), side(right), sum))
        }
        (DataType::Duration(_), DataType::Duration(_)) => {
            let sum = |a: i64, b: i64| sign.checked_mul(b).and_then(|b| a.checked_add(b));
            let sum = |a, b| sum(a, b).ok_or(Problem::Overflow(result));
            done(try_zip::<Micros, Micros, Micros, _>(side(left), side(right), sum))
        }
        (_, DataType::Interval(_)) => shift_months(left, right, sign),
        (_, DataType::Duration(_)) => shift_micros(left, right, sign),
        _ => difference(left, right, result),
    }
}

/// A date or timestamp plus or minus months.
fn shift_months(left: &Lane, right: &Lane, sign: i64) -> Result<ArrayRef, Problem> {
    if *left.array().data_type() == DataType::Date32 {
        let shift = |days, months: i32| {
            let months = if sign < 0 { months.checked_neg() } else { Some(months) };
            months.and_then(|months| add_months(days, months)).ok_or(Problem::OutsideCalendar)
        };
        return done(try_zip::<Date32Type, Months, Date32Type, _>(side(left), side(right), shift));
    }
    let shift = |micros: i64, months: i32| shift_timestamp(micros, months, sign);
    done(try_zip::<Timestamp, Months, Timestamp, _>(side(left), side(right), shift))
}

/// A date, time or timestamp plus or minus microseconds; a time goes round the clock.
fn shift_micros(left: &Lane, right: &Lane, sign: i64) -> Result<ArrayRef, Problem> {
    let moved = |from: Option<i64>, micros: i64| {
        within(sign.checked_mul(micros).zip(from).and_then(|(by, from)| from.checked_add(by)))
    };
    if let DataType::Date32 = left.array().data_type() {
        let shift = |days: i32, micros: i64| {
            if micros % MICROS_PER_DAY != 0 {
                return Err(Problem::PartOfDay);
            }
            let moved = moved(i64::from(days).checked_mul(MICROS_PER_DAY), micros)?;
            i32::try_from(moved.div_euclid(MICROS_PER_DAY)).map_err(|_| Problem::OutsideCalendar)
        };
        done(try_zip::<Date32Type, Micros, Date32Type, _>(side(left), side(right), shift))
    } else if let DataType::Time64(_) = left.array().data_type() {
        let shift = |at: i64, micros: i64| {
            Ok((at % MICROS_PER_DAY + sign * (micros % MICROS_PER_DAY)).rem_euclid(MICROS_PER_DAY))
        };
        done(try_zip::<Time, Micros, Time, _>(side(left), side(right), shift))
    } else {
        let shift = |at: i64, micros: i64| moved(Some(at), micros);
        done(try_zip::<Timestamp, Micros, Timestamp, _>(side(left), side(right), shift))
    }
}

/// The time between two dates, times or timestamps. Values that come from files may lie outside the calendar: checked.
fn difference(left: &Lane, right: &Lane, result: T) -> Result<ArrayRef, Problem> {
    let gap = |a: i64, b: i64| a.checked_sub(b).ok_or(Problem::Overflow(result));
    if let DataType::Date32 = left.array().data_type() {
        let gap =
            |a: i32, b: i32| (i64::from(a) - i64::from(b)).checked_mul(MICROS_PER_DAY).ok_or(Problem::Overflow(result));
        done(try_zip::<Date32Type, Date32Type, Micros, _>(side(left), side(right), gap))
    } else if let DataType::Time64(_) = left.array().data_type() {
        done(try_zip::<Time, Time, Micros, _>(side(left), side(right), gap))
    } else {
        done(try_zip::<Timestamp, Timestamp, Micros, _>(side(left), side(right), gap))
    }
}

fn is_interval(lane: &Lane) -> bool {
    matches!(lane.array().data_type(), DataType::Interval(_) | DataType::Duration(_))
}

fn done<O: ArrowPrimitiveType>(array: Result<PrimitiveArray<O>, Problem>) -> Result<ArrayRef, Problem> {
    array.map(|array| Arc::new(array) as ArrayRef)
}

/// A point in time inside the calendar.
fn within(micros: Option<i64>) -> Result<i64, Problem> {
    micros.filter(|micros| (FIRST..PAST_LAST).contains(micros)).ok_or(Problem::OutsideCalendar)
}

fn shift_timestamp(micros: i64, months: i32, sign: i64) -> Result<i64, Problem> {
    let months = if sign < 0 { months.checked_neg() } else { Some(months) }.ok_or(Problem::OutsideCalendar)?;
    let days = i32::try_from(micros.div_euclid(MICROS_PER_DAY)).map_err(|_| Problem::OutsideCalendar)?;
    let moved = add_months(days, months).ok_or(Problem::OutsideCalendar)?;
    Ok(i64::from(moved) * MICROS_PER_DAY + micros.rem_euclid(MICROS_PER_DAY))
}

/// An interval times or divided by a number; a fraction of a month or a microsecond is dropped.
#[expect(
    clippy::wildcard_enum_match_arm,
    reason = "the types of arrays are not ours; every other number is an integer"
)]
fn scale(op: Op, interval: &Lane, number: &Lane, result: T) -> Result<ArrayRef, Problem> {
    let as_type = |to: DataType| -> Result<Lane, Problem> {
        let array = compute::cast(number.array(), &to).map_err(|_| Problem::Overflow(result))?;
        Ok(Lane::like(array, number.is_constant()))
    };
    match *number.array().data_type() {
        DataType::Decimal64(_, digits) | DataType::Decimal128(_, digits) => {
            let number = as_type(DataType::Decimal128(38, digits))?;
            let unit = 10_i128.checked_pow(digits.unsigned_abs().into()).ok_or(Problem::Overflow(result))?;
            let overflow = || Problem::Overflow(result);
            scaled::<Decimal128Type>(interval, &number, result, |value, by| match (op, by) {
                (Op::Divide, 0) => Err(Problem::DivisionByZero),
                (Op::Divide, by) => {
                    value.checked_mul(unit).and_then(|value| value.checked_div(by)).ok_or_else(overflow)
                }
                _ => value.checked_mul(by).map(|value| value / unit).ok_or_else(overflow),
            })
        }
        DataType::Float32 | DataType::Float64 => {
            scaled::<Float64Type>(interval, &as_type(DataType::Float64)?, result, |value, by| {
                let value = approximate(i64::try_from(value).map_err(|_| Problem::Overflow(result))?);
                let value = match op {
                    Op::Divide if by == 0.0 => return Err(Problem::DivisionByZero),
                    Op::Divide => value / by,
                    Op::Add | Op::Subtract | Op::Multiply => value * by,
                };
                whole_part(value).map(i128::from).ok_or(Problem::Overflow(result))
            })
        }
        _ => scaled::<Int64Type>(interval, &as_type(DataType::Int64)?, result, |value, by| match (op, by) {
            (Op::Divide, 0) => Err(Problem::DivisionByZero),
            (Op::Divide, by) => Ok(value / i128::from(by)),
            _ => Ok(value * i128::from(by)),
        }),
    }
}

/// Months or microseconds, each changed by a number.
fn scaled<N: ArrowPrimitiveType>(
    interval: &Lane,
    number: &Lane,
    result: T,
    apply: impl Fn(i128, N::Native) -> Result<i128, Problem>,
) -> Result<ArrayRef, Problem> {
    if result == T::YearMonth {
        let months = |value: i32, by| {
            apply(value.into(), by).and_then(|months| i32::try_from(months).map_err(|_| Problem::Overflow(result)))
        };
        return done(try_zip::<Months, N, Months, _>(side(interval), side(number), months));
    }
    let micros = |value: i64, by| {
        apply(value.into(), by).and_then(|micros| i64::try_from(micros).map_err(|_| Problem::Overflow(result)))
    };
    done(try_zip::<Micros, N, Micros, _>(side(interval), side(number), micros))
}
