//! What the arguments of each function must be, family by family (clauses 6.30 to 6.34).

use crate::logical::{
    ArrayFunction as A, FloatFunction as R, Function as F, NumberFunction as N, RegexFunction as X, TextFunction as C,
    ZoneFunction as Z,
};

/// What an argument must be.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Kind {
    Text,
    /// Text or a binary string.
    Bytes,
    Whole,
    Number,
    Float,
    /// A number or an interval.
    Measure,
    Array,
    Any,
}

use Kind::{Any, Array, Bytes, Float, Measure, Number, Text, Whole};

/// The arguments of a function.
pub(super) struct Signature {
    /// What each must be, those that may be left out last.
    pub(super) kinds: &'static [Kind],
    /// How many must be there.
    pub(super) least: usize,
    /// How many there may be, in words.
    pub(super) expected: &'static str,
}

const fn arguments(kinds: &'static [Kind], least: usize, expected: &'static str) -> Signature {
    Signature { kinds, least, expected }
}

/// How many arguments a function has, in words.
pub fn arguments_of(function: F) -> &'static str {
    signature(function).expected
}

/// What a function takes.
pub(super) fn signature(function: F) -> Signature {
    match function {
        F::Text(function) => of_text(function),
        F::Regex(function) => of_regex(function),
        F::Number(N::Abs) => arguments(&[Measure], 1, "one argument"),
        F::Number(N::Ceiling | N::Floor) => arguments(&[Number], 1, "one argument"),
        F::Number(N::Mod) => arguments(&[Number, Number], 2, "two arguments"),
        F::Number(N::Round | N::Truncate) => arguments(&[Number, Whole], 1, "one or two arguments"),
        F::Float(function) => of_float(function),
        F::Array(A::Element | A::TrimArray | A::ArrayLimit) => arguments(&[Array, Whole], 2, "two arguments"),
        F::Array(A::Cardinality) => arguments(&[Array], 1, "one argument"),
        F::Array(A::Contains) => arguments(&[Any, Any], 2, "two arguments"),
        F::Zone(Z::AtLocal) | F::Extract(_) | F::TruncateTo(_) => arguments(&[Any], 1, "one argument"),
        F::Zone(Z::AtZone | Z::LocalAtZone | Z::MomentOfLocal)
        | F::MonthsBetween
        | F::TextOfInstant
        | F::InstantOfText
        | F::CastFormat
        | F::SecondDigits
        | F::IntervalFields
        | F::FieldCount => arguments(&[Any, Any], 2, "two arguments"),
        F::WithElement => arguments(&[Array, Whole, Any], 3, "three arguments"),
        F::WidthBucket => arguments(&[Number, Number, Number, Whole], 4, "four arguments"),
        F::Greatest | F::Least => arguments(&[], 1, "one or more arguments"),
        F::RowNumberAt(_) => arguments(&[], 0, "no argument"),
        F::ValueAt { .. } => arguments(&[Any, Any], 1, "a value and what stands for it"),
        // The binder makes these calls itself.
        F::CompareExactly | F::Sampled { .. } | F::InDomain => arguments(&[], 0, "no call of its own"),
    }
}

fn of_text(function: C) -> Signature {
    match function {
        C::Upper | C::Lower => arguments(&[Text], 1, "one argument"),
        C::CharacterLength | C::OctetLength => arguments(&[Bytes], 1, "one argument"),
        C::Substring => arguments(&[Bytes, Whole, Whole], 2, "two or three arguments"),
        C::Position | C::Trim(_) => arguments(&[Bytes, Bytes], 2, "two arguments"),
        C::Overlay => arguments(&[Bytes, Bytes, Whole, Whole], 3, "three or four arguments"),
        C::TrimSet(_) => arguments(&[Text, Text], 1, "one or two arguments"),
        C::LeftPad | C::RightPad => arguments(&[Text, Whole, Text], 2, "two or three arguments"),
        C::Normalize | C::IsNormalized | C::Translate => arguments(&[Text, Text], 2, "two arguments"),
    }
}

fn of_regex(function: X) -> Signature {
    match function {
        X::SubstringSimilar => arguments(&[Text, Text, Text], 3, "three arguments"),
        X::Similar | X::LikeRegex => arguments(&[Text, Text, Text], 2, "two or three arguments"),
        X::OccurrencesRegex => arguments(&[Text, Text, Text, Whole], 4, "four arguments"),
        X::PositionRegex | X::PositionRegexAfter | X::SubstringRegex => {
            arguments(&[Text, Text, Text, Whole, Whole, Whole], 6, "six arguments")
        }
        X::TranslateRegex => arguments(&[Text, Text, Text, Whole, Whole, Text], 6, "six arguments"),
    }
}

fn of_float(function: R) -> Signature {
    match function {
        R::Power | R::Log => arguments(&[Float, Float], 2, "two arguments"),
        R::Sqrt
        | R::Ln
        | R::Log10
        | R::Exp
        | R::Sin
        | R::Cos
        | R::Tan
        | R::Sinh
        | R::Cosh
        | R::Tanh
        | R::Asin
        | R::Acos
        | R::Atan => arguments(&[Float], 1, "one argument"),
    }
}
