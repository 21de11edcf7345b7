use crate::diagnostic::{BrokenConstraint, Error, Facts, SqlState};
use crate::types::{SqlType, Zone};

/// What can go wrong for the values of a row.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    #[error("division by zero")]
    DivisionByZero,
    #[error("the result does not fit {0}")]
    Overflow(SqlType),
    #[error("{value} does not fit {target}")]
    OutOfRange { value: String, target: SqlType },
    #[error("'{text}' is not a valid {target}")]
    NoSuchValue { text: String, target: SqlType },
    #[error("'{text}' has {length} characters and does not fit {target}")]
    TextTooLong { text: String, length: usize, target: SqlType },
    #[error("the date or time is outside the years 1 to 9999")]
    OutsideCalendar,
    #[error("a DATE has no hours, and the interval is not a number of whole days")]
    PartOfDay,
    #[error("the value lies outside {range}")]
    NoSuchMoment { range: &'static str },
    #[error("the number has more digits than {target}")]
    TooManyDigits { target: SqlType },
    /// A limit of the statement is reached.
    #[error("{message}")]
    Stopped { state: SqlState, message: String, help: Option<String> },
    #[error("the escape '{0}' of LIKE is not one character")]
    EscapeLength(String),
    #[error(
        "in the pattern '{pattern}' the escape {escape:?} appears before a character that is none of %, _ and the escape"
    )]
    EscapeSequence { pattern: String, escape: char },
    #[error("a query instead of a value gives more than one row")]
    SeveralRows,
    #[error("a length of {length} characters is not possible")]
    SubstringLength { length: i64 },
    #[error("TRIM takes off one character, '{text}' is not one")]
    TrimCharacter { text: String },
    #[error("no transliteration {name}")]
    NoTransliteration { name: String },
    #[error("'{pattern}' is not a regular expression: {reason}")]
    BadRegularExpression { pattern: String, reason: String },
    #[error("{flag:?} is not a flag of a regular expression")]
    BadRegexFlag { flag: char },
    #[error("{base} has no power {exponent} that is a real number")]
    NoPower { base: String, exponent: String },
    #[error("{number} has no logarithm")]
    NoLogarithm { number: String },
    #[error("WIDTH_BUCKET needs at least one bucket and two different bounds")]
    NoBucket,
    #[error("NTILE cuts into at least one part, not {parts}")]
    NoTile { parts: i64 },
    #[error("NTH_VALUE counts from 1, not {number}")]
    BadNth { number: i64 },
    #[error("the distance of a frame is negative or NULL")]
    BadDistance,
    #[error("the array has {count} elements, there is none at {place}")]
    NoElement { place: i64, count: usize },
    #[error("an element has a place from 1 to {most}, not {place}")]
    NoPlace { place: i64, most: usize },
    #[error("an array that is NULL has no element to be set")]
    NullArray,
    #[error("the array has {count} elements, and may have {most}")]
    ArrayTooLong { count: usize, most: i64 },
    /// A fault of the engine itself; never one of the data.
    #[error("internal error: {0}")]
    Internal(&'static str),
    #[error("{name} of a row marker has its value over a frame only")]
    OutsideFrame { name: &'static str },
    #[error("'{zone}' is not a time zone")]
    NoSuchZone { zone: String },
    #[error("the share {share} does not lie between 0 and 1")]
    BadShare { share: String },
    #[error("a sample has between 0 and 100 percent of the rows, not {share}")]
    BadSampleSize { share: String },
    #[error("the number of REPEATABLE is NULL")]
    BadRepeat,
    #[error("the value breaks {check} of domain {domain:?}")]
    OutsideDomain { domain: String, check: String },
    #[error("LISTAGG makes a text of more than {most} characters")]
    ListTooLong { most: usize },
}

impl From<Error> for Problem {
    fn from(error: Error) -> Self {
        Self::Stopped {
            state: error.sqlstate(),
            message: error.message().to_owned(),
            help: error.help().map(str::to_owned),
        }
    }
}

/// The error for a text that is not a time zone.
pub fn no_such_zone(zone: String) -> Error {
    Error::from_facts(&Problem::NoSuchZone { zone })
}

impl Facts for Problem {
    fn state(&self) -> SqlState {
        match self {
            Self::DivisionByZero => SqlState::DIVISION_BY_ZERO,
            Self::Stopped { state, .. } => *state,
            Self::Overflow(SqlType::YearMonth | SqlType::DayTime) => SqlState::INTERVAL_OVERFLOW,
            Self::Overflow(_) | Self::OutOfRange { .. } | Self::TooManyDigits { .. } | Self::NoSuchMoment { .. } => {
                SqlState::NUMERIC_OUT_OF_RANGE
            }
            Self::NoSuchValue {
                target: SqlType::Date | SqlType::Time | SqlType::TimeTz | SqlType::Timestamp | SqlType::TimestampTz,
                ..
            } => SqlState::INVALID_DATETIME_FORMAT,
            Self::NoSuchValue { .. } => SqlState::INVALID_CHARACTER_VALUE,
            Self::TextTooLong { .. } => SqlState::STRING_RIGHT_TRUNCATION,
            Self::OutsideCalendar | Self::PartOfDay => SqlState::DATETIME_FIELD_OVERFLOW,
            Self::EscapeLength(_) => SqlState::INVALID_ESCAPE_CHARACTER,
            Self::EscapeSequence { .. } => SqlState::INVALID_ESCAPE_SEQUENCE,
            Self::SeveralRows => SqlState::CARDINALITY,
            Self::SubstringLength { .. } => SqlState::SUBSTRING_ERROR,
            Self::TrimCharacter { .. } => SqlState::TRIM_ERROR,
            Self::NoTransliteration { .. } => SqlState::DATA_EXCEPTION,
            Self::BadShare { .. } => SqlState::NUMERIC_OUT_OF_RANGE,
            Self::BadRegularExpression { .. } => SqlState::INVALID_REGULAR_EXPRESSION,
            Self::BadRegexFlag { .. } => SqlState::INVALID_REGEX_FLAG,
            Self::NoPower { .. } => SqlState::INVALID_POWER,
            Self::NoLogarithm { .. } => SqlState::INVALID_LOGARITHM,
            Self::NoBucket => SqlState::INVALID_WIDTH_BUCKET,
            Self::NoTile { .. } => SqlState::INVALID_NTILE,
            Self::BadNth { .. } => SqlState::INVALID_NTH_VALUE,
            Self::BadDistance => SqlState::INVALID_FRAME,
            Self::NoElement { .. } => SqlState::ARRAY_ELEMENT,
            Self::ArrayTooLong { .. } => SqlState::ARRAY_RIGHT_TRUNCATION,
            Self::NullArray => SqlState::NULL_ARRAY,
            Self::NoPlace { .. } => SqlState::ARRAY_ELEMENT,
            Self::BadSampleSize { .. } => SqlState::INVALID_SAMPLE_SIZE,
            Self::BadRepeat => SqlState::INVALID_SAMPLE_REPEAT,
            Self::OutsideFrame { .. } | Self::Internal(_) => SqlState::GENERAL,
            Self::NoSuchZone { .. } => SqlState::INVALID_TIME_ZONE,
            Self::OutsideDomain { .. } => SqlState::CONSTRAINT,
            Self::ListTooLong { .. } => SqlState::STRING_RIGHT_TRUNCATION,
        }
    }

    #[expect(clippy::wildcard_enum_match_arm, reason = "a message that says all needs no help")]
    fn help(&self) -> Option<String> {
        match self {
            Self::DivisionByZero => Some("NULLIF(divisor, 0) gives NULL instead of the error".into()),
            Self::Stopped { help, .. } => help.clone(),
            Self::Overflow(SqlType::SmallInt | SqlType::Integer) => Some("CAST an operand to BIGINT or NUMERIC".into()),
            Self::SeveralRows => Some(
                "filter it with WHERE, take an aggregate of it, or FETCH FIRST ROW ONLY with an ORDER BY".into(),
            ),
            Self::PartOfDay => Some(
                "CAST(… AS TIMESTAMP) of the day gives one with hours, CAST(… AS INTERVAL DAY) drops those of the interval"
                    .into(),
            ),
            Self::NoTransliteration { .. } => Some("there is WITHOUT_MARKS, which takes accents off letters".into()),
            Self::BadRegexFlag { .. } => Some("the flags are i, m, s, x and q".into()),
            Self::ListTooLong { .. } => Some("ON OVERFLOW TRUNCATE '…' WITH COUNT cuts it".into()),
            Self::NoSuchZone { zone } => Some(match Zone::near(zone) {
                Some(near) => format!("did you mean '{near}'?"),
                None => "write it as '+02:00', 'Europe/Vienna' or INTERVAL '2' HOUR".into(),
            }),
            Self::NoElement { .. } => Some("CARDINALITY tells how many elements there are; the first is 1".into()),
            Self::NullArray => Some("give the column as a whole: column = ARRAY[…]; or skip such rows: WHERE column IS NOT NULL".into()),
            Self::ArrayTooLong { .. } => Some("TRIM_ARRAY takes off the last elements".into()),
            Self::Overflow(SqlType::BigInt) => Some("CAST an operand to NUMERIC".into()),
            _ => None,
        }
    }

    fn constraint(&self) -> Option<BrokenConstraint> {
        if let Self::OutsideDomain { domain, check } = self {
            Some(BrokenConstraint::of_domain(domain, check))
        } else {
            None
        }
    }
}
