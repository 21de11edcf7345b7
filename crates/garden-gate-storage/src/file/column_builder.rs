use super::formats::Formats;
use crate::types::{Decimal, SqlType, power_of_ten, rescale};
use arrow::array::{
    ArrayRef, BooleanBuilder, Date32Builder, Decimal64Builder, Decimal128Builder, Float64Builder, Int16Builder,
    Int32Builder, Int64Builder, StringViewBuilder, Time64MicrosecondBuilder, TimestampMicrosecondBuilder,
};
use std::sync::Arc;

/// Reads texts of one column into an array of its type.
#[derive(Debug)]
pub(super) enum ColumnBuilder {
    Boolean(BooleanBuilder),
    SmallInt(Int16Builder),
    Integer(Int32Builder),
    BigInt(Int64Builder),
    Narrow(Decimal64Builder, Digits),
    Wide(Decimal128Builder, Digits),
    Double(Float64Builder),
    Date(Date32Builder),
    Time(Time64MicrosecondBuilder),
    Timestamp(TimestampMicrosecondBuilder),
    Text(StringViewBuilder),
}

/// Digits of a decimal number in all, and after the point.
#[derive(Clone, Copy, Debug)]
pub(super) struct Digits {
    precision: u8,
    scale: u8,
}

impl Digits {
    /// As [`Self::read`], quick for what has few digits and no more after the point than the column has.
    fn read_short(self, text: &str) -> Option<i64> {
        self.read_plain(text.as_bytes()).or_else(|| i64::try_from(self.read(text)?).ok())
    }

    fn read_plain(self, text: &[u8]) -> Option<i64> {
        let (negative, digits) = match text {
            [b'-', digits @ ..] => (true, digits),
            digits => (false, digits),
        };
        // So many can't overflow, even with the zeros after them.
        if digits.is_empty() || digits.len() + usize::from(self.scale) > 18 {
            return None;
        }
        let (mut unscaled, mut behind) = (0_i64, None);
        for byte in digits {
            match (byte, behind) {
                (b'0'..=b'9', _) => {
                    unscaled = unscaled * 10 + i64::from(byte - b'0');
                    behind = behind.map(|behind| behind + 1);
                }
                (b'.', None) if digits.len() > 1 => behind = Some(0_u8),
                _ => return None,
            }
        }
        let missing = self.scale.checked_sub(behind.unwrap_or(0))?;
        unscaled *= 10_i64.pow(u32::from(missing));
        let fits = unscaled < 10_i64.pow(u32::from(self.precision));
        fits.then_some(if negative { -unscaled } else { unscaled })
    }

    /// The number at this scale, when it has no more digits; nothing is rounded away.
    fn read(self, text: &str) -> Option<i128> {
        let decimal = Decimal::parse(text)?;
        let unscaled = rescale(decimal.unscaled, decimal.scale, self.scale)?;
        let exact = decimal.scale <= self.scale
            || rescale(unscaled, self.scale, decimal.scale).is_some_and(|back| back == decimal.unscaled);
        (exact && unscaled.unsigned_abs() < power_of_ten(self.precision)?.unsigned_abs()).then_some(unscaled)
    }
}

/// The text without white space around it, which most have none of.
pub(super) fn trimmed(text: &str) -> &str {
    match text.as_bytes() {
        [b'!'..=b'~'] | [b'!'..=b'~', .., b'!'..=b'~'] => text,
        _ => text.trim(),
    }
}

/// A text does not have the type of the column.
#[derive(Debug)]
pub(super) struct Misfit;

