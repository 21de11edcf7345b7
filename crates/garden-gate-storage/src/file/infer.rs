//! The type of a column from all of its texts: the narrowest that holds every one of them exactly.

use super::column_builder::trimmed;
use super::formats::Formats;
use super::problem::Problem;
use crate::catalog::TextReason;
use crate::types::{Decimal, SqlType};

/// How a text stood in its file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TextOrigin {
    /// May be anything.
    Plain,
    /// Marked as text by the format: no number and no truth value, but still a date or time.
    Text,
}

/// A kind of value, from the most to the least special.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Boolean,
    Number,
    Date,
    Timestamp,
    Time,
}

impl Kind {
    const ALL: [Self; 5] = [Self::Boolean, Self::Number, Self::Date, Self::Timestamp, Self::Time];
}

/// Values that are not of a kind after which a run of rows is asked no more, beside a quarter of those that are.
const MOST_ODD: u64 = 8;

/// What the texts of other kinds have in common.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum OtherKinds {
    #[default]
    Alike,
    Unlike,
}

/// How many values are of one kind.
#[derive(Clone, Debug, Default)]
struct Fit {
    fitting: u64,
    odd: u64,
    /// The first value that is of another kind, and its line.
    first: Option<(String, u64)>,
    others: OtherKinds,
    /// Whether so few fit that the others have not been counted.
    given_up: bool,
}

impl Fit {
    fn observe(&mut self, fits: bool, text: &str, line: u64) {
        if fits {
            self.fitting += 1;
            return;
        }
        self.odd += 1;
        match &self.first {
            Some((first, _)) if first != text => self.others = OtherKinds::Unlike,
            Some(_) => {}
            None => self.first = Some((text.to_owned(), line)),
        }
        self.given_up = self.odd > MOST_ODD + self.fitting / 4;
    }

    fn merge(&mut self, later: Self) {
        self.fitting += later.fitting;
        self.odd += later.odd;
        self.given_up |= later.given_up;
        match (&self.first, later.first) {
            (Some((first, _)), Some((text, _))) if later.others == OtherKinds::Unlike || *first != text => {
                self.others = OtherKinds::Unlike;
            }
            (None, first) => (self.first, self.others) = (first, later.others),
            (Some(_), _) => {}
        }
    }
}

/// What all texts seen so far can be.
#[derive(Clone, Debug)]
pub(super) struct Inference {
    values: u64,
    /// How many texts each kind holds, in the order of `Kind::ALL`.
    fits: [Fit; 5],
    whole_digits: u8,
    scale: u8,
    /// Least and greatest integer.
    range: (i128, i128),
    exponent: bool,
    /// The first number past 38 digits, and its line.
    too_long: Option<(String, u64)>,
}

impl Inference {
    /// A column of which no value was seen.
    pub(super) fn new() -> Self {
        Self {
            values: 0,
            fits: Default::default(),
            whole_digits: 0,
            scale: 0,
            range: (0, 0),
            exponent: false,
            too_long: None,
        }
    }

    /// Looks at one value: whatever type cannot have it is given up.
    pub(super) fn observe(&mut self, text: &str, origin: TextOrigin, (line, formats): (u64, &Formats)) {
        self.values += 1;
        let text = trimmed(text);
        let plain = origin == TextOrigin::Plain;
        let mut is_date = false;
        for (at, kind) in Kind::ALL.into_iter().enumerate() {
            if self.fits[at].given_up {
                continue;
            }
            let fits = match kind {
                Kind::Boolean => plain && (text.eq_ignore_ascii_case("true") || text.eq_ignore_ascii_case("false")),
                Kind::Number => plain && self.number(&formats.number(text), line),
                Kind::Date => {
                    is_date = formats.date(text).is_some();
                    is_date
                }
                // A date is the timestamp of its beginning.
                Kind::Timestamp => is_date || formats.timestamp(text).is_some(),
                Kind::Time => formats.time(text).is_some(),
            };
            self.fits[at].observe(fits, text, line);
        }
    }

    /// What the texts of this and of a later run of rows can be.
    pub(super) fn merge(&mut self, later: Self) {
        self.values += later.values;
        self.fits.iter_mut().zip(later.fits).for_each(|(fit, later)| fit.merge(later));
        self.whole_digits = self.whole_digits.max(later.whole_digits);
        self.scale = self.scale.max(later.scale);
        self.range = (self.range.0.min(later.range.0), self.range.1.max(later.range.1));
        self.exponent |= later.exponent;
        self.too_long = self.too_long.take().or(later.too_long);
    }

