use super::{ArrayFunction, FloatFunction, NumberFunction, RegexFunction, TextFunction, ZoneFunction};
use crate::types::{ExtractField, RowMarker, TrimSide};

/// A function of the values of one row (clauses 6.30 to 6.34, 6.36).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Function {
    Text(TextFunction),
    Regex(RegexFunction),
    Number(NumberFunction),
    Float(FloatFunction),
    Array(ArrayFunction),
    Zone(ZoneFunction),
    WidthBucket,
    Greatest,
    Least,
    Extract(ExtractField),
    /// In the argument of an aggregate over a frame: the number of a row in its partition.
    RowNumberAt(RowMarker),
    /// Likewise, a value of the row so many rows after a marker: the value, and what it is outside the partition.
    ValueAt {
        marker: RowMarker,
        offset: i64,
    },
    /// The beginning of the unit that a day or moment lies in.
    TruncateTo(ExtractField),
    /// Whole months from the second date to the first.
    MonthsBetween,
    /// Of an exact and an approximate number -1, 0 or 1: which is the smaller one.
    CompareExactly,
    /// An instant as text, as clocks of a zone show it.
    TextOfInstant,
    /// The instant that a text means, which is one of a zone when it has no offset.
    InstantOfText,
    /// An array with another value at a place: `SET array[place] = value`.
    WithElement,
    /// Whether the row at a place belongs to a sample: place, percent, seed. With `pages` whole pages of rows are taken or left.
    Sampled {
        pages: bool,
        /// Whether the seed was given.
        repeatable: bool,
    },
    CastFormat,
    /// A time or timestamp with so many digits of its seconds.
    SecondDigits,
    /// An interval without what is smaller than so many months or microseconds.
    IntervalFields,
    /// How many times so many months or microseconds are in an interval.
    FieldCount,
    /// A value of a domain: the value, a condition, the names of the domain and of the condition.
    InDomain,
}

/// Every function that is written with a name and arguments, with words between these or not.
pub const FUNCTIONS: &[(&str, Function)] = &[
    ("ABS", Function::Number(NumberFunction::Abs)),
    ("ACOS", Function::Float(FloatFunction::Acos)),
    ("ASIN", Function::Float(FloatFunction::Asin)),
    ("ATAN", Function::Float(FloatFunction::Atan)),
    ("BTRIM", Function::Text(TextFunction::TrimSet(TrimSide::Both))),
    ("CARDINALITY", Function::Array(ArrayFunction::Cardinality)),
    ("CEIL", Function::Number(NumberFunction::Ceiling)),
    ("CEILING", Function::Number(NumberFunction::Ceiling)),
    ("CHARACTER_LENGTH", Function::Text(TextFunction::CharacterLength)),
    ("CHAR_LENGTH", Function::Text(TextFunction::CharacterLength)),
    ("COS", Function::Float(FloatFunction::Cos)),
    ("COSH", Function::Float(FloatFunction::Cosh)),
    ("EXP", Function::Float(FloatFunction::Exp)),
    ("FLOOR", Function::Number(NumberFunction::Floor)),
    ("GREATEST", Function::Greatest),
    ("LEAST", Function::Least),
    ("LN", Function::Float(FloatFunction::Ln)),
    ("LOG", Function::Float(FloatFunction::Log)),
    ("LOG10", Function::Float(FloatFunction::Log10)),
    ("LOWER", Function::Text(TextFunction::Lower)),
    ("LPAD", Function::Text(TextFunction::LeftPad)),
    ("LTRIM", Function::Text(TextFunction::TrimSet(TrimSide::Leading))),
    ("MOD", Function::Number(NumberFunction::Mod)),
    ("NORMALIZE", Function::Text(TextFunction::Normalize)),
    ("OCCURRENCES_REGEX", Function::Regex(RegexFunction::OccurrencesRegex)),
    ("OCTET_LENGTH", Function::Text(TextFunction::OctetLength)),
    ("OVERLAY", Function::Text(TextFunction::Overlay)),
    ("POSITION", Function::Text(TextFunction::Position)),
    ("POSITION_REGEX", Function::Regex(RegexFunction::PositionRegex)),
    ("POWER", Function::Float(FloatFunction::Power)),
    ("ROUND", Function::Number(NumberFunction::Round)),
    ("RPAD", Function::Text(TextFunction::RightPad)),
    ("RTRIM", Function::Text(TextFunction::TrimSet(TrimSide::Trailing))),
    ("SIN", Function::Float(FloatFunction::Sin)),
    ("SINH", Function::Float(FloatFunction::Sinh)),
    ("SQRT", Function::Float(FloatFunction::Sqrt)),
    ("SUBSTRING", Function::Text(TextFunction::Substring)),
    ("SUBSTRING_REGEX", Function::Regex(RegexFunction::SubstringRegex)),
    ("TAN", Function::Float(FloatFunction::Tan)),
    ("TANH", Function::Float(FloatFunction::Tanh)),
    ("TRANSLATE", Function::Text(TextFunction::Translate)),
    ("TRANSLATE_REGEX", Function::Regex(RegexFunction::TranslateRegex)),
    ("TRIM", Function::Text(TextFunction::Trim(TrimSide::Both))),
    ("TRIM_ARRAY", Function::Array(ArrayFunction::TrimArray)),
    ("TRUNCATE", Function::Number(NumberFunction::Truncate)),
    ("UPPER", Function::Text(TextFunction::Upper)),
    ("WIDTH_BUCKET", Function::WidthBucket),
];

