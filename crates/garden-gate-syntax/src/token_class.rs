//! The tokens of a text by what they are, for showing them in colours.

use super::lexer::{Lexer, Symbol, Token, TokenKind};
use crate::diagnostic::{SourceText, Span};
use std::ops::Range;
use std::sync::Arc;

/// What a stretch of a text is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum TokenClass {
    /// A word of the language.
    Keyword,
    /// A name.
    Name,
    /// A text, or what is open of one.
    Text,
    /// A number.
    Number,
    /// A parameter.
    Parameter,
    /// An operator or another sign.
    Sign,
    /// A comment, or what is open of one.
    Comment,
    /// What no statement can have.
    Unknown,
}

/// The tokens and comments of a text, in order, by their places in bytes. What is not closed goes to the end. O(length).
///
/// ```
/// # mod garden_gate { pub mod typing { pub use garden_gate_syntax::{TokenClass, token_classes}; } }
/// use garden_gate::typing::{TokenClass, token_classes};
///
/// let classes: Vec<TokenClass> = token_classes("SELECT first -- of all").into_iter().map(|(_, class)| class).collect();
/// assert_eq!(classes, [TokenClass::Keyword, TokenClass::Name, TokenClass::Comment]);
/// ```
pub fn token_classes(text: &str) -> Vec<(Range<usize>, TokenClass)> {
    let source = SourceText::new(text);
    let mut found = Vec::new();
    let mut statement = Vec::new();
    let mut lexer = Lexer::new(text, 0);
    let mut at = 0;
    loop {
        match lexer.next_token() {
            Ok(token) => {
                let range = token.span.range();
                comments(text, at..range.start, &mut found);
                at = range.end;
                let is_end = token.kind == TokenKind::End || token.kind == TokenKind::Symbol(Symbol::Semicolon);
                if is_end {
                    classify(&source, std::mem::take(&mut statement), token, &mut found);
                } else {
                    statement.push(token);
                }
                if token.kind == TokenKind::End {
                    break;
                }
            }
            Err(error) => {
                let place = error.span().map_or(text.len(), |span| span.start as usize).clamp(at, text.len());
                let class = match text.as_bytes().get(place) {
                    Some(b'\'') => TokenClass::Text,
                    Some(b'"') => TokenClass::Name,
                    Some(b'/') => TokenClass::Comment,
                    _ => {
                        let length = text[place..].chars().next().map_or(0, char::len_utf8);
                        comments(text, at..place, &mut found);
                        found.push((place..place + length, TokenClass::Unknown));
                        at = place + length;
                        continue;
                    }
                };
                comments(text, at..place, &mut found);
                found.push((place..text.len(), class));
                let end = Token::end(Span::new(text.len(), text.len()));
                classify(&source, statement, end, &mut found);
                break;
            }
        }
    }
    found.sort_by_key(|(range, _)| range.start);
    found
}

fn classify(source: &Arc<SourceText>, tokens: Vec<Token>, end: Token, found: &mut Vec<(Range<usize>, TokenClass)>) {
    let (names, problem) = super::parser::names_of(source, tokens.clone(), end);
    // Up to the last name, or to where the problem is, the statement was read.
    let place = problem.map(|problem| problem.span().map_or(0, |span| span.start));
    let starts: Vec<u32> = tokens.iter().map(|token| token.span.start).collect();
    let is_read_to = |number: usize| number == 0 || place.is_none_or(|place| starts[number] < place);
    for (number, token) in tokens.into_iter().enumerate() {
        let raw = source.slice(token.span);
        let class = match token.kind {
            TokenKind::Word if names.contains(&number) => TokenClass::Name,
            // What comes after a mistake was not read: reserved words are all that is sure.
            TokenKind::Word if is_read_to(number) || super::keyword::is_reserved(raw) => TokenClass::Keyword,
            TokenKind::Word => TokenClass::Name,
            TokenKind::QuotedName => TokenClass::Name,
            TokenKind::Text => TokenClass::Text,
            TokenKind::Number => TokenClass::Number,
            TokenKind::Parameter => TokenClass::Parameter,
            TokenKind::Symbol(_) => TokenClass::Sign,
            TokenKind::End => continue,
        };
        found.push((token.span.range(), class));
    }
    if end.kind != TokenKind::End {
        found.push((end.span.range(), TokenClass::Sign));
    }
}

/// The comments between two tokens.
fn comments(text: &str, gap: Range<usize>, found: &mut Vec<(Range<usize>, TokenClass)>) {
    let blanks = text[gap.clone()].trim();
    if blanks.is_empty() || blanks == "\u{feff}" {
        return;
    }
    let start = gap.start + text[gap.clone()].find(blanks).unwrap_or(0);
    found.push((start..start + blanks.len(), TokenClass::Comment));
}
