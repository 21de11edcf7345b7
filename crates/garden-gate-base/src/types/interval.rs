//! Interval literals: `INTERVAL '1-6' YEAR TO MONTH`, `INTERVAL '2 04:30' DAY TO MINUTE` (ISO/IEC 9075-2, clause 5.3).

use super::SqlType;
use super::date::{MICROS_PER_DAY, MICROS_PER_SECOND, format_time, fraction_micros};
use std::fmt;

/// A field of an interval qualifier, from the widest to the narrowest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Field {
    Year,
    Month,
    Day,
    Hour,
    Minute,
    Second,
}

impl Field {
    /// A field by its keyword; case does not matter.
    pub fn from_word(word: &str) -> Option<Self> {
        let known = [Self::Year, Self::Month, Self::Day, Self::Hour, Self::Minute, Self::Second];
        known.into_iter().find(|field| word.eq_ignore_ascii_case(field.word()))
    }

    /// Its keyword.
    pub fn word(self) -> &'static str {
        match self {
            Self::Year => "YEAR",
            Self::Month => "MONTH",
            Self::Day => "DAY",
            Self::Hour => "HOUR",
            Self::Minute => "MINUTE",
            Self::Second => "SECOND",
        }
    }

    /// One of it, in months or microseconds.
    pub fn one(self) -> Interval {
        match self {
            Self::Year => Interval::Months(12),
            Self::Month => Interval::Months(1),
            field => Interval::Micros(field.micros()),
        }
    }

    fn is_year_month(self) -> bool {
        self <= Self::Month
    }

    fn micros(self) -> i64 {
        match self {
            Self::Day => MICROS_PER_DAY,
            Self::Hour => 3600 * MICROS_PER_SECOND,
            Self::Minute => 60 * MICROS_PER_SECOND,
            Self::Year | Self::Month | Self::Second => MICROS_PER_SECOND,
        }
    }
}

/// The fields of an interval qualifier, of one kind, the wider one first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fields {
    first: Field,
    last: Field,
}

impl Fields {
    /// `None` when the fields are of two kinds or the narrower one comes first.
    pub fn new(first: Field, last: Field) -> Option<Self> {
        (first <= last && first.is_year_month() == last.is_year_month()).then_some(Self { first, last })
    }

    /// The type of intervals with these fields.
    pub fn sql_type(self) -> SqlType {
        if self.last.is_year_month() { SqlType::YearMonth } else { SqlType::DayTime }
    }

    /// The greatest field.
    pub fn first(self) -> Field {
        self.first
    }

    /// The least field.
    pub fn last(self) -> Field {
        self.last
    }

    /// From the widest to the narrowest field of both; `None` when they are of two kinds.
    pub fn with(self, other: Self) -> Option<Self> {
        Self::new(self.first.min(other.first), self.last.max(other.last))
    }

    /// Whether they are all fields of their kind.
    pub fn are_all(self) -> bool {
        matches!((self.first, self.last), (Field::Year, Field::Month) | (Field::Day, Field::Second))
    }

    /// The field, where it is one.
    pub fn single(self) -> Option<Field> {
        (self.first == self.last).then_some(self.last)
    }

    /// Whether whole days are all there is.
    pub fn go_to_days(self) -> bool {
        self.last <= Field::Day
    }

    /// Months or microseconds in the last field; 1 where no smaller part of an interval is omitted.
    pub fn unit(self) -> i64 {
        match self.last {
            Field::Year => 12,
            Field::Month | Field::Second => 1,
            last => last.micros(),
        }
    }
}

impl fmt::Display for Fields {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.single() {
            Some(field) => f.write_str(field.word()),
            None => write!(f, "{} TO {}", self.first.word(), self.last.word()),
        }
    }
}

/// An interval of one of the two kinds; they never mix.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Interval {
    Months(i32),
    Micros(i64),
}

/// Reads the quoted part of an interval literal with its fields; `None` when they do not fit together.
pub fn parse_interval(text: &str, from: Field, to: Field) -> Option<Interval> {
    if to < from || from.is_year_month() != to.is_year_month() {
        return None;
    }
    let text = text.trim();
    let (sign, body) = match text.as_bytes().first()? {
        b'-' => (-1, &text[1..]),
        b'+' => (1, &text[1..]),
        _ => (1, text),
    };
    if from.is_year_month() {
        let months = if from == to {
            whole(body)?.checked_mul(if from == Field::Year { 12 } else { 1 })?
        } else {
            let (years, months) = body.split_once('-')?;
            whole(years)?.checked_mul(12)?.checked_add(whole(months).filter(|months| *months < 12)?)?
        };
        Some(Interval::Months(i32::try_from(sign * months).ok()?))
    } else {
        Some(Interval::Micros(day_time(body, from, to)?.checked_mul(sign)?))
    }
}

