//! A type as CREATE TABLE and CAST name it: with limits that its values are held to, though their representation does not change.

use super::SqlType;
use super::interval::Fields;
use std::fmt;

/// A type and what its values are held to besides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DeclaredType {
    pub sql_type: SqlType,
    pub limit: Option<TypeLimit>,
}

/// What values are held to when they are stored or cast.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TypeLimit {
    /// Digits after the point of a second, 0 to 5; further ones are dropped.
    SecondDigits(u8),
    /// The maximum cardinality of an array (2202F past it).
    Elements(i32),
    /// The fields of an interval; what is smaller than the last one is dropped.
    Fields(Fields),
}

impl TypeLimit {
    /// What the values of both are held to; `None` where that is nothing.
    pub fn with(self, other: Self) -> Option<Self> {
        match (self, other) {
            (Self::SecondDigits(a), Self::SecondDigits(b)) => Some(Self::SecondDigits(a.max(b))),
            (Self::Elements(a), Self::Elements(b)) => Some(Self::Elements(a.max(b))),
            (Self::Fields(a), Self::Fields(b)) => a.with(b).filter(|fields| !fields.are_all()).map(Self::Fields),
            (Self::SecondDigits(_) | Self::Elements(_) | Self::Fields(_), _) => None,
        }
    }
}

impl From<SqlType> for DeclaredType {
    fn from(sql_type: SqlType) -> Self {
        Self { sql_type, limit: None }
    }
}

impl fmt::Display for DeclaredType {
    /// As it is written: `TIMESTAMP(3) WITH TIME ZONE`, `INTEGER ARRAY[4]`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = self.sql_type.to_string();
        match self.limit {
            None => f.write_str(&text),
            Some(TypeLimit::Elements(most)) => write!(f, "{text}[{most}]"),
            Some(TypeLimit::Fields(fields)) => write!(f, "INTERVAL {fields}"),
            Some(TypeLimit::SecondDigits(digits)) => match text.split_once(' ') {
                Some((first, rest)) => write!(f, "{first}({digits}) {rest}"),
                None => write!(f, "{text}({digits})"),
            },
        }
    }
}
