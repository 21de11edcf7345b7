use crate::types::{Decimal, SqlType, parse_date, parse_time, parse_timestamp, rescale};
use arrow::array::{
    ArrayRef, BooleanBuilder, Date32Builder, Decimal64Builder, Decimal128Builder, Float64Builder, Int32Builder,
    Int64Builder, StringViewBuilder, Time64MicrosecondBuilder, TimestampMicrosecondBuilder,
};
use std::sync::Arc;

/// Reads texts of one column into an array of its type.
#[derive(Debug)]
pub(super) enum ColumnBuilder {
    Boolean(BooleanBuilder),
    Integer(Int32Builder),
    BigInt(Int64Builder),
    Narrow(Decimal64Builder, u8),
    Wide(Decimal128Builder, u8),
    Double(Float64Builder),
    Date(Date32Builder),
    Time(Time64MicrosecondBuilder),
    Timestamp(TimestampMicrosecondBuilder),
    Text(StringViewBuilder),
}

/// The texts do not have the type that was inferred from them: a fault of this program.
#[derive(Debug)]
pub(super) struct Misfit;

impl ColumnBuilder {
    pub(super) fn new(sql_type: SqlType) -> Self {
        let data_type = sql_type.arrow();
        match sql_type {
            SqlType::Boolean => Self::Boolean(BooleanBuilder::new()),
            SqlType::Integer => Self::Integer(Int32Builder::new()),
            SqlType::BigInt => Self::BigInt(Int64Builder::new()),
            SqlType::Numeric { precision, scale } if precision <= 18 => {
                Self::Narrow(Decimal64Builder::new().with_data_type(data_type), scale)
            }
            SqlType::Numeric { scale, .. } => Self::Wide(Decimal128Builder::new().with_data_type(data_type), scale),
            SqlType::Double => Self::Double(Float64Builder::new()),
            SqlType::Date => Self::Date(Date32Builder::new()),
            SqlType::Time => Self::Time(Time64MicrosecondBuilder::new()),
            SqlType::Timestamp => Self::Timestamp(TimestampMicrosecondBuilder::new()),
            _ => Self::Text(StringViewBuilder::new().with_deduplicate_strings()),
        }
    }

    /// Adds a value; `None` is NULL.
    pub(super) fn push(&mut self, text: Option<&str>) -> Result<(), Misfit> {
        /// A value that was inferred to be there, or NULL.
        fn read<T>(text: Option<&str>, parse: impl FnOnce(&str) -> Option<T>) -> Result<Option<T>, Misfit> {
            text.map(|text| parse(text.trim()).ok_or(Misfit)).transpose()
        }
        let unscaled = |text: &str, scale: u8| {
            let decimal = Decimal::parse(text)?;
            rescale(decimal.unscaled, decimal.scale, scale)
        };
        let day = |days: i32| i64::from(days) * crate::types::MICROS_PER_DAY;
        match self {
            Self::Boolean(builder) => {
                builder.append_option(read(text, |text| Some(text.eq_ignore_ascii_case("true")))?)
            }
            Self::Integer(builder) => builder.append_option(read(text, |text| text.parse().ok())?),
            Self::BigInt(builder) => builder.append_option(read(text, |text| text.parse().ok())?),
            Self::Narrow(builder, scale) => {
                builder.append_option(read(text, |text| i64::try_from(unscaled(text, *scale)?).ok())?);
            }
            Self::Wide(builder, scale) => builder.append_option(read(text, |text| unscaled(text, *scale))?),
            Self::Double(builder) => {
                builder.append_option(read(text, |text| text.parse::<f64>().ok().map(|value| value + 0.0))?);
            }
            Self::Date(builder) => builder.append_option(read(text, parse_date)?),
            Self::Time(builder) => builder.append_option(read(text, parse_time)?),
            Self::Timestamp(builder) => {
                builder.append_option(read(text, |text| parse_timestamp(text).or_else(|| parse_date(text).map(day)))?);
            }
            Self::Text(builder) => builder.append_option(text),
        }
        Ok(())
    }

    /// The values so far as an array; the builder goes on empty.
    pub(super) fn finish(&mut self) -> ArrayRef {
        match self {
            Self::Boolean(builder) => Arc::new(builder.finish()),
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
