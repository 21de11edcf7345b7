use crate::types::{ExtractField, RowMarker};

/// A function of the values of one row (clauses 6.30 to 6.34, 6.36).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Function {
    Upper,
    Lower,
    CharacterLength,
    OctetLength,
    Substring,
    SubstringSimilar,
    Position,
    Overlay,
    TrimLeading,
    TrimTrailing,
    TrimBoth,
    /// Of all characters of a set.
    LeftTrim,
    RightTrim,
    BothTrim,
    LeftPad,
    RightPad,
    Normalize,
    IsNormalized,
    Translate,
    Similar,
    LikeRegex,
    OccurrencesRegex,
    PositionRegex,
    PositionRegexAfter,
    SubstringRegex,
    TranslateRegex,
    Abs,
    Mod,
    Ceiling,
    Floor,
    Round,
    Truncate,
    Power,
    Sqrt,
    Ln,
    Log,
    Log10,
    Exp,
    Sin,
    Cos,
    Tan,
    Sinh,
    Cosh,
    Tanh,
    Asin,
    Acos,
    Atan,
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
    AtZone,
    /// Of an exact and an approximate number -1, 0 or 1: which is the smaller one.
    CompareExactly,
    /// What clocks of a zone show at a moment.
    LocalAtZone,
    /// The moment at which clocks of a zone show a time.
    MomentOfLocal,
    /// An instant as text, as clocks of a zone show it.
    TextOfInstant,
    /// The instant that a text means, which is one of a zone when it has no offset.
    InstantOfText,
    /// The instant's own time of day and date: `AT LOCAL`.
    AtLocal,
    Element,
    Cardinality,
    TrimArray,
    /// An array with another value at a place: `SET array[place] = value`.
    WithElement,
    /// Whether an array has an element; not part of the language, used for CYCLE.
    Contains,
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
    /// An array of at most so many elements: what CAST to an array with a maximum cardinality checks.
    ArrayLimit,
    /// A value of a domain: the value, a condition, the names of the domain and of the condition.
    InDomain,
}

/// Every function that is called by a name and arguments, or whose syntax the parser turns into such a call.
pub const FUNCTIONS: &[(&str, Function)] = &[
    ("ABS", Function::Abs),
    ("ACOS", Function::Acos),
    ("ASIN", Function::Asin),
    ("ATAN", Function::Atan),
    ("BTRIM", Function::BothTrim),
    ("CARDINALITY", Function::Cardinality),
    ("CEIL", Function::Ceiling),
    ("CEILING", Function::Ceiling),
    ("CHARACTER_LENGTH", Function::CharacterLength),
    ("CHAR_LENGTH", Function::CharacterLength),
    ("COS", Function::Cos),
    ("COSH", Function::Cosh),
    ("DIGITS OF SECONDS", Function::SecondDigits),
    ("EXP", Function::Exp),
    ("FLOOR", Function::Floor),
    ("GREATEST", Function::Greatest),
    ("IS NORMALIZED", Function::IsNormalized),
    ("LEAST", Function::Least),
    ("LN", Function::Ln),
    ("LOG", Function::Log),
    ("LOG10", Function::Log10),
    ("LOWER", Function::Lower),
    ("LPAD", Function::LeftPad),
    ("LTRIM", Function::LeftTrim),
    ("MAXIMUM CARDINALITY", Function::ArrayLimit),
    ("MOD", Function::Mod),
    ("NORMALIZE", Function::Normalize),
    ("OCCURRENCES_REGEX", Function::OccurrencesRegex),
    ("OCTET_LENGTH", Function::OctetLength),
    ("OVERLAY", Function::Overlay),
    ("POSITION", Function::Position),
    ("POSITION_REGEX", Function::PositionRegex),
    ("POSITION_REGEX AFTER", Function::PositionRegexAfter),
    ("POWER", Function::Power),
    ("ROUND", Function::Round),
    ("RPAD", Function::RightPad),
    ("RTRIM", Function::RightTrim),
    ("SIN", Function::Sin),
    ("SINH", Function::Sinh),
    ("SQRT", Function::Sqrt),
    ("SUBSTRING", Function::Substring),
    ("SUBSTRING SIMILAR", Function::SubstringSimilar),
    ("SUBSTRING_REGEX", Function::SubstringRegex),
    ("TAN", Function::Tan),
    ("TANH", Function::Tanh),
    ("TRANSLATE", Function::Translate),
    ("TRANSLATE_REGEX", Function::TranslateRegex),
    ("TRIM BOTH", Function::TrimBoth),
    ("TRIM LEADING", Function::TrimLeading),
    ("TRIM TRAILING", Function::TrimTrailing),
    ("TRIM_ARRAY", Function::TrimArray),
    ("TRUNCATE", Function::Truncate),
    ("UPPER", Function::Upper),
    ("WIDTH_BUCKET", Function::WidthBucket),
];

impl Function {
    pub fn from_name(name: &str) -> Option<Self> {
        FUNCTIONS.iter().find(|(known, _)| name.eq_ignore_ascii_case(known)).map(|(_, function)| *function)
    }

    /// The name it is called by.
    pub fn name(self) -> &'static str {
        let named = FUNCTIONS.iter().rev().find(|(_, function)| *function == self).map(|(name, _)| *name);
        named.unwrap_or(match self {
            Self::Similar => "SIMILAR TO",
            Self::LikeRegex => "LIKE_REGEX",
            Self::Extract(_) => "EXTRACT",
            Self::TruncateTo(_) => "TRUNCATE",
            Self::RowNumberAt(_) => "ROW_NUMBER",
            Self::ValueAt { .. } => "VALUE_OF",
            Self::IntervalFields => "the fields of an interval",
            Self::FieldCount => "the count of a field",
            Self::MonthsBetween => "a difference in months",
            Self::CompareExactly => "SIGN",
            Self::AtZone | Self::LocalAtZone => "AT TIME ZONE",
            Self::MomentOfLocal | Self::TextOfInstant | Self::InstantOfText => "CAST in a time zone",
            Self::AtLocal => "AT LOCAL",
            Self::Element => "an element",
            Self::WithElement => "SET of an element",
            Self::CastFormat => "CAST … FORMAT",
            Self::InDomain => "CAST to a domain",
            Self::Sampled { .. } => "TABLESAMPLE",
            _ => "a test for a cycle",
        })
    }
}
