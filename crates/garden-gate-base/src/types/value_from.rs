//! Values from Rust types.

use super::{Decimal, Value};
use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, TimeZone, Timelike, Utc};
use std::borrow::Cow;
use std::net::IpAddr;

macro_rules! value_from {
    ($($source:ty => $make:expr),* $(,)?) => {$(
        impl From<$source> for Value {
            fn from(value: $source) -> Self {
                let make: fn($source) -> Self = $make;
                make(value)
            }
        }

        /// An ARRAY.
        impl From<Vec<$source>> for Value {
            fn from(values: Vec<$source>) -> Self {
                Self::Array(values.into_iter().map(Into::into).collect())
            }
        }
    )*};
}

value_from! {
    bool => Self::Boolean,
    i8 => |value| Self::Integer(value.into()),
    i16 => |value| Self::Integer(value.into()),
    i32 => |value| Self::Integer(value.into()),
    i64 => Self::Integer,
    isize => |value| integer(value as i128),
    u16 => |value| Self::Integer(value.into()),
    u32 => |value| Self::Integer(value.into()),
    u64 => |value| integer(value.into()),
    usize => |value| integer(value as i128),
    f32 => |value| Self::Double(value.into()),
    f64 => Self::Double,
    Decimal => Self::Numeric,
    char => |value| Self::Text(value.into()),
    String => Self::Text,
    &str => |value| Self::Text(value.to_owned()),
    &String => |value| Self::Text(value.clone()),
    Cow<'_, str> => |value| Self::Text(value.into_owned()),
    [u8; 16] => Self::Uuid,
    IpAddr => |value| Self::IpAddress(mapped(value)),
    NaiveDate => |value| Self::Date(days(value)),
    NaiveTime => |value| Self::Time(micros_of_day(value)),
    NaiveDateTime => |value| Self::Timestamp(value.and_utc().timestamp_micros()),
    TimeDelta => |value| Self::Micros(value.num_microseconds().unwrap_or(if value < TimeDelta::zero() { i64::MIN } else { i64::MAX })),
}

/// A single byte is a number; several are a binary string.
impl From<u8> for Value {
    fn from(value: u8) -> Self {
        Self::Integer(value.into())
    }
}

impl From<Vec<u8>> for Value {
    fn from(value: Vec<u8>) -> Self {
        Self::Binary(value)
    }
}

impl From<&[u8]> for Value {
    fn from(value: &[u8]) -> Self {
        Self::Binary(value.to_vec())
    }
}

/// An instant; the zone in which it was written is not kept.
impl<Z: TimeZone> From<DateTime<Z>> for Value {
    fn from(value: DateTime<Z>) -> Self {
        Self::Instant(value.with_timezone(&Utc).timestamp_micros())
    }
}

/// An ARRAY.
impl From<Vec<Self>> for Value {
    fn from(values: Vec<Self>) -> Self {
        Self::Array(values)
    }
}

impl<T: Into<Self>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Null, Into::into)
    }
}

/// An ARRAY with NULLs.
impl<T> From<Vec<Option<T>>> for Value
where
    Self: From<T>,
{
    fn from(values: Vec<Option<T>>) -> Self {
        Self::Array(values.into_iter().map(Into::into).collect())
    }
}

impl From<&Self> for Value {
    fn from(value: &Self) -> Self {
        value.clone()
    }
}

/// BIGINT where it fits, else NUMERIC.
fn integer(value: i128) -> Value {
    i64::try_from(value).map_or(Value::Numeric(Decimal { unscaled: value, scale: 0 }), Value::Integer)
}

/// The bytes of an address; one of the older family as its mapped address.
fn mapped(address: IpAddr) -> [u8; 16] {
    match address {
        IpAddr::V4(address) => address.to_ipv6_mapped().octets(),
        IpAddr::V6(address) => address.octets(),
    }
}

fn days(date: NaiveDate) -> i32 {
    // A date of this type has fewer than 2^27 days on either side.
    i32::try_from(date.signed_duration_since(NaiveDate::default()).num_days()).unwrap_or_default()
}

fn micros_of_day(time: NaiveTime) -> i64 {
    i64::from(time.num_seconds_from_midnight()) * 1_000_000 + i64::from(time.nanosecond() / 1000)
}
