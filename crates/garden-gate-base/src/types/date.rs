//! Days, times and timestamps as counts, and their text (ISO/IEC 9075-2, clause 5.3).

use chrono::{Datelike, Days, Months, NaiveDate};

pub const MICROS_PER_SECOND: i64 = 1_000_000;
pub const MICROS_PER_DAY: i64 = 86_400 * MICROS_PER_SECOND;
/// 0001-01-01, in days since 1970-01-01.
pub const FIRST_DAY: i32 = -719_162;
/// 9999-12-31.
pub const LAST_DAY: i32 = 2_932_896;

fn epoch() -> NaiveDate {
    NaiveDate::default()
}

fn day(days: i32) -> Option<NaiveDate> {
    let count = Days::new(u64::from(days.unsigned_abs()));
    if days >= 0 { epoch().checked_add_days(count) } else { epoch().checked_sub_days(count) }
}

/// The years a DATE may have.
fn in_range(date: &NaiveDate) -> bool {
    (1..=9999).contains(&date.year())
}

fn days_of(date: NaiveDate) -> Option<i32> {
    i32::try_from((date - epoch()).num_days()).ok().filter(|_| in_range(&date))
}

/// `YYYY-MM-DD` as days since 1970-01-01; `None` when it is not a date of the years 1 to 9999.
pub fn parse_date(text: &str) -> Option<i32> {
    let bytes = text.as_bytes();
    if bytes.len() != 10 || bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let number = |range: std::ops::Range<usize>| digits(&bytes[range]);
    days_of_parts(number(0..4)?, number(5..7)?, number(8..10)?)
}

/// The day of a year, month and day of the month, if there is such a day. Months are counted from March, so that the leap day is the last of
/// its year: then the days before a month are (153 · month + 2) / 5. Files of dates are read through this,
/// twice for each value: with it and short numbers apart, lineitem of bench `loading` takes 3.8 s as CSV, and took 4.7.
fn days_of_parts(year: u32, month: u32, day: u32) -> Option<i32> {
    let is_leap = year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400));
    let last = match month {
        4 | 6 | 9 | 11 => 30,
        2 => 28 + u32::from(is_leap),
        _ => 31,
    };
    if !(1..=9999).contains(&year) || !(1..=12).contains(&month) || !(1..=last).contains(&day) {
        return None;
    }
    let (year, month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let days = year * 365 + year / 4 - year / 100 + year / 400 + (153 * month + 2) / 5 + day - 1;
    // From 0000-03-01 to 1970-01-01.
    i32::try_from(i64::from(days) - 719_468).ok()
}

fn digits(bytes: &[u8]) -> Option<u32> {
    if bytes.is_empty() {
        return None;
    }
    bytes.iter().try_fold(0_u32, |sum, byte| byte.is_ascii_digit().then(|| sum * 10 + u32::from(byte - b'0')))
}

/// `HH:MM[:SS[.ffffff]]` as microseconds since midnight.
pub fn parse_time(text: &str) -> Option<i64> {
    let mut parts = text.splitn(3, ':');
    let (hour, minute) = (two(parts.next()?)?, two(parts.next()?)?);
    let (second, micros) = match parts.next() {
        None => (0, 0),
        Some(rest) => {
            let (second, fraction) = rest.split_once('.').unwrap_or((rest, ""));
            (two(second)?, fraction_micros(fraction)?)
        }
    };
    if hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    Some((i64::from(hour * 3600 + minute * 60 + second)) * MICROS_PER_SECOND + i64::from(micros))
}

fn two(text: &str) -> Option<u32> {
    if text.len() == 2 { digits(text.as_bytes()) } else { None }
}

/// Microseconds of the digits after the point of seconds; `None` for more than six, or what is no digit.
pub(super) fn fraction_micros(fraction: &str) -> Option<u32> {
    if fraction.is_empty() {
        return Some(0);
    }
    if fraction.len() > 6 {
        return None;
    }
    let exponent = 6 - u32::try_from(fraction.len()).ok()?;
    Some(digits(fraction.as_bytes())? * 10_u32.pow(exponent))
}

/// `YYYY-MM-DD HH:MM[:SS[.ffffff]]` (a `T` may stand for the blank) as microseconds since 1970-01-01 00:00:00.
pub fn parse_timestamp(text: &str) -> Option<i64> {
    let (date, time) = (text.get(..10)?, text.get(11..)?);
    if !matches!(text.as_bytes()[10], b' ' | b'T') {
        return None;
    }
    Some(i64::from(parse_date(date)?) * MICROS_PER_DAY + parse_time(time)?)
}

/// A timestamp with an offset from UTC at its end (`+02:00`, `-05`), as microseconds since 1970-01-01 00:00:00 UTC.
pub fn parse_instant(text: &str) -> Option<i64> {
    let text = text.trim();
    let sign = text.rfind(['+', '-']).filter(|at| *at > 10)?;
    let local = parse_timestamp(text[..sign].trim_end())?;
    Some(local - parse_offset(&text[sign..])? * MICROS_PER_SECOND)
}

/// A time of day with an offset from UTC at its end, as microseconds since midnight UTC.
pub fn parse_time_of_zone(text: &str) -> Option<i64> {
    let text = text.trim();
    let sign = text.rfind(['+', '-'])?;
    let local = parse_time(text[..sign].trim_end())?;
    Some((local - parse_offset(&text[sign..])? * MICROS_PER_SECOND).rem_euclid(MICROS_PER_DAY))
}