impl Function {
    /// A function by its name; case does not matter.
    pub fn from_name(name: &str) -> Option<Self> {
        FUNCTIONS.iter().find(|(known, _)| name.eq_ignore_ascii_case(known)).map(|(_, function)| *function)
    }

    /// The name it is called by.
    pub fn name(self) -> &'static str {
        let named = FUNCTIONS.iter().rev().find(|(_, function)| *function == self).map(|(name, _)| *name);
        named.unwrap_or_else(|| self.described())
    }

    /// What it is in words where it has no name of its own.
    fn described(self) -> &'static str {
        match self {
            Self::Regex(RegexFunction::Similar) => "SIMILAR TO",
            Self::Regex(RegexFunction::LikeRegex) => "LIKE_REGEX",
            Self::Extract(_) => "EXTRACT",
            Self::TruncateTo(_) => "TRUNCATE",
            Self::RowNumberAt(_) => "ROW_NUMBER",
            Self::ValueAt { .. } => "VALUE_OF",
            Self::IntervalFields => "the fields of an interval",
            Self::FieldCount => "the count of a field",
            Self::MonthsBetween => "a difference in months",
            Self::CompareExactly => "SIGN",
            Self::Zone(ZoneFunction::AtZone | ZoneFunction::LocalAtZone) => "AT TIME ZONE",
            Self::Zone(ZoneFunction::MomentOfLocal) | Self::TextOfInstant | Self::InstantOfText => {
                "CAST in a time zone"
            }
            Self::Zone(ZoneFunction::AtLocal) => "AT LOCAL",
            Self::Array(ArrayFunction::Element) => "an element",
            Self::Array(ArrayFunction::Contains) => "a test for a cycle",
            Self::WithElement => "SET of an element",
            Self::CastFormat => "CAST … FORMAT",
            Self::InDomain => "CAST to a domain",
            Self::Sampled { .. } => "TABLESAMPLE",
            Self::Text(TextFunction::Trim(TrimSide::Leading)) => "TRIM LEADING",
            Self::Text(TextFunction::Trim(TrimSide::Trailing)) => "TRIM TRAILING",
            Self::Text(TextFunction::IsNormalized) => "IS NORMALIZED",
            Self::Regex(RegexFunction::SubstringSimilar) => "SUBSTRING SIMILAR",
            Self::Regex(RegexFunction::PositionRegexAfter) => "POSITION_REGEX AFTER",
            Self::SecondDigits => "the digits of seconds",
            Self::Array(ArrayFunction::ArrayLimit) => "the maximum cardinality",
            Self::Text(_)
            | Self::Regex(_)
            | Self::Number(_)
            | Self::Float(_)
            | Self::Array(_)
            | Self::WidthBucket
            | Self::Greatest
            | Self::Least => "a function",
        }
    }
}
