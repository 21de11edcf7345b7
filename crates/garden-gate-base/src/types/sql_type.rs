use super::composite::{RowField, common_row};
use std::fmt;

/// A data type of ISO/IEC 9075-2, clause 6.1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum SqlType {
    /// The type of a bare `NULL` or of a parameter whose use has not settled its type yet.
    Null,
    /// TRUE, FALSE and UNKNOWN (which is the NULL of this type).
    Boolean,
    /// 16-bit integer.
    SmallInt,
    /// 32-bit integer.
    Integer,
    /// 64-bit integer.
    BigInt,
    /// Exact decimal: digits in all (1 to 38) and digits after the point (0 to 38).
    Numeric {
        /// Digits in all.
        precision: u8,
        /// Digits after the point.
        scale: u8,
    },
    /// 32-bit floating point.
    Real,
    /// 64-bit floating point.
    Double,
    /// Character string of exactly this many characters, filled up with blanks.
    Char(u32),
    /// Character string; `None` for no limit of length.
    Varchar(Option<u32>),
    /// Binary string of exactly this many bytes.
    Binary(u32),
    /// Binary string; `None` for no limit of length.
    Varbinary(Option<u32>),
    /// A universally unique identifier: 16 bytes.
    Uuid,
    /// An address of the internet, of either family, in 16 bytes.
    IpAddress,
    /// A day of the Gregorian calendar.
    Date,
    /// A time of day in microseconds, without time zone.
    Time,
    /// A time of day of an instant, in microseconds; times are compared as they are in UTC.
    TimeTz,
    /// A day and a time of day in microseconds, without time zone.
    Timestamp,
    /// An instant, in microseconds.
    TimestampTz,
    /// Interval of years and months.
    YearMonth,
    /// Interval of days, hours, minutes, seconds.
    DayTime,
    /// Array of any number of elements of one type; see [`SqlType::array_of`].
    Array(&'static SqlType),
    /// Row of named fields; see [`SqlType::row_of`].
    Row(&'static [RowField]),
}

/// The largest precision of NUMERIC.
pub(super) const MAX_PRECISION: u8 = 38;
/// The largest precision of a NUMERIC whose values are kept as 64-bit integers.
pub const LONG_PRECISION: u8 = 18;

impl SqlType {
    pub const TEXT: Self = Self::Varchar(None);

    /// NUMERIC with as many digits as there may be at most.
    pub fn numeric(precision: u8, scale: u8) -> Self {
        Self::Numeric { precision: precision.clamp(1, MAX_PRECISION), scale: scale.min(MAX_PRECISION) }
    }

    /// Whether arithmetic applies: integers, decimals, floating point.
    pub fn is_number(self) -> bool {
        self.is_exact() || self.is_approximate()
    }

    /// SMALLINT, INTEGER or BIGINT.
    pub fn is_integer(self) -> bool {
        matches!(self, Self::SmallInt | Self::Integer | Self::BigInt)
    }

    /// A number without rounding: an integer or NUMERIC.
    pub fn is_exact(self) -> bool {
        self.is_integer() || matches!(self, Self::Numeric { .. })
    }

    /// Whether its values are kept as integers of at most 64 bits: decimals of few digits, days and times too.
    pub fn is_whole(self) -> bool {
        self.is_integer()
            || self.is_interval()
            || matches!(self, Self::Numeric { precision, .. } if precision <= LONG_PRECISION)
            || matches!(self, Self::Date | Self::Time | Self::Timestamp | Self::TimestampTz)
    }

    /// REAL or DOUBLE PRECISION.
    pub fn is_approximate(self) -> bool {
        matches!(self, Self::Real | Self::Double)
    }

    /// CHAR or VARCHAR.
    pub fn is_text(self) -> bool {
        matches!(self, Self::Varchar(_) | Self::Char(_))
    }

    /// BINARY or VARBINARY.
    pub fn is_binary(self) -> bool {
        matches!(self, Self::Binary(_) | Self::Varbinary(_))
    }

    /// Whether it is a day, a time of day, or both.
    pub fn is_datetime(self) -> bool {
        matches!(self, Self::Date | Self::Time | Self::TimeTz | Self::Timestamp | Self::TimestampTz)
    }

    /// An interval of months, or of microseconds.
    pub fn is_interval(self) -> bool {
        matches!(self, Self::YearMonth | Self::DayTime)
    }

    /// Precision and scale of an exact number; integers have the digits that hold their range.
    pub fn digits(self) -> Option<(u8, u8)> {
        match self {
            Self::SmallInt => Some((5, 0)),
            Self::Integer => Some((10, 0)),
            Self::BigInt => Some((19, 0)),
            Self::Numeric { precision, scale } => Some((precision, scale)),
            _ => None,
        }
    }

    /// The type that holds every value of both, or `None` when there is none (clause 9.5, result of data type combinations).
    pub fn common(self, other: Self) -> Option<Self> {
        match (self, other) {
            (a, b) if a == b => Some(a),
            (Self::Null, t) | (t, Self::Null) => Some(t),
            (Self::Varchar(a), Self::Varchar(b)) => Some(Self::Varchar(a.zip(b).map(|(a, b)| a.max(b)))),
            (Self::Char(a), Self::Char(b)) => Some(Self::Char(a.max(b))),
            (Self::Char(n), Self::Varchar(m)) | (Self::Varchar(m), Self::Char(n)) => {
                Some(Self::Varchar(m.map(|m| m.max(n))))
            }
            (a, b) if a.is_binary() && b.is_binary() => Some(Self::Varbinary(binary_length(a, b))),
            (Self::Timestamp | Self::TimestampTz, Self::Timestamp | Self::TimestampTz) => Some(Self::TimestampTz),
            (Self::Time | Self::TimeTz, Self::Time | Self::TimeTz) => Some(Self::TimeTz),
            (Self::Array(a), Self::Array(b)) => Some(Self::array_of(a.common(*b)?)),
            (Self::Row(a), Self::Row(b)) => common_row(a, b),
            (a, b) if a.is_integer() && b.is_integer() => Some(if a.digits() > b.digits() { a } else { b }),
            (a, b) if a.is_exact() && b.is_exact() => {
                let ((p1, s1), (p2, s2)) = (a.digits()?, b.digits()?);
                let scale = s1.max(s2);
                Some(Self::numeric((p1 - s1).max(p2 - s2).saturating_add(scale), scale))
            }
            (a, b) if a.is_number() && b.is_number() => Some(Self::Double),
            _ => None,
        }
    }
}

/// The length that holds both binary strings; `None` when one has no limit.
fn binary_length(a: SqlType, b: SqlType) -> Option<u32> {
    let length = |t: SqlType| match t {
        SqlType::Binary(length) => Some(length),
        SqlType::Varbinary(length) => length,
        _ => None,
    };
    Some(length(a)?.max(length(b)?))
}

impl fmt::Display for SqlType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Null => f.write_str("NULL"),
            Self::Boolean => f.write_str("BOOLEAN"),
            Self::SmallInt => f.write_str("SMALLINT"),
            Self::Integer => f.write_str("INTEGER"),
            Self::BigInt => f.write_str("BIGINT"),
            Self::Numeric { precision, scale } => write!(f, "NUMERIC({precision},{scale})"),
            Self::Real => f.write_str("REAL"),
            Self::Double => f.write_str("DOUBLE PRECISION"),
            Self::Char(length) => write!(f, "CHAR({length})"),
            Self::Binary(length) => write!(f, "BINARY({length})"),
            Self::Varbinary(None) => f.write_str("VARBINARY"),
            Self::Varbinary(Some(length)) => write!(f, "VARBINARY({length})"),
            Self::Uuid => f.write_str("UUID"),
            Self::IpAddress => f.write_str("IPADDRESS"),
            Self::Array(element) => write!(f, "{element} ARRAY"),
            Self::Row(fields) => {
                f.write_str("ROW(")?;
                for (at, field) in fields.iter().enumerate() {
                    write!(f, "{}{} {}", if at > 0 { ", " } else { "" }, field.name, field.sql_type)?;
                }
                f.write_str(")")
            }
            Self::Varchar(None) => f.write_str("VARCHAR"),
            Self::Varchar(Some(length)) => write!(f, "VARCHAR({length})"),
            Self::Date => f.write_str("DATE"),
            Self::Time => f.write_str("TIME"),
            Self::TimeTz => f.write_str("TIME WITH TIME ZONE"),
            Self::Timestamp => f.write_str("TIMESTAMP"),
            Self::TimestampTz => f.write_str("TIMESTAMP WITH TIME ZONE"),
            Self::YearMonth => f.write_str("INTERVAL YEAR TO MONTH"),
            Self::DayTime => f.write_str("INTERVAL DAY TO SECOND"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::SqlType as T;

    #[test]
    fn common_types_hold_both_sides() {
        let cases = [
            (T::Integer, T::BigInt, Some(T::BigInt)),
            (T::Integer, T::numeric(4, 2), Some(T::numeric(12, 2))),
            (T::numeric(10, 0), T::numeric(4, 4), Some(T::numeric(14, 4))),
            (T::numeric(38, 0), T::numeric(4, 4), Some(T::numeric(38, 4))),
            (T::SmallInt, T::Double, Some(T::Double)),
            (T::Real, T::Double, Some(T::Double)),
            (T::Null, T::Date, Some(T::Date)),
            (T::Varchar(Some(3)), T::Varchar(Some(7)), Some(T::Varchar(Some(7)))),
            (T::Varchar(Some(3)), T::TEXT, Some(T::TEXT)),
            (T::Char(3), T::Char(7), Some(T::Char(7))),
            (T::Char(3), T::Varchar(Some(2)), Some(T::Varchar(Some(3)))),
            (T::Binary(3), T::Varbinary(Some(7)), Some(T::Varbinary(Some(7)))),
            (T::Timestamp, T::TimestampTz, Some(T::TimestampTz)),
            (T::Time, T::TimeTz, Some(T::TimeTz)),
            (T::array_of(T::Integer), T::array_of(T::BigInt), Some(T::array_of(T::BigInt))),
            (T::array_of(T::Integer), T::array_of(T::Date), None),
            (T::Date, T::TEXT, None),
            (T::Boolean, T::Integer, None),
            (T::YearMonth, T::DayTime, None),
        ];
        for (a, b, expected) in cases {
            assert_eq!(a.common(b), expected, "{a} with {b}");
            assert_eq!(b.common(a), expected, "{b} with {a}");
        }
    }
}
