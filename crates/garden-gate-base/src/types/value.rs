use super::{Decimal, format_date, format_day_time, format_time, format_timestamp, format_year_month};
use std::fmt;

/// One cell: a value of some [`SqlType`](super::SqlType), or NULL.
///
/// `Display` gives the text of the SQL literal without its quotes; two values are equal when they are the same value of the
/// same kind (`NULL` equals `NULL` here, as in tests one wants it to).
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// The null value.
    Null,
    /// A truth value.
    Boolean(bool),
    /// SMALLINT, INTEGER or BIGINT.
    Integer(i64),
    /// NUMERIC.
    Numeric(Decimal),
    /// REAL or DOUBLE PRECISION.
    Double(f64),
    /// A character string.
    Text(String),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since midnight.
    Time(i64),
    /// A time of day with time zone: microseconds since midnight UTC.
    TimeTz(i64),
    /// Microseconds since 1970-01-01 00:00:00.
    Timestamp(i64),
    /// An instant: microseconds since 1970-01-01 00:00:00 UTC.
    Instant(i64),
    /// A binary string.
    Binary(Vec<u8>),
    /// A UUID.
    Uuid([u8; 16]),
    /// An address; one of the older family as its mapped address.
    IpAddress([u8; 16]),
    /// The elements of an ARRAY.
    Array(Vec<Value>),
    /// The fields of a ROW.
    Row(Vec<Value>),
    /// An interval of months.
    Months(i32),
    /// An interval of microseconds.
    Micros(i64),
    /// Text whose type is settled by where it is used, as from a command line; only ever a parameter value.
    Untyped(String),
}

/// Bytes of a constant that a plan holds, and copies, as a value.
const MOST_BYTES: usize = 64 << 10;

impl Value {
    /// Whether a value may stand in a plan instead of the expression that makes it.
    pub fn is_small(&self) -> bool {
        match self {
            Self::Text(text) | Self::Untyped(text) => text.len() <= MOST_BYTES,
            Self::Binary(bytes) => bytes.len() <= MOST_BYTES,
            Self::Array(values) | Self::Row(values) => {
                values.len() <= MOST_BYTES / size_of::<Self>() && values.iter().all(Self::is_small)
            }
            _ => true,
        }
    }

    /// Whether this is NULL.
    pub fn is_null(&self) -> bool {
        matches!(self, Self::Null)
    }

    /// A DATE from `YYYY-MM-DD`, or `None` when the text is no date.
    pub fn date(text: &str) -> Option<Self> {
        super::parse_date(text).map(Self::Date)
    }

    /// A NUMERIC from fixed-point text, or `None` when the text is no such number.
    pub fn numeric(text: &str) -> Option<Self> {
        Decimal::parse(text).map(Self::Numeric)
    }

    /// The value on a number line, for interpolating between the least and greatest; `None` for NULL.
    ///
    /// Text is placed by its first eight bytes, which keeps its order.
    pub fn ordinal(&self) -> Option<f64> {
        Some(match self {
            Self::Null | Self::Untyped(_) | Self::Array(_) | Self::Row(_) => return None,
            Self::Boolean(value) => f64::from(u8::from(*value)),
            Self::Integer(value)
            | Self::Time(value)
            | Self::TimeTz(value)
            | Self::Timestamp(value)
            | Self::Instant(value)
            | Self::Micros(value) => super::approximate(*value),
            Self::Numeric(value) => value.to_f64(),
            Self::Double(value) => *value,
            Self::Date(value) | Self::Months(value) => f64::from(*value),
            Self::Text(value) => first_bytes(value.as_bytes()),
            Self::Binary(value) => first_bytes(value),
            Self::Uuid(value) | Self::IpAddress(value) => first_bytes(value),
        })
    }
}

fn first_bytes(value: &[u8]) -> f64 {
    let mut bytes = [0; 8];
    let length = value.len().min(8);
    bytes[..length].copy_from_slice(&value[..length]);
    super::approximate(u64::from_be_bytes(bytes))
}

/// The parts of a composite value between brackets; text among them in quotes.
fn write_parts(f: &mut fmt::Formatter<'_>, open: &str, parts: &[Value], close: &str) -> fmt::Result {
    f.write_str(open)?;
    for (at, part) in parts.iter().enumerate() {
        let comma = if at > 0 { ", " } else { "" };
        match part {
            Value::Text(text) => write!(f, "{comma}'{}'", text.replace('\'', "''"))?,
            other => write!(f, "{comma}{other}")?,
        }
    }
    f.write_str(close)
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Null => f.write_str("NULL"),
            Self::Boolean(true) => f.write_str("TRUE"),
            Self::Boolean(false) => f.write_str("FALSE"),
            Self::Integer(value) => write!(f, "{value}"),
            Self::Numeric(value) => write!(f, "{value}"),
            Self::Double(value)
                if value.is_finite() && (value.abs() >= 1e16 || (*value != 0.0 && value.abs() < 1e-4)) =>
            {
                write!(f, "{value:E}")
            }
            Self::Double(value) => write!(f, "{value:?}"),
            Self::Text(value) | Self::Untyped(value) => f.write_str(value),
            Self::Date(days) => f.write_str(&format_date(*days)),
            Self::Time(micros) => f.write_str(&format_time(*micros)),
            Self::TimeTz(micros) => write!(f, "{}+00:00", format_time(*micros)),
            Self::Timestamp(micros) => f.write_str(&format_timestamp(*micros)),
            Self::Instant(micros) => write!(f, "{}+00:00", format_timestamp(*micros)),
            Self::Binary(bytes) => f.write_str(&super::format_hex(bytes)),
            Self::Uuid(bytes) => f.write_str(&super::format_uuid(*bytes)),
            Self::IpAddress(bytes) => f.write_str(&super::format_address(*bytes)),
            Self::Array(elements) => write_parts(f, "[", elements, "]"),
            Self::Row(fields) => write_parts(f, "(", fields, ")"),
            Self::Months(months) => f.write_str(&format_year_month(*months)),
            Self::Micros(micros) => f.write_str(&format_day_time(*micros)),
        }
    }
}

macro_rules! value_from {
    ($($source:ty => $make:expr),* $(,)?) => {$(
        impl From<$source> for Value {
            fn from(value: $source) -> Self {
                let make: fn($source) -> Self = $make;
                make(value)
            }
        }
    )*};
}

value_from! {
    bool => Self::Boolean,
    i16 => |value| Self::Integer(value.into()),
    i32 => |value| Self::Integer(value.into()),
    i64 => Self::Integer,
    f64 => Self::Double,
    Decimal => Self::Numeric,
    String => Self::Text,
    &str => |value| Self::Text(value.to_owned()),
}

impl<T: Into<Self>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Null, Into::into)
    }
}
