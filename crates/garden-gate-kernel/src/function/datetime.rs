//! Functions of days, times and intervals (clauses 6.30, 6.35, 6.37).

use super::{Arguments, Problem};
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::types::{
    ExtractField as X, MICROS_PER_DAY, MICROS_PER_SECOND, SqlType, calendar_parts, date_parts, month_start,
};
use arrow::array::{Array, ArrayRef};

const HOUR: i64 = 3600 * MICROS_PER_SECOND;
const MINUTE: i64 = 60 * MICROS_PER_SECOND;

/// A field of every row, by the type of the source; seconds in millionths.
pub(super) fn extract(field: X, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let lanes = integer_lanes(&array).unwrap_or_default();
    let of = |value: fn(i64) -> i64| -> Vec<i64> {
        lanes.iter().enumerate().map(|(row, at)| if array.is_valid(row) { value(*at) } else { 0 }).collect()
    };
    let from = arguments.types[0];
    let values = match (of_day(field), of_micros(field)) {
        (Some(part), _) if from == SqlType::Date => of(part),
        (Some(part), _) if matches!(from, SqlType::Timestamp | SqlType::TimestampTz) => {
            let days = lanes.iter().enumerate();
            days.map(|(row, at)| if array.is_valid(row) { part(at.div_euclid(MICROS_PER_DAY)) } else { 0 }).collect()
        }
        (_, Some(part)) if matches!(from, SqlType::Timestamp | SqlType::TimestampTz) => {
            let times = lanes.iter().enumerate();
            times.map(|(row, at)| if array.is_valid(row) { part(at.rem_euclid(MICROS_PER_DAY)) } else { 0 }).collect()
        }
        (_, Some(part)) if matches!(from, SqlType::Time | SqlType::TimeTz | SqlType::DayTime) => of(part),
        _ if from == SqlType::YearMonth && field == X::Year => of(|months| months / 12),
        _ if from == SqlType::YearMonth => of(|months| months % 12),
        _ => return Err(Problem::Internal("a value with such a field was expected")),
    };
    if values.iter().any(|value| i32::try_from(*value).is_err()) {
        return Err(Problem::Overflow(arguments.result));
    }
    Ok(from_integer_lanes(values, array.nulls().cloned(), &arguments.result.arrow()))
}

/// A field of the calendar, of a number of days since 1970.
fn of_day(field: X) -> Option<fn(i64) -> i64> {
    fn day(days: i64) -> i32 {
        i32::try_from(days).unwrap_or(0)
    }
    fn calendar<const PART: usize>(days: i64) -> i64 {
        i64::from(calendar_parts(day(days))[PART])
    }
    Some(match field {
        X::Year => |days| i64::from(date_parts(day(days)).0),
        X::Month => |days| i64::from(date_parts(day(days)).1),
        X::Day => |days| i64::from(date_parts(day(days)).2),
        X::Quarter => calendar::<0>,
        X::Week => calendar::<1>,
        X::WeekYear => calendar::<2>,
        X::DayOfWeek => calendar::<3>,
        X::DayOfYear => calendar::<4>,
        X::Hour | X::Minute | X::Second | X::TimezoneHour | X::TimezoneMinute => return None,
    })
}

/// A field of a time of day or of an interval in microseconds; moments are kept in UTC, whose offset is none.
fn of_micros(field: X) -> Option<fn(i64) -> i64> {
    Some(match field {
        X::Day => |micros| micros / MICROS_PER_DAY,
        X::Hour => |micros| micros % MICROS_PER_DAY / HOUR,
        X::Minute => |micros| micros % HOUR / MINUTE,
        X::Second => |micros| micros % MINUTE,
        X::TimezoneHour | X::TimezoneMinute => |_| 0,
        X::Year | X::Month | X::Quarter | X::Week | X::WeekYear | X::DayOfWeek | X::DayOfYear => return None,
    })
}

/// The microseconds of a unit of the day.
fn length_of(unit: X) -> Option<i64> {
    match unit {
        X::Hour => Some(HOUR),
        X::Minute => Some(MINUTE),
        X::Second => Some(MICROS_PER_SECOND),
        X::TimezoneHour | X::TimezoneMinute => Some(MICROS_PER_DAY),
        X::Year | X::Quarter | X::Month | X::Week | X::Day | X::WeekYear | X::DayOfWeek | X::DayOfYear => None,
    }
}