/// An offset from UTC such as `+02:00` or `-5`, in seconds.
pub(super) fn parse_offset(text: &str) -> Option<i64> {
    let (sign, body) = match text.as_bytes().first()? {
        b'+' => (1, &text[1..]),
        b'-' => (-1, &text[1..]),
        _ => return None,
    };
    let (hours, minutes) = body.split_once(':').unwrap_or((body, "00"));
    let (hours, minutes) = (digits(hours.as_bytes())?, two(minutes)?);
    (hours <= 14 && minutes < 60).then(|| sign * i64::from(hours * 3600 + minutes * 60))
}

/// Year, month and day.
pub fn date_parts(days: i32) -> (i32, u32, u32) {
    day(days).map_or((0, 1, 1), |date| (date.year(), date.month(), date.day()))
}

/// Quarter, week, year of the week, day of the week and day of the year (ISO 8601).
pub fn calendar_parts(days: i32) -> [i32; 5] {
    day(days).map_or([1; 5], |date| {
        let part = |number: u32| i32::try_from(number).unwrap_or(0);
        let week = date.iso_week();
        [
            part(date.month0() / 3 + 1),
            part(week.week()),
            week.year(),
            part(date.weekday().number_from_monday()),
            part(date.ordinal()),
        ]
    })
}

/// The first day of a year's month.
pub fn month_start(year: i32, month: u32) -> Option<i32> {
    days_of(NaiveDate::from_ymd_opt(year, month, 1)?)
}

/// A day, counted from 1970-01-01, as `YYYY-MM-DD`.
pub fn format_date(days: i32) -> String {
    day(days).map_or_else(|| format!("day {days}"), |date| date.format("%Y-%m-%d").to_string())
}

/// Microseconds since midnight as `HH:MM:SS` with only the fraction digits that are needed.
pub fn format_time(micros: i64) -> String {
    let seconds = micros / MICROS_PER_SECOND;
    let mut text = format!("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    let fraction = micros % MICROS_PER_SECOND;
    if fraction != 0 {
        text.push_str(format!(".{fraction:06}").trim_end_matches('0'));
    }
    text
}

/// Microseconds since 1970-01-01 00:00:00 as `YYYY-MM-DD hh:mm:ss[.ffffff]`.
pub fn format_timestamp(micros: i64) -> String {
    let days = i32::try_from(micros.div_euclid(MICROS_PER_DAY)).unwrap_or(i32::MAX);
    format!("{} {}", format_date(days), format_time(micros.rem_euclid(MICROS_PER_DAY)))
}

/// `days` plus `months`; a day past the month's end becomes its last day. `None` outside the years 1 to 9999.
pub fn add_months(days: i32, months: i32) -> Option<i32> {
    let count = Months::new(months.unsigned_abs());
    let date = day(days)?;
    days_of(if months >= 0 { date.checked_add_months(count)? } else { date.checked_sub_months(count)? })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_and_back() {
        for (text, days) in [("1970-01-01", 0), ("2000-02-29", 11016), ("1969-12-31", -1), ("0001-01-01", -719_162)] {
            assert_eq!(parse_date(text), Some(days), "{text}");
            assert_eq!(format_date(days), text);
        }
        for text in ["2001-02-29", "2001-13-01", "0000-01-01", "2001-1-1", "2001/01/01", "20010101", "", "200a-01-01"] {
            assert_eq!(parse_date(text), None, "{text}");
        }
        // Against the calendar crate: around the end of each month of each year, and across all years.
        for days in
            (FIRST_DAY..=LAST_DAY).step_by(29).chain(FIRST_DAY..FIRST_DAY + 1500).chain(LAST_DAY - 1500..=LAST_DAY)
        {
            assert_eq!(parse_date(&format_date(days)), Some(days));
        }
    }

    #[test]
    fn times_keep_only_needed_digits() {
        for (text, shown) in [
            ("09:30", "09:30:00"),
            ("23:59:59.5", "23:59:59.5"),
            ("00:00:00.000001", "00:00:00.000001"),
            ("12:00:00.120000", "12:00:00.12"),
        ] {
            assert_eq!(parse_time(text).map(format_time).as_deref(), Some(shown), "{text}");
        }
        for text in ["24:00", "9:30", "12:60", "12", "12:00:60", "12:00:00.1234567"] {
            assert_eq!(parse_time(text), None, "{text}");
        }
        assert_eq!(
            parse_timestamp("1969-12-31T23:59:59").map(format_timestamp).as_deref(),
            Some("1969-12-31 23:59:59")
        );
    }

    #[test]
    fn month_ends_stay_ends() {
        for (from, months, to) in [
            ("2024-01-31", 1, "2024-02-29"),
            ("2023-01-31", 1, "2023-02-28"),
            ("2024-02-29", 12, "2025-02-28"),
            ("2024-03-31", -1, "2024-02-29"),
            ("2024-12-15", 1, "2025-01-15"),
        ] {
            assert_eq!(add_months(parse_date(from).unwrap(), months).map(format_date).as_deref(), Some(to), "{from}");
        }
        assert_eq!(add_months(parse_date("9999-12-01").unwrap(), 1), None);
    }
}
