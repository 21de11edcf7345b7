use crate::diagnostic::{Facts, SqlState};

/// What can be wrong with the text of a statement.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    #[error("expected {expected}, found {found}")]
    Expected { expected: String, found: String },
    #[error("expected {expected}, found {found}")]
    MissingComma { expected: &'static str, found: String },
    #[error("this parenthesis is never closed")]
    UnclosedParenthesis { found: String },
    #[error("text is never closed: its second ' is missing")]
    UnclosedText,
    #[error("quoted name is never closed: its second \" is missing")]
    UnclosedName,
    #[error("comment is never closed: its */ is missing")]
    UnclosedComment,
    #[error("character {character:?} has no meaning in SQL")]
    StrangeCharacter { character: char, beside: Option<[String; 2]> },
    #[error("== has no meaning in SQL")]
    DoubleEqual { beside: Option<[String; 2]> },
    #[error("{what} can't be an escape in a text of Unicode characters")]
    BadUnicodeEscape { what: String },
    #[error("{text} is not a number")]
    BadNumber { text: String },
    #[error("number {text} has more than 38 digits")]
    NumberTooLong { text: String },
    #[error("'{text}' is not a valid {what}")]
    BadLiteral { text: String, what: &'static str, form: &'static str },
    #[error("statement is nested deeper than {0} levels")]
    TooDeep(u16),
    #[error("{word} is a reserved word and can't be a name here")]
    ReservedWord { word: String },
    #[error("{what} is not supported yet")]
    NotSupported { what: String },
    #[error("{what} must be from {low} to {high}")]
    OutOfBounds { what: &'static str, low: u8, high: u8 },
    #[error("an empty name")]
    EmptyName,
    #[error("WITH names a query, and nothing uses it: a query is missing after the last )")]
    NothingBehindWith { name: String },
}

impl Facts for Problem {
    fn state(&self) -> SqlState {
        match self {
            Self::NotSupported { .. } => SqlState::FEATURE_NOT_SUPPORTED,
            Self::BadLiteral { .. } => SqlState::INVALID_DATETIME_FORMAT,
            Self::NumberTooLong { .. } => SqlState::NUMERIC_OUT_OF_RANGE,
            Self::Expected { .. }
            | Self::MissingComma { .. }
            | Self::UnclosedParenthesis { .. }
            | Self::UnclosedText
            | Self::UnclosedName
            | Self::UnclosedComment
            | Self::StrangeCharacter { .. }
            | Self::DoubleEqual { .. }
            | Self::BadUnicodeEscape { .. }
            | Self::BadNumber { .. }
            | Self::TooDeep(_)
            | Self::ReservedWord { .. }
            | Self::OutOfBounds { .. }
            | Self::NothingBehindWith { .. }
            | Self::EmptyName => SqlState::SYNTAX_OR_RULE,
        }
    }

    fn replacement(&self) -> Option<String> {
        Some(match self {
            Self::DoubleEqual { .. } => "=".into(),
            Self::ReservedWord { word } => format!("\"{word}\""),
            Self::StrangeCharacter { character, .. } => match character {
                '\u{2010}'..='\u{2015}' | '\u{2212}' => "-",
                '\u{200b}'..='\u{200f}' | '\u{2060}' => "",
                '\u{d7}' => "*",
                '\u{f7}' => "/",
                '\u{2260}' => "<>",
                '\u{2264}' => "<=",
                '\u{2265}' => ">=",
                _ => return None,
            }
            .into(),
            _ => return None,
        })
    }

    fn help(&self) -> Option<String> {
        Some(match self {
            Self::MissingComma { found, .. } => format!("a comma may be missing before {found}"),
            Self::UnclosedParenthesis { found } => format!("write ) before {found}"),
            Self::UnclosedText => "a ' inside text is written twice: 'gardener''s'".into(),
            Self::StrangeCharacter { character: '`' | '[', .. } => {
                "a name with blanks or capitals is written in double quotes: \"bed name\"".into()
            }
            Self::StrangeCharacter { character, beside } => {
                let written = beside.as_ref().and_then(|beside| written_out(*character, beside));
                return written.or_else(|| strange_help(*character).map(Into::into));
            }
            Self::DoubleEqual { beside: Some([left, right]) } => format!("write {left} = {right}"),
            Self::DoubleEqual { beside: None } => "one = compares, as in a = b".into(),
            Self::BadUnicodeEscape { .. } => {
                "write \\0041 for four hexadecimal digits, \\+01F33F for six, \\\\ for the sign itself; UESCAPE '!' names another sign"
                    .into()
            }
            Self::BadNumber { .. } => "a name can't begin with a digit, unless it is in double quotes".into(),
            Self::BadLiteral { form, .. } => format!("write it as {form}"),
            Self::ReservedWord { word } => format!("put it in double quotes: \"{word}\""),
            Self::NothingBehindWith { name } => format!("write the query after it, as in SELECT * FROM {name}"),
            Self::NotSupported { .. } => "docs/sql.md lists what is supported".into(),
            _ => return None,
        })
    }
}

/// The operation that a sign of other notations stands for, with its operands.
fn written_out(character: char, [left, right]: &[String; 2]) -> Option<String> {
    let text = match character {
        '%' => format!("MOD({left}, {right})"),
        '^' => format!("POWER({left}, {right})"),
        '\u{2010}'..='\u{2015}' | '\u{2212}' => format!("{left} - {right}"),
        '\u{d7}' => format!("{left} * {right}"),
        '\u{f7}' => format!("{left} / {right}"),
        '\u{2260}' => format!("{left} <> {right}"),
        '\u{2264}' => format!("{left} <= {right}"),
        '\u{2265}' => format!("{left} >= {right}"),
        '~' => format!("{left} LIKE_REGEX {right}"),
        _ => return None,
    };
    Some(format!("write {text}"))
}

/// What is written for a character that other notations have.
fn strange_help(character: char) -> Option<&'static str> {
    Some(match character {
        '\u{2018}'..='\u{201f}' | '\u{b4}' | '\u{ab}' | '\u{bb}' => {
            "text is written in straight quotes, 'text', and a name in \"name\""
        }
        '\u{2010}'..='\u{2015}' | '\u{2212}' => "the sign of subtraction is -, and -- begins a comment",
        '\u{200b}'..='\u{200f}' | '\u{2060}' => "this character can't be seen; take it away",
        '\u{d7}' => "* multiplies",
        '\u{f7}' => "/ divides",
        '\u{2260}' => "<> is not equal",
        '\u{2264}' => "<= is less or equal",
        '\u{2265}' => ">= is greater or equal",
        '%' => "MOD(a, b) is the remainder of a division",
        '^' => "POWER(a, b) raises to a power",
        '&' => "AND joins conditions, || joins texts",
        '|' => "OR joins conditions, || joins texts",
        '!' => "NOT reverses a condition, <> is not equal",
        '~' => "LIKE_REGEX compares with a regular expression",
        '@' | '$' => "LET name = value makes a variable, :name reads it",
        ':' => "CAST(value AS type) changes a type, :name reads a variable or parameter",
        '#' => "-- begins a comment",
        _ => return None,
    })
}
