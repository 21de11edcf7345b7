//! The tokens of a text with the comments between them.

use crate::diagnostic::{Result, SourceText};
use crate::lexer::{Lexer, Symbol, Token, TokenKind};
use std::sync::Arc;

/// A comment, and whether it begins a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Comment {
    pub(super) text: String,
    pub(super) own_line: bool,
}

impl Comment {
    /// Whether the line ends after it.
    pub(super) fn ends_line(&self) -> bool {
        self.text.starts_with("--") || self.text.contains('\n')
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum PieceKind {
    Keyword,
    Name,
    Text,
    Number,
    Parameter,
    Symbol(Symbol),
    /// The end of a statement: its semicolon, or nothing at the end of the text.
    End,
}

/// A token as it is written out.
#[derive(Clone, Debug)]
pub(super) struct Piece {
    pub(super) kind: PieceKind,
    pub(super) text: String,
    /// Whether nothing stands between the token before and this one.
    pub(super) is_glued: bool,
    /// Whether a line ends between the token before and this one.
    pub(super) on_new_line: bool,
    /// Comments on lines of their own before it.
    pub(super) before: Vec<Comment>,
    /// Comments after it on its line.
    pub(super) after: Vec<Comment>,
}

impl Piece {
    /// Whether it is a keyword.
    pub(super) fn is_word(&self, word: &str) -> bool {
        self.kind == PieceKind::Keyword && self.text.eq_ignore_ascii_case(word)
    }

    /// Whether it is a symbol.
    pub(super) fn is_symbol(&self, symbol: Symbol) -> bool {
        self.kind == PieceKind::Symbol(symbol)
    }
}

/// The tokens of one statement, the last of which is its end; and whether an empty line stands before it.
pub(super) struct Statement {
    pub(super) pieces: Vec<Piece>,
    pub(super) after_blank: bool,
    /// Where it begins and ends in the text, its semicolon included.
    pub(super) span: std::ops::Range<usize>,
    /// Why it cannot be read, if it cannot.
    pub(super) problem: Option<crate::diagnostic::Error>,
}

/// The statements of a text, as far as it can be cut into tokens.
///
/// # Errors
/// 42000 when a text, a name or a comment is not closed.
pub(super) fn statements(source: &Arc<SourceText>) -> Result<Vec<Statement>> {
    let text = source.text();
    let (mut statements, mut at) = (Vec::new(), 0);
    while at < text.len() {
        let mut tokens = Vec::new();
        let mut lexer = Lexer::new(text, at);
        let end = loop {
            let token = lexer.next_token().map_err(|error| error.in_source(source))?;
            if matches!(token.kind, TokenKind::Symbol(Symbol::Semicolon) | TokenKind::End) {
                break token;
            }
            tokens.push(token);
        };
        let (names, problem) = crate::parser::names_of(source, tokens.clone(), end);
        tokens.push(Token::end(end.span));
        let range = at..end.span.end as usize;
        let mut pieces = pieces(text, at, &tokens, &|number| names.contains(&number));
        // A comment after the semicolon on its line belongs to the statement.
        let trailing = trailing(text, range.end);
        if let Some(last) = pieces.last_mut() {
            last.after.extend(comments(&text[range.end..trailing], false));
        }
        let gap = &text[at..tokens.first().map_or(range.end, |first| first.span.start as usize)];
        let after_blank = gap.split('\n').skip(1).any(|line| line.trim().is_empty()) && gap.matches('\n').count() > 1;
        let is_empty = pieces.len() == 1 && pieces[0].text.is_empty() && pieces[0].before.is_empty();
        if !is_empty {
            statements.push(Statement { pieces, after_blank, span: range.clone(), problem });
        }
        at = trailing.max(range.end);
        if end.kind == TokenKind::End {
            break;
        }
    }
    Ok(statements)
}

/// Where the comments end that stand on the line on which something else ended.
fn trailing(text: &str, from: usize) -> usize {
    let line = text[from..].find('\n').map_or(text.len(), |at| from + at);
    let rest = &text[from..line];
    let blanks = rest.len() - rest.trim_start().len();
    if rest.trim_start().starts_with("--") {
        return line;
    }
    match rest[blanks..].strip_prefix("/*").and_then(|inner| inner.find("*/")) {
        Some(length) if !rest[blanks + 2..blanks + 2 + length].contains("/*") => {
            let end = from + blanks + length + 4;
            if text[end..line].trim().is_empty() { end } else { from }
        }
        _ => from,
    }
}

fn pieces(text: &str, from: usize, tokens: &[Token], is_name: &dyn Fn(usize) -> bool) -> Vec<Piece> {
    let mut pieces: Vec<Piece> = Vec::with_capacity(tokens.len());
    let mut at = from;
    for (number, token) in tokens.iter().enumerate() {
        let range = token.span.range();
        let gap = &text[at..range.start];
        let mut found = comments(gap, pieces.is_empty());
        let before = found.iter().position(|comment| comment.own_line).map_or_else(Vec::new, |at| found.split_off(at));
        let before = match pieces.last_mut() {
            Some(last) => {
                last.after.extend(found);
                before
            }
            None => found.into_iter().chain(before).collect(),
        };
        let raw = &text[range.clone()];
        pieces.push(Piece {
            kind: kind_of(*token, raw, is_name(number)),
            text: raw.to_owned(),
            is_glued: gap.is_empty() && number > 0,
            on_new_line: gap.contains('\n'),
            before,
            after: Vec::new(),
        });
        at = range.end;
    }
    pieces
}

fn kind_of(token: Token, raw: &str, is_name: bool) -> PieceKind {
    match token.kind {
        TokenKind::Word if is_name || raw.ends_with('&') => PieceKind::Name,
        TokenKind::Word => PieceKind::Keyword,
        TokenKind::QuotedName => PieceKind::Name,
        TokenKind::Text => PieceKind::Text,
        TokenKind::Number => PieceKind::Number,
        TokenKind::Parameter => PieceKind::Parameter,
        TokenKind::Symbol(symbol) => PieceKind::Symbol(symbol),
        TokenKind::End => PieceKind::End,
    }
}

/// The comments of a text that has nothing but blanks besides.
fn comments(gap: &str, begins_line: bool) -> Vec<Comment> {
    let mut found = Vec::new();
    let (mut rest, mut own_line) = (gap, begins_line);
    loop {
        let start = rest.len() - rest.trim_start_matches(|c: char| c.is_whitespace() || c == '\u{feff}').len();
        own_line |= rest[..start].contains('\n');
        rest = &rest[start..];
        if rest.is_empty() {
            return found;
        }
        let length = comment_length(rest);
        found.push(Comment { text: rest[..length].trim_end().to_owned(), own_line });
        own_line = false;
        rest = &rest[length..];
    }
}

/// The length of the comment at the start of a text, without the end of its line.
fn comment_length(text: &str) -> usize {
    if text.starts_with("--") {
        return text.find('\n').unwrap_or(text.len());
    }
    let (mut depth, mut at) = (0_usize, 0);
    while at < text.len() {
        if text[at..].starts_with("/*") {
            (depth, at) = (depth + 1, at + 2);
        } else if text[at..].starts_with("*/") {
            (depth, at) = (depth.saturating_sub(1), at + 2);
            if depth == 0 {
                return at;
            }
        } else {
            at += text[at..].chars().next().map_or(1, char::len_utf8);
        }
    }
    text.len()
}