fn whole(text: &str) -> Option<i64> {
    if text.is_empty() || !text.bytes().all(|byte| byte.is_ascii_digit()) { None } else { text.parse().ok() }
}

fn day_time(body: &str, from: Field, to: Field) -> Option<i64> {
    let fields = [Field::Day, Field::Hour, Field::Minute, Field::Second];
    let mut rest = body;
    let mut sum = 0_i64;
    for field in fields.into_iter().filter(|field| (from..=to).contains(field)) {
        let separator = if field == Field::Day { ' ' } else { ':' };
        let (part, tail) = if field == to { (rest, "") } else { rest.split_once(separator)? };
        let (number, fraction) =
            if field == Field::Second { part.split_once('.').unwrap_or((part, "")) } else { (part, "") };
        let value = whole(number)?;
        let limit = match field {
            _ if field == from => i64::MAX,
            Field::Hour => 23,
            _ => 59,
        };
        if value > limit {
            return None;
        }
        sum =
            sum.checked_add(value.checked_mul(field.micros())?)?.checked_add(i64::from(fraction_micros(fraction)?))?;
        rest = tail;
    }
    Some(sum)
}

impl Fields {
    /// An interval of these fields alone, as between the quotes of its literal; `None` where a smaller part would be lost.
    pub fn format(self, interval: Interval) -> Option<String> {
        let (count, unit) = match interval {
            Interval::Months(months) => (i64::from(months), self.unit()),
            Interval::Micros(micros) => (micros, self.unit()),
        };
        if count % unit != 0 || self.are_all() {
            return None;
        }
        let sign = if count < 0 { "-" } else { "" };
        let mut rest = count.saturating_abs();
        let mut text = sign.to_owned();
        let all = [Field::Year, Field::Month, Field::Day, Field::Hour, Field::Minute, Field::Second];
        for field in all.into_iter().filter(|field| (self.first..=self.last).contains(field)) {
            let one = match field.one() {
                Interval::Months(months) => i64::from(months),
                Interval::Micros(micros) => micros,
            };
            let separator = match field {
                _ if field == self.first => "",
                Field::Year | Field::Month => "-",
                Field::Day | Field::Hour => " ",
                Field::Minute | Field::Second => ":",
            };
            let width = if field == self.first { 1 } else { 2 };
            text.push_str(&format!("{separator}{:0width$}", rest / one));
            rest %= one;
        }
        if rest > 0 {
            text.push_str(format!(".{rest:06}").trim_end_matches('0'));
        }
        Some(text)
    }
}

/// Months as `years-months`, e.g. `1-06`.
pub fn format_year_month(months: i32) -> String {
    let sign = if months < 0 { "-" } else { "" };
    format!("{sign}{}-{:02}", months.unsigned_abs() / 12, months.unsigned_abs() % 12)
}

/// Microseconds as `days HH:MM:SS`.
pub fn format_day_time(micros: i64) -> String {
    let sign = if micros < 0 { "-" } else { "" };
    let micros = micros.saturating_abs();
    format!("{sign}{} {}", micros / MICROS_PER_DAY, format_time(micros % MICROS_PER_DAY))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals_by_field() {
        use Field::{Day, Hour, Minute, Month, Second, Year};
        let months = |n| Some(Interval::Months(n));
        let seconds = |n: i64| Some(Interval::Micros(n * MICROS_PER_SECOND));
        for (text, from, to, expected) in [
            ("1", Month, Month, months(1)),
            ("-2", Year, Year, months(-24)),
            ("1-6", Year, Month, months(18)),
            ("1-12", Year, Month, None),
            ("3", Day, Day, seconds(3 * 86_400)),
            ("1 02:30", Day, Minute, seconds(86_400 + 9_000)),
            ("-1 00:00:01", Day, Second, seconds(-86_401)),
            ("90:15", Minute, Second, seconds(5_415)),
            ("1:60", Hour, Minute, None),
            ("0.5", Second, Second, Some(Interval::Micros(500_000))),
            ("1", Month, Day, None),
            ("", Day, Day, None),
            ("x", Day, Day, None),
            ("99999999999999", Day, Day, None),
        ] {
            assert_eq!(parse_interval(text, from, to), expected, "{text} {from:?} {to:?}");
        }
        assert_eq!(format_year_month(-18), "-1-06");
        assert_eq!(format_day_time(-86_401 * MICROS_PER_SECOND), "-1 00:00:01");
    }
}
