//! Values and rows as Rust types.

use super::Row;
use crate::diagnostic::Result;
use crate::types::{Decimal, Value};
use chrono::{DateTime, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Utc};
use std::net::{IpAddr, Ipv6Addr};

/// A Rust type that a value can be read as.
pub trait FromValue: Sized {
    /// The value, or `None` when it is of another type or does not fit.
    fn from_value(value: Value) -> Option<Self>;

    /// An ARRAY of such values; of bytes a binary string.
    #[doc(hidden)]
    fn from_values(value: Value) -> Option<Vec<Self>> {
        match value {
            Value::Array(values) => values.into_iter().map(Self::from_value).collect(),
            _ => None,
        }
    }
}

macro_rules! from_value {
    ($($target:ty => $($pattern:pat => $result:expr),+;)*) => {$(
        impl FromValue for $target {
            fn from_value(value: Value) -> Option<Self> {
                match value {
                    $($pattern => $result,)+
                    _ => None,
                }
            }
        }
    )*};
}

macro_rules! from_integer {
    ($($target:ty),*) => {$(
        impl FromValue for $target {
            fn from_value(value: Value) -> Option<Self> {
                match value {
                    Value::Integer(value) => Self::try_from(value).ok(),
                    Value::Numeric(Decimal { unscaled, scale: 0 }) => Self::try_from(unscaled).ok(),
                    _ => None,
                }
            }
        }
    )*};
}

from_integer!(i8, i16, i32, i64, i128, isize, u16, u32, u64, u128, usize);

from_value! {
    bool => Value::Boolean(value) => Some(value);
    f64 => Value::Double(value) => Some(value), Value::Integer(value) => Some(crate::types::approximate(value)),
        Value::Numeric(value) => Some(value.to_f64());
    Decimal => Value::Numeric(value) => Some(value), Value::Integer(value) => Some(Self { unscaled: value.into(), scale: 0 });
    String => Value::Text(value) => Some(value);
    char => Value::Text(value) => single_char(&value);
    [u8; 16] => Value::Uuid(bytes) => Some(bytes);
    IpAddr => Value::IpAddress(bytes) => Some(Ipv6Addr::from(bytes).to_canonical());
    NaiveDate => Value::Date(days) => Self::default().checked_add_signed(TimeDelta::days(days.into()));
    NaiveTime => Value::Time(micros) => time(micros);
    NaiveDateTime => Value::Timestamp(micros) => DateTime::from_timestamp_micros(micros).map(|moment| moment.naive_utc());
    DateTime<Utc> => Value::Instant(micros) => DateTime::from_timestamp_micros(micros);
    TimeDelta => Value::Micros(micros) => Some(Self::microseconds(micros));
}

impl FromValue for f32 {
    /// The nearest number of this type; `None` past its range.
    fn from_value(value: Value) -> Option<Self> {
        let value = f64::from_value(value)?;
        #[expect(clippy::cast_possible_truncation, reason = "the nearest number is what is asked for")]
        let nearest = value as Self;
        (nearest.is_finite() || !value.is_finite()).then_some(nearest)
    }
}

impl FromValue for u8 {
    fn from_value(value: Value) -> Option<Self> {
        u16::from_value(value).and_then(|value| Self::try_from(value).ok())
    }

    fn from_values(value: Value) -> Option<Vec<Self>> {
        if let Value::Binary(bytes) = value { Some(bytes) } else { None }
    }
}

impl FromValue for Value {
    fn from_value(value: Value) -> Option<Self> {
        Some(value)
    }
}

impl<T: FromValue> FromValue for Option<T> {
    fn from_value(value: Value) -> Option<Self> {
        if value.is_null() { Some(None) } else { T::from_value(value).map(Some) }
    }
}

impl<T: FromValue> FromValue for Vec<T> {
    fn from_value(value: Value) -> Option<Self> {
        T::from_values(value)
    }
}

fn single_char(text: &str) -> Option<char> {
    let mut letters = text.chars();
    letters.next().filter(|_| letters.next().is_none())
}

fn time(micros: i64) -> Option<NaiveTime> {
    let (seconds, rest) = (micros.div_euclid(1_000_000), micros.rem_euclid(1_000_000));
    NaiveTime::from_num_seconds_from_midnight_opt(u32::try_from(seconds).ok()?, u32::try_from(rest * 1000).ok()?)
}

/// A Rust type that a row can be read as: a tuple of types that its columns can be read as, in order.
///
/// ```
/// # fn main() -> garden_gate::Result<()> {
/// let mut session = garden_gate::Database::in_memory().session();
/// let (name, beds): (String, u32) = session.query("SELECT 'shade', 4", ())?.one()?;
/// assert_eq!((name.as_str(), beds), ("shade", 4));
/// # Ok(())
/// # }
/// ```
pub trait FromRow: Sized {
    /// Reads a row.
    ///
    /// # Errors
    /// 42S22 when the row has fewer or more columns, 22000 when a value is of another type.
    fn from_row(row: Row<'_>) -> Result<Self>;
}

macro_rules! from_row {
    ($(($($field:ident $place:tt),+);)*) => {$(
        impl<$($field: FromValue),+> FromRow for ($($field,)+) {
            fn from_row(row: Row<'_>) -> Result<Self> {
                row.check_width([$($place),+].len())?;
                Ok(($(row.get::<$field>($place)?,)+))
            }
        }
    )*};
}

from_row! {
    (A 0);
    (A 0, B 1);
    (A 0, B 1, C 2);
    (A 0, B 1, C 2, D 3);
    (A 0, B 1, C 2, D 3, E 4);
    (A 0, B 1, C 2, D 3, E 4, F 5);
    (A 0, B 1, C 2, D 3, E 4, F 5, G 6);
    (A 0, B 1, C 2, D 3, E 4, F 5, G 6, H 7);
}
