use super::RowField;
use super::SqlType;
use super::sql_type::LONG_PRECISION;
use arrow::datatypes::{DataType, Field, IntervalUnit, TimeUnit};
use std::sync::Arc;

impl SqlType {
    /// The one Arrow type that holds this SQL type in memory (design: execution).
    pub fn arrow(self) -> DataType {
        match self {
            Self::Null | Self::Varchar(_) | Self::Char(_) => DataType::Utf8View,
            Self::Boolean => DataType::Boolean,
            Self::SmallInt => DataType::Int16,
            Self::Integer => DataType::Int32,
            Self::BigInt => DataType::Int64,
            Self::Numeric { precision, scale } if precision <= LONG_PRECISION => {
                DataType::Decimal64(precision, scale.cast_signed())
            }
            Self::Numeric { precision, scale } => DataType::Decimal128(precision, scale.cast_signed()),
            Self::Real => DataType::Float32,
            Self::Double => DataType::Float64,
            Self::Date => DataType::Date32,
            Self::Time | Self::TimeTz => DataType::Time64(TimeUnit::Microsecond),
            Self::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, None),
            Self::TimestampTz => DataType::Timestamp(TimeUnit::Microsecond, Some("UTC".into())),
            Self::Binary(_) | Self::Varbinary(_) => DataType::BinaryView,
            Self::Uuid | Self::IpAddress => DataType::FixedSizeBinary(16),
            Self::Array(element) => DataType::List(Arc::new(Field::new("element", element.arrow(), true))),
            Self::Row(fields) => {
                let field = |field: &RowField| Field::new(&field.name, field.sql_type.arrow(), true);
                DataType::Struct(fields.iter().map(field).collect())
            }
            Self::YearMonth => DataType::Interval(IntervalUnit::YearMonth),
            Self::DayTime => DataType::Duration(TimeUnit::Microsecond),
        }
    }

    /// The SQL type that can hold every value of an Arrow type, or `None` when there is none yet.
    pub fn from_arrow(data_type: &DataType) -> Option<Self> {
        Some(match data_type {
            DataType::Boolean => Self::Boolean,
            DataType::Int8 | DataType::Int16 | DataType::UInt8 => Self::SmallInt,
            DataType::Int32 | DataType::UInt16 => Self::Integer,
            DataType::Int64 | DataType::UInt32 => Self::BigInt,
            DataType::UInt64 => Self::numeric(20, 0),
            DataType::Float16 | DataType::Float32 => Self::Real,
            DataType::Float64 => Self::Double,
            DataType::Decimal32(p, s)
            | DataType::Decimal64(p, s)
            | DataType::Decimal128(p, s)
            | DataType::Decimal256(p, s)
                if *s >= 0 && s.unsigned_abs() <= *p && *p <= super::sql_type::MAX_PRECISION =>
            {
                Self::numeric(*p, s.unsigned_abs())
            }
            DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View | DataType::Null => Self::TEXT,
            DataType::Dictionary(_, values) => Self::from_arrow(values)?,
            DataType::Date32 | DataType::Date64 => Self::Date,
            DataType::Time32(_) | DataType::Time64(_) => Self::Time,
            DataType::Timestamp(_, Some(_)) => Self::TimestampTz,
            DataType::Binary | DataType::LargeBinary | DataType::BinaryView => Self::Varbinary(None),
            DataType::FixedSizeBinary(16) => Self::Uuid,
            DataType::FixedSizeBinary(length) => Self::Binary(u32::try_from(*length).ok()?),
            DataType::Timestamp(_, None) => Self::Timestamp,
            DataType::Interval(IntervalUnit::YearMonth) => Self::YearMonth,
            DataType::Duration(_) => Self::DayTime,
            _ => return None,
        })
    }
}
