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

/// Digits of a decimal number in all, and behind the point.
#[derive(Clone, Copy, Debug)]
pub(super) struct Digits {
    precision: u8,
    scale: u8,
}

impl Digits {
    /// The number at this scale, when it has no more digits; nothing is rounded away.
    fn read(self, text: &str) -> Option<i128> {
        let decimal = Decimal::parse(text)?;
        let unscaled = rescale(decimal.unscaled, decimal.scale, self.scale)?;
        let exact = decimal.scale <= self.scale
            || rescale(unscaled, self.scale, decimal.scale).is_some_and(|back| back == decimal.unscaled);
        (exact && unscaled.unsigned_abs() < power_of_ten(self.precision)?.unsigned_abs()).then_some(unscaled)
    }
}

/// A text does not have the type of the column.
#[derive(Debug)]
pub(super) struct Misfit;

impl ColumnBuilder {
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
            text.map(|text| parse(text.trim()).ok_or(Misfit)).transpose()
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
                let value = read(text, |text| i64::try_from(digits.read(&formats.number(text))?).ok());
                builder.append_option(value?);
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
