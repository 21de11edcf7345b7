use crate::types::TrimSide;

/// A function whose arguments have words between them, that takes any number of them, or that the limit of a type makes
/// (clauses 6.24, 6.30 to 6.32).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// `SUBSTRING(text FROM start FOR length)`
    Substring,
    /// `SUBSTRING(text SIMILAR pattern ESCAPE character)`
    SubstringSimilar,
    /// `POSITION(wanted IN text)`
    Position,
    /// `OVERLAY(text PLACING other FROM start FOR length)`
    Overlay,
    /// `TRIM(side character FROM text)`: text, character.
    Trim(TrimSide),
    /// `TRANSLATE(text USING name)`
    Translate,
    /// `NORMALIZE(text, form)`
    Normalize,
    /// `text IS form NORMALIZED`
    IsNormalized,
    /// The functions of regular expressions: pattern, text, flag, start, occurrence, group or replacement.
    OccurrencesRegex,
    PositionRegex,
    /// `POSITION_REGEX(AFTER …)`
    PositionRegexAfter,
    SubstringRegex,
    TranslateRegex,
    /// `GREATEST(a, b, …)`
    Greatest,
    /// `LEAST(a, b, …)`
    Least,
    /// A time and how many digits of its seconds are kept: `CAST(… AS TIME(n))`
    SecondDigits,
    /// An array and how many elements it may have: `CAST(… AS INTEGER ARRAY[n])`
    ArrayLimit,
}
