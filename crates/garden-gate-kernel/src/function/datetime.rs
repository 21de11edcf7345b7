//! Functions of days, times and intervals (clauses 6.30, 6.35, 6.37).

use super::{Arguments, Problem};
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::types::{
    ExtractField as X, MICROS_PER_DAY, MICROS_PER_SECOND, SqlType, calendar_parts, date_parts, month_start,
};
use arrow::array::{Array, ArrayRef};

/// A field of every row, by the type of the source; seconds in millionths.
pub(super) fn extract(field: X, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let lanes = integer_lanes(&array).unwrap_or_default();
    let date = |days: i64| {
        let days = i32::try_from(days).unwrap_or(0);
        let (year, month, day) = date_parts(days);
        let small = |number: u32| i32::try_from(number).unwrap_or(0);
        i64::from(match field {
            X::Year => year,
            X::Month => small(month),
            X::Quarter => calendar_parts(days)[0],
            X::Week => calendar_parts(days)[1],
            X::WeekYear => calendar_parts(days)[2],
            X::DayOfWeek => calendar_parts(days)[3],
            X::DayOfYear => calendar_parts(days)[4],
            X::Day | X::Hour | X::Minute | X::Second | X::TimezoneHour | X::TimezoneMinute => small(day),
        })
    };
    let time = |micros: i64| {
        if let X::Hour = field {
            micros / (3600 * MICROS_PER_SECOND)
        } else if let X::Minute = field {
            micros / (60 * MICROS_PER_SECOND) % 60
        } else {
            micros % (60 * MICROS_PER_SECOND)
        }
    };
    let is_date = field.is_of_date();
    let one = |value: i64| match arguments.types[0] {
        SqlType::Date => date(value),
        SqlType::Time | SqlType::TimeTz => {
            if let X::TimezoneHour | X::TimezoneMinute = field {
                0
            } else {
                time(value)
            }
        }
        SqlType::Timestamp | SqlType::TimestampTz => {
            if let X::TimezoneHour | X::TimezoneMinute = field {
                0
            } else if is_date {
                date(value.div_euclid(MICROS_PER_DAY))
            } else {
                time(value.rem_euclid(MICROS_PER_DAY))
            }
        }
        SqlType::YearMonth if field == X::Year => value / 12,
        SqlType::YearMonth => value % 12,
        SqlType::Null
        | SqlType::Boolean
        | SqlType::SmallInt
        | SqlType::Integer
        | SqlType::BigInt
        | SqlType::Numeric { .. }
        | SqlType::Real
        | SqlType::Double
        | SqlType::Char(_)
        | SqlType::Varchar(_)
        | SqlType::Binary(_)
        | SqlType::Varbinary(_)
        | SqlType::Uuid
        | SqlType::IpAddress
        | SqlType::DayTime
        | SqlType::Array(_)
        | SqlType::Row(_) => match field {
            X::Day => value / MICROS_PER_DAY,
            X::Hour => value % MICROS_PER_DAY / (3600 * MICROS_PER_SECOND),
            X::Minute => value % (3600 * MICROS_PER_SECOND) / (60 * MICROS_PER_SECOND),
            X::Year
            | X::Month
            | X::Second
            | X::TimezoneHour
            | X::TimezoneMinute
            | X::Quarter
            | X::Week
            | X::WeekYear
            | X::DayOfWeek
            | X::DayOfYear => value % (60 * MICROS_PER_SECOND),
        },
    };
    let values: Vec<i64> =
        lanes.iter().enumerate().map(|(row, value)| if array.is_valid(row) { one(*value) } else { 0 }).collect();
    if values.iter().any(|value| i32::try_from(*value).is_err()) {
        return Err(Problem::Overflow(arguments.result));
    }
    Ok(from_integer_lanes(values, array.nulls().cloned(), &arguments.result.arrow()))
}

/// Days, timestamps and times of day at the beginning of the unit that they lie in; a week begins on Monday (ISO 8601).
pub(super) fn truncate_to(unit: X, arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let array = arguments.array(0)?;
    let lanes = integer_lanes(&array).unwrap_or_default();
    let is_date = arguments.types[0] == SqlType::Date;
    let within = |micros: i64| match unit {
        X::Hour => 3600 * MICROS_PER_SECOND,
        X::Minute => 60 * MICROS_PER_SECOND,
        X::Second => MICROS_PER_SECOND,
        X::Year
        | X::Month
        | X::Day
        | X::TimezoneHour
        | X::TimezoneMinute
        | X::Quarter
        | X::Week
        | X::WeekYear
        | X::DayOfWeek
        | X::DayOfYear => micros.max(1),
    };
    let one = |value: i64| {
        if !unit.is_of_date() {
            let unit = within(MICROS_PER_DAY);
            return Some(value - value.rem_euclid(unit));
        }
        let days = i32::try_from(if is_date { value } else { value.div_euclid(MICROS_PER_DAY) }).ok()?;
        let (year, month, _) = date_parts(days);
        let first = match unit {
            X::Year => month_start(year, 1)?,
            X::Quarter => month_start(year, (month - 1) / 3 * 3 + 1)?,
            X::Month => month_start(year, month)?,
            X::Week => days - (calendar_parts(days)[3] - 1),
            X::Day
            | X::Hour
            | X::Minute
            | X::Second
            | X::TimezoneHour
            | X::TimezoneMinute
            | X::WeekYear
            | X::DayOfWeek
            | X::DayOfYear => days,
        };
        let first = i64::from(first);
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
