use crate::diagnostic::{Facts, SqlState};
use crate::types::SqlType;

/// What can go wrong for the values of a row.
#[derive(Debug, PartialEq, thiserror::Error)]
pub(crate) enum Problem {
    #[error("division by zero")]
    DivisionByZero,
    #[error("the result does not fit {0}")]
    Overflow(SqlType),
    #[error("{value} does not fit {target}")]
    OutOfRange { value: String, target: SqlType },
    #[error("'{text}' is no {target}")]
    NoSuchValue { text: String, target: SqlType },
    #[error("'{text}' has {length} characters and does not fit {target}")]
    TextTooLong { text: String, length: usize, target: SqlType },
    #[error("the date or time is outside of the years 1 to 9999")]
    OutsideCalendar,
    #[error("the escape '{0}' of LIKE is not one character")]
    EscapeLength(String),
    #[error(
        "in the pattern '{pattern}' the escape {escape:?} stands before a character that is none of %, _ and the escape"
    )]
    EscapeSequence { pattern: String, escape: char },
}

impl Facts for Problem {
    fn state(&self) -> SqlState {
        match self {
            Self::DivisionByZero => SqlState::DIVISION_BY_ZERO,
            Self::Overflow(_) | Self::OutOfRange { .. } => SqlState::NUMERIC_OUT_OF_RANGE,
            Self::NoSuchValue { target: SqlType::Date | SqlType::Time | SqlType::Timestamp, .. } => {
                SqlState::INVALID_DATETIME_FORMAT
            }
            Self::NoSuchValue { .. } => SqlState::INVALID_CHARACTER_VALUE,
            Self::TextTooLong { .. } => SqlState::STRING_RIGHT_TRUNCATION,
            Self::OutsideCalendar => SqlState::DATETIME_FIELD_OVERFLOW,
            Self::EscapeLength(_) => SqlState::INVALID_ESCAPE_CHARACTER,
            Self::EscapeSequence { .. } => SqlState::INVALID_ESCAPE_SEQUENCE,
        }
    }

    fn help(&self) -> Option<String> {
        match self {
            Self::DivisionByZero => Some("NULLIF(divisor, 0) gives NULL in place of the error".into()),
            Self::Overflow(SqlType::SmallInt | SqlType::Integer) => Some("CAST an operand to BIGINT or NUMERIC".into()),
            Self::Overflow(SqlType::BigInt) => Some("CAST an operand to NUMERIC".into()),
            _ => None,
        }
    }
}