/// The first day of the unit of the calendar that a day lies in.
fn first_day(unit: X, days: i32) -> Option<i32> {
    let (year, month, _) = date_parts(days);
    match unit {
        X::Year => month_start(year, 1),
        X::Quarter => month_start(year, (month - 1) / 3 * 3 + 1),
        X::Month => month_start(year, month),
        X::Week => Some(days - (calendar_parts(days)[3] - 1)),
        X::Day
        | X::WeekYear
        | X::DayOfWeek
        | X::DayOfYear
        | X::Hour
        | X::Minute
        | X::Second
        | X::TimezoneHour
        | X::TimezoneMinute => Some(days),
    }
}

/// Days, timestamps and times of day at the beginning of the unit that they lie in; a week begins on Monday (ISO 8601).
pub(super) fn truncate_to(unit: X, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let lanes = integer_lanes(&array).unwrap_or_default();
    let is_date = arguments.types[0] == SqlType::Date;
    let one = |value: i64| {
        if let Some(unit) = length_of(unit) {
            return Some(value - value.rem_euclid(unit));
        }
        let days = i32::try_from(if is_date { value } else { value.div_euclid(MICROS_PER_DAY) }).ok()?;
        let first = i64::from(first_day(unit, days)?);
        Some(if is_date { first } else { first * MICROS_PER_DAY })
    };
    let rows = lanes.iter().enumerate();
    let values = rows.map(|(row, value)| if array.is_valid(row) { one(*value) } else { Some(0) });
    let values = values.collect::<Option<Vec<i64>>>().ok_or(Problem::OutsideCalendar)?;
    let lowest = i64::from(crate::types::FIRST_DAY) * if is_date { 1 } else { MICROS_PER_DAY };
    let of_day = matches!(arguments.types[0], SqlType::Time | SqlType::TimeTz);
    if !of_day && values.iter().any(|value| *value < lowest) {
        return Err(Problem::OutsideCalendar);
    }
    Ok(from_integer_lanes(values, array.nulls().cloned(), &arguments.result.arrow()))
}

/// Times without the digits of their seconds past the first so many.
pub(super) fn second_digits(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (array, digits) = (arguments.array(0)?, arguments.array(1)?);
    let (lanes, digits) = (integer_lanes(&array).unwrap_or_default(), integer_lanes(&digits).unwrap_or_default());
    let cut = |(micros, digits): (&i64, &i64)| {
        let unit = u32::try_from(6 - digits).ok().and_then(|power| 10_i64.checked_pow(power)).unwrap_or(1);
        micros - micros.rem_euclid(unit)
    };
    let values = lanes.iter().zip(digits.iter()).map(cut).collect();
    Ok(from_integer_lanes(values, array.nulls().cloned(), &arguments.result.arrow()))
}

/// Intervals without what is smaller than a unit, toward zero (clause 6.13, general rule 19).
pub(super) fn interval_fields(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    by_unit(arguments, |interval, unit| interval - interval % unit)
}

/// How many units are in intervals.
pub(super) fn field_count(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    by_unit(arguments, |interval, unit| interval / unit)
}

fn by_unit(arguments: &Arguments<'_>, apply: impl Fn(i64, i64) -> i64) -> Result<ArrayRef, Problem> {
    let (array, units) = (arguments.array(0)?, arguments.array(1)?);
    let (lanes, units) = (integer_lanes(&array).unwrap_or_default(), integer_lanes(&units).unwrap_or_default());
    let values = lanes.iter().zip(units.iter()).map(|(lane, unit)| apply(*lane, (*unit).max(1))).collect();
    Ok(from_integer_lanes(values, array.nulls().cloned(), &arguments.result.arrow()))
}

/// Whole months from the second day to the first, toward zero.
pub(super) fn months_between(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let (end, start) = (arguments.array(0)?, arguments.array(1)?);
    let (ends, starts) = (integer_lanes(&end).unwrap_or_default(), integer_lanes(&start).unwrap_or_default());
    let parts = |days: i64| date_parts(i32::try_from(days).unwrap_or(0));
    let months = |(end, start): (&i64, &i64)| {
        let ((y1, m1, d1), (y2, m2, d2)) = (parts(*end), parts(*start));
        let whole = i64::from(y1 - y2) * 12 + i64::from(m1) - i64::from(m2);
        match whole {
            1.. if d1 < d2 => whole - 1,
            ..=-1 if d1 > d2 => whole + 1,
            _ => whole,
        }
    };
    let values = ends.iter().zip(starts.iter()).map(months).collect();
    let nulls = arrow::buffer::NullBuffer::union(end.nulls(), start.nulls());
    Ok(from_integer_lanes(values, nulls, &arguments.result.arrow()))
}