    /// Takes in a number of so many digits in all and after the point.
    fn note(&mut self, (precision, scale): (u8, u8), unscaled: i128) {
        self.whole_digits = self.whole_digits.max(precision - scale);
        self.scale = self.scale.max(scale);
        self.range = (self.range.0.min(unscaled), self.range.1.max(unscaled));
    }

    /// Whether `text` is a number as numbers are written: no plus sign, no leading zero that an identifier would have.
    fn number(&mut self, text: &str, line: u64) -> bool {
        let bytes = text.strip_prefix('-').unwrap_or(text).as_bytes();
        let begins_well = match bytes {
            [b'0', rest, ..] => !rest.is_ascii_digit(),
            [first, ..] => first.is_ascii_digit() || *first == b'.',
            [] => false,
        };
        if !begins_well || text.ends_with('.') {
            return false;
        }
        if let Some((unscaled, scale)) = short_number(bytes) {
            let digits = unscaled.checked_ilog10().and_then(|log| u8::try_from(log + 1).ok()).unwrap_or(1);
            let unscaled = i128::from(unscaled);
            self.note((digits.max(scale), scale), if bytes.len() < text.len() { -unscaled } else { unscaled });
            return true;
        }
        if let Some(decimal) = Decimal::parse(text) {
            self.note((decimal.precision(), decimal.scale), decimal.unscaled);
            return true;
        }
        let fixed_point = bytes.iter().all(|byte| byte.is_ascii_digit() || *byte == b'.');
        if fixed_point && bytes.iter().filter(|byte| **byte == b'.').count() < 2 {
            self.too_long.get_or_insert_with(|| (text.to_owned(), line));
            return true;
        }
        let approximate = text.contains(['e', 'E'])
            && bytes.iter().all(|byte| matches!(byte, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'))
            && text.parse::<f64>().is_ok_and(f64::is_finite);
        self.exponent |= approximate;
        approximate
    }

    /// The column's type; `None` with the problem and its line when numbers are too long to be exact.
    pub(super) fn finish(&self, column: &str) -> Result<SqlType, (Problem, Option<u64>)> {
        let holds_all = |(fit, _): &(&Fit, Kind)| fit.odd == 0;
        match self.fits.iter().zip(Kind::ALL).find(holds_all) {
            Some((_, kind)) if self.values > 0 => self.type_of(kind, column),
            _ => Ok(SqlType::TEXT),
        }
    }

    /// Why the column is text, where at least three quarters of its values are of one other kind.
    pub(super) fn text_reason(&self, column: &str) -> Option<TextReason> {
        let nearly_all = |(fit, _): &(&Fit, Kind)| !fit.given_up && fit.fitting >= 3 * fit.odd.max(1);
        let (fit, kind) = self.fits.iter().zip(Kind::ALL).find(nearly_all)?;
        let first = fit.first.clone()?;
        let sql_type = self.type_of(kind, column).ok().filter(|sql_type| *sql_type != SqlType::TEXT)?;
        let mut reason = TextReason::new(sql_type, first);
        (reason.odd, reason.alike, reason.values) = (fit.odd, fit.others == OtherKinds::Alike, self.values);
        Some(reason)
    }

    fn type_of(&self, kind: Kind, column: &str) -> Result<SqlType, (Problem, Option<u64>)> {
        match kind {
            Kind::Boolean => Ok(SqlType::Boolean),
            Kind::Number => self.number_type(column),
            Kind::Date => Ok(SqlType::Date),
            Kind::Timestamp => Ok(SqlType::Timestamp),
            Kind::Time => Ok(SqlType::Time),
        }
    }

    fn number_type(&self, column: &str) -> Result<SqlType, (Problem, Option<u64>)> {
        if let Some((text, line)) = self.too_long.clone() {
            let only_long = self.whole_digits == 0 && self.scale == 0;
            // A column of nothing but very long digits holds identifiers.
            if only_long {
                return Ok(SqlType::TEXT);
            }
            return Err((Problem::NumberTooLong { column: column.into(), text }, Some(line)));
        }
        if self.exponent {
            return Ok(SqlType::Double);
        }
        let within = |low: i64, high: i64| i128::from(low) <= self.range.0 && self.range.1 <= i128::from(high);
        if self.scale == 0 && within(i32::MIN.into(), i32::MAX.into()) {
            return Ok(SqlType::Integer);
        }
        if self.scale == 0 && within(i64::MIN, i64::MAX) {
            return Ok(SqlType::BigInt);
        }
        let digits = u16::from(self.whole_digits) + u16::from(self.scale);
        match u8::try_from(digits) {
            Ok(precision) if precision <= 38 => Ok(SqlType::numeric(precision, self.scale)),
            _ => Err((Problem::TooManyDigits { column: column.into(), digits }, None)),
        }
    }
}

/// The digits of a number without a sign, as one integer, and how many stand after its point; `None` where there are too many for 64 bits,
/// or other characters. Most numbers of a file are such, and need no arithmetic in 128 bits (bench `loading`).
fn short_number(bytes: &[u8]) -> Option<(u64, u8)> {
    if bytes.len() > 18 {
        return None;
    }
    let (mut unscaled, mut scale) = (0_u64, None);
    for byte in bytes {
        match (byte, scale) {
            (b'0'..=b'9', _) => {
                unscaled = unscaled * 10 + u64::from(byte - b'0');
                scale = scale.map(|scale| scale + 1);
            }
            (b'.', None) => scale = Some(0),
            _ => return None,
        }
    }
    Some((unscaled, scale.unwrap_or(0)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(texts: &[&str]) -> SqlType {
        let mut inference = Inference::new();
        texts.iter().for_each(|text| inference.observe(text, TextOrigin::Plain, (1, &Formats::default())));
        inference.finish("c").unwrap()
    }

    #[test]
    fn types_of_columns() {
        let cases: &[(&[&str], SqlType)] = &[
            (&[], SqlType::TEXT),
            (&["1", "-20", "0"], SqlType::Integer),
            (&["1", "2147483648"], SqlType::BigInt),
            (&["1", "9223372036854775808"], SqlType::numeric(19, 0)),
            (&["1.50", "200", "-0.125"], SqlType::numeric(6, 3)),
            (&["0.5"], SqlType::numeric(1, 1)),
            (&["007", "1"], SqlType::TEXT),
            (&["+4712"], SqlType::TEXT),
            (&["1e3", "2"], SqlType::Double),
            (&["1", "x"], SqlType::TEXT),
            (&["true", "FALSE"], SqlType::Boolean),
            (&["2024-01-31", "2024-02-29"], SqlType::Date),
            (&["2024-01-31", "2024-02-30"], SqlType::TEXT),
            (&["2024-01-31", "2024-02-29 10:00:00"], SqlType::Timestamp),
            (&["09:30", "10:15:30.5"], SqlType::Time),
            (&["", "1"], SqlType::TEXT),
            (&["NaN"], SqlType::TEXT),
            (&["1", "2", "3", "x"], SqlType::TEXT),
            (&["1234567890123456789012345678901234567890"], SqlType::TEXT),
        ];
        for (texts, expected) in cases {
            assert_eq!(of(texts), *expected, "{texts:?}");
        }
    }

    #[test]
    fn why_a_column_is_text() {
        let cases: &[(&[&str], Option<&str>)] = &[
            (
                &["1", "2.5", "n/a", "3"],
                Some("NUMERIC(2,1): 'n/a' in line 3 is not a number, as the other 3 values are"),
            ),
            (
                &["n/a", "1", "2", "3", "4", "5", "6", "-"],
                Some("INTEGER: 'n/a' in line 1 is not a number; nor is one other of 8 values"),
            ),
            (
                &["2024-01-31", "2024-02-30", "2024-02-01", "2024-02-02"],
                Some("DATE: '2024-02-30' in line 2 is not a day, as the other 3 values are"),
            ),
            (&["1", "2", "x"], None),
            (&["ash", "oak", "elm", "7"], None),
            (&["1", "2", "3"], None),
            (&[], None),
        ];
        for (texts, expected) in cases {
            // In one run of rows, and in one for each row.
            let (mut whole, mut merged) = (Inference::new(), Inference::new());
            for (line, text) in (1..).zip(*texts) {
                whole.observe(text, TextOrigin::Plain, (line, &Formats::default()));
                let mut one = Inference::new();
                one.observe(text, TextOrigin::Plain, (line, &Formats::default()));
                merged.merge(one);
            }
            for inference in [whole, merged] {
                let told = inference.text_reason("c").map(|reason| format!("{}: {reason}", reason.sql_type));
                assert_eq!(told.as_deref(), *expected, "{texts:?}");
            }
        }
    }

    #[test]
    fn numbers_too_long_are_refused_with_their_line() {
        let mut inference = Inference::new();
        inference.observe("5", TextOrigin::Plain, (2, &Formats::default()));
        inference.observe("1234567890123456789012345678901234567890", TextOrigin::Plain, (3, &Formats::default()));
        let (problem, line) = inference.finish("c").unwrap_err();
        assert!(matches!(problem, Problem::NumberTooLong { .. }));
        assert_eq!(line, Some(3));
    }
}
