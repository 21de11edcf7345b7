//! The functions of the values of one row by families: a kernel takes its own, and no other.

use crate::types::TrimSide;

/// Functions of texts and binary strings (clauses 6.30 and 6.32).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TextFunction {
    Upper,
    Lower,
    CharacterLength,
    OctetLength,
    Substring,
    Position,
    Overlay,
    /// Of one character.
    Trim(TrimSide),
    /// Of all characters of a set.
    TrimSet(TrimSide),
    LeftPad,
    RightPad,
    Normalize,
    IsNormalized,
    Translate,
}

/// SIMILAR and the functions of regular expressions of `XQuery` (clauses 6.30, 8.6 and 8.7).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum RegexFunction {
    Similar,
    SubstringSimilar,
    LikeRegex,
    OccurrencesRegex,
    PositionRegex,
    PositionRegexAfter,
    SubstringRegex,
    TranslateRegex,
}

/// Functions of numbers that keep exact ones exact (clause 6.30).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum NumberFunction {
    Abs,
    Mod,
    Ceiling,
    Floor,
    Round,
    Truncate,
}

/// Functions computed in floating point (clause 6.30).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FloatFunction {
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
}

/// Functions of arrays.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ArrayFunction {
    Cardinality,
    /// Whether an array has an element; not part of the language, used for CYCLE.
    Contains,
    Element,
    TrimArray,
    /// An array of at most so many elements: what CAST to an array with a maximum cardinality checks.
    ArrayLimit,
}

/// Moves between moments and what clocks of a zone show (clause 6.35).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ZoneFunction {
    AtZone,
    /// What clocks of a zone show at a moment.
    LocalAtZone,
    /// The moment at which clocks of a zone show a time.
    MomentOfLocal,
    /// The instant's own time of day and date: `AT LOCAL`.
    AtLocal,
}
