use super::{Decimal, format_date, format_day_time, format_time, format_timestamp, format_year_month};
use serde::{Serialize, Serializer};
use std::fmt;
use std::hash::{Hash, Hasher};

/// One cell: a value of some [`SqlType`](super::SqlType), or NULL.
///
/// `Display` gives the text of the SQL literal without its quotes; two values are equal when they are the same value of the
/// same kind (`NULL` equals `NULL` here, as in tests one wants it to).
#[derive(Clone, Debug)]
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

    /// A DATE from `YYYY-MM-DD`, or `None` when the text is not a date.
    pub fn date(text: &str) -> Option<Self> {
        super::parse_date(text).map(Self::Date)
    }

    /// A NUMERIC from fixed-point text, or `None` when the text is not such a number, or has more than 38 digits.
    pub fn numeric(text: &str) -> Option<Self> {
        Decimal::parse(text).map(Self::Numeric)
    }

    /// The value on a number line, for interpolating between the minimum and maximum; `None` for NULL.
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

/// As for SQL, 0 and -0 are one number; NaN, which no column holds, equals itself.
impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Null, Self::Null) => true,
            (Self::Boolean(a), Self::Boolean(b)) => a == b,
            (Self::Integer(a), Self::Integer(b))
            | (Self::Time(a), Self::Time(b))
            | (Self::TimeTz(a), Self::TimeTz(b))
            | (Self::Timestamp(a), Self::Timestamp(b))
            | (Self::Instant(a), Self::Instant(b))
            | (Self::Micros(a), Self::Micros(b)) => a == b,
            (Self::Numeric(a), Self::Numeric(b)) => a == b,
            (Self::Double(a), Self::Double(b)) => bits(*a) == bits(*b),
            (Self::Text(a), Self::Text(b)) | (Self::Untyped(a), Self::Untyped(b)) => a == b,
            (Self::Date(a), Self::Date(b)) | (Self::Months(a), Self::Months(b)) => a == b,
            (Self::Binary(a), Self::Binary(b)) => a == b,
            (Self::Uuid(a), Self::Uuid(b)) | (Self::IpAddress(a), Self::IpAddress(b)) => a == b,
            (Self::Array(a), Self::Array(b)) | (Self::Row(a), Self::Row(b)) => a == b,
            _ => false,
        }
    }
}

impl Eq for Value {}

impl Hash for Value {
    fn hash<H: Hasher>(&self, state: &mut H) {
        std::mem::discriminant(self).hash(state);
        match self {
            Self::Null => {}
            Self::Boolean(value) => value.hash(state),
            Self::Integer(value)
            | Self::Time(value)
            | Self::TimeTz(value)
            | Self::Timestamp(value)
            | Self::Instant(value)
            | Self::Micros(value) => value.hash(state),
            Self::Numeric(value) => value.hash(state),
            Self::Double(value) => bits(*value).hash(state),
            Self::Text(value) | Self::Untyped(value) => value.hash(state),
            Self::Date(value) | Self::Months(value) => value.hash(state),
            Self::Binary(value) => value.hash(state),
            Self::Uuid(value) | Self::IpAddress(value) => value.hash(state),
            Self::Array(values) | Self::Row(values) => values.hash(state),
        }
    }
}

/// The bits of a floating-point number, the same for numbers that are equal.
fn bits(value: f64) -> u64 {
    match value {
        _ if value.is_nan() => f64::NAN.to_bits(),
        // -0 + 0 is 0.
        value => (value + 0.0).to_bits(),
    }
}

/// NULL, truth values, integers and floating-point numbers as such; ARRAY and ROW as sequences; all else, NUMERIC among it, as its text,
/// which keeps every digit.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Null => serializer.serialize_unit(),
            Self::Boolean(value) => serializer.serialize_bool(*value),
            Self::Integer(value) => serializer.serialize_i64(*value),
            Self::Double(value) => serializer.serialize_f64(*value),
            Self::Text(text) | Self::Untyped(text) => serializer.serialize_str(text),
            Self::Array(values) | Self::Row(values) => values.serialize(serializer),
            Self::Numeric(_)
            | Self::Date(_)
            | Self::Time(_)
            | Self::TimeTz(_)
            | Self::Timestamp(_)
            | Self::Instant(_)
            | Self::Binary(_)
            | Self::Uuid(_)
            | Self::IpAddress(_)
            | Self::Months(_)
            | Self::Micros(_) => serializer.collect_str(self),
        }
    }
}