impl ColumnBuilder {
    /// An empty column of a type.
    pub(super) fn new(sql_type: SqlType) -> Self {
        let data_type = sql_type.arrow();
        match sql_type {
            SqlType::Boolean => Self::Boolean(BooleanBuilder::new()),
            SqlType::SmallInt => Self::SmallInt(Int16Builder::new()),
            SqlType::Integer => Self::Integer(Int32Builder::new()),
            SqlType::BigInt => Self::BigInt(Int64Builder::new()),
            SqlType::Numeric { precision, scale } if precision <= 18 => {
                Self::Narrow(Decimal64Builder::new().with_data_type(data_type), Digits { precision, scale })
            }
            SqlType::Numeric { precision, scale } => {
                Self::Wide(Decimal128Builder::new().with_data_type(data_type), Digits { precision, scale })
            }
            SqlType::Double => Self::Double(Float64Builder::new()),
            SqlType::Date => Self::Date(Date32Builder::new()),
            SqlType::Time => Self::Time(Time64MicrosecondBuilder::new()),
            SqlType::Timestamp => Self::Timestamp(TimestampMicrosecondBuilder::new()),
            _ => Self::Text(StringViewBuilder::new().with_deduplicate_strings()),
        }
    }

    /// Whether texts become values of this type here; of other types, text is kept to be cast later.
    pub(super) fn reads(sql_type: SqlType) -> bool {
        matches!(
            sql_type,
            SqlType::Boolean
                | SqlType::SmallInt
                | SqlType::Integer
                | SqlType::BigInt
                | SqlType::Numeric { .. }
                | SqlType::Double
                | SqlType::Date
                | SqlType::Time
                | SqlType::Timestamp
        )
    }

    /// Adds a value; `None` is NULL.
    pub(super) fn push(&mut self, text: Option<&str>, formats: &Formats) -> Result<(), Misfit> {
        fn read<T>(text: Option<&str>, parse: impl FnOnce(&str) -> Option<T>) -> Result<Option<T>, Misfit> {
            text.map(|text| parse(trimmed(text)).ok_or(Misfit)).transpose()
        }
        let truth = |text: &str| match text {
            _ if text.eq_ignore_ascii_case("true") => Some(true),
            _ if text.eq_ignore_ascii_case("false") => Some(false),
            _ => None,
        };
        let finite = |text: &str| formats.number(text).parse::<f64>().ok().filter(|value| value.is_finite());
        match self {
            Self::Boolean(builder) => builder.append_option(read(text, truth)?),
            Self::SmallInt(builder) => builder.append_option(read(text, |text| text.parse().ok())?),
            Self::Integer(builder) => builder.append_option(read(text, |text| text.parse().ok())?),
            Self::BigInt(builder) => builder.append_option(read(text, |text| text.parse().ok())?),
            Self::Narrow(builder, digits) => {
                builder.append_option(read(text, |text| digits.read_short(&formats.number(text)))?);
            }
            Self::Wide(builder, digits) => {
                builder.append_option(read(text, |text| digits.read(&formats.number(text)))?);
            }
            Self::Double(builder) => builder.append_option(read(text, finite)?.map(|value| value + 0.0)),
            Self::Date(builder) => builder.append_option(read(text, |text| formats.date(text))?),
            Self::Time(builder) => builder.append_option(read(text, |text| formats.time(text))?),
            Self::Timestamp(builder) => builder.append_option(read(text, |text| formats.timestamp(text))?),
            Self::Text(builder) => builder.append_option(text),
        }
        Ok(())
    }

    /// The values so far as an array; the builder goes on empty.
    pub(super) fn finish(&mut self) -> ArrayRef {
        match self {
            Self::Boolean(builder) => Arc::new(builder.finish()),
            Self::SmallInt(builder) => Arc::new(builder.finish()),
            Self::Integer(builder) => Arc::new(builder.finish()),
            Self::BigInt(builder) => Arc::new(builder.finish()),
            Self::Narrow(builder, _) => Arc::new(builder.finish()),
            Self::Wide(builder, _) => Arc::new(builder.finish()),
            Self::Double(builder) => Arc::new(builder.finish()),
            Self::Date(builder) => Arc::new(builder.finish()),
            Self::Time(builder) => Arc::new(builder.finish()),
            Self::Timestamp(builder) => Arc::new(builder.finish()),
            Self::Text(builder) => Arc::new(builder.finish()),
        }
    }
}
