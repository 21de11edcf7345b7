use super::keyword::Keyword;
use super::problem::Problem;
use crate::diagnostic::{Error, Span};
use std::borrow::Cow;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TokenKind {
    Word,
    QuotedName,
    Text,
    Number,
    /// `:name`; the span holds the colon.
    Parameter,
    Symbol(Symbol),
    End,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Symbol {
    LeftParen,
    RightParen,
    Comma,
    Dot,
    Semicolon,
    Question,
    Star,
    Plus,
    Minus,
    Slash,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    Concat,
    LeftBracket,
    RightBracket,
}

#[derive(Clone, Copy, Debug)]
pub(super) struct Token {
    pub(super) kind: TokenKind,
    /// The word of the language that a word is.
    pub(super) keyword: Option<Keyword>,
    pub(super) span: Span,
}

impl Token {
    /// The end of a text or of a statement.
    pub(super) fn end(span: Span) -> Self {
        Self { kind: TokenKind::End, keyword: None, span }
    }
}

/// Cuts text into tokens, one at a time; blanks and comments are skipped.
#[derive(Debug)]
pub(super) struct Lexer<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Lexer<'a> {
    /// Reads tokens from a place on.
    pub(super) fn new(text: &'a str, at: usize) -> Self {
        Self { text, at }
    }

    fn peek(&self, ahead: usize) -> Option<u8> {
        self.text.as_bytes().get(self.at + ahead).copied()
    }

    /// The next token; at the end of the text [`TokenKind::End`], again and again.
    pub(super) fn next_token(&mut self) -> Result<Token, Error> {
        self.skip_blanks()?;
        let start = self.at;
        let kind = match self.peek(0) {
            None => TokenKind::End,
            Some(b'\'') => self.quoted(b'\'', TokenKind::Text, &Problem::UnclosedText)?,
            Some(b'"') => self.quoted(b'"', TokenKind::QuotedName, &Problem::UnclosedName)?,
            Some(b'0'..=b'9') => self.number()?,
            Some(b'.') if self.peek(1).is_some_and(|byte| byte.is_ascii_digit()) => self.number()?,
            Some(b':') if self.peek(1).is_some_and(|byte| byte.is_ascii_alphabetic() || byte == b'_') => {
                self.at += 1;
                self.take_while(is_word);
                TokenKind::Parameter
            }
            // Unicode text or name: its mark is a word of its own.
            Some(b'u' | b'U') if self.peek(1) == Some(b'&') && matches!(self.peek(2), Some(b'\'' | b'"')) => {
                self.at += 2;
                TokenKind::Word
            }
            Some(_) => {
                let next = self.text[self.at..].chars().next().unwrap_or(' ');
                if next.is_alphabetic() || next == '_' {
                    self.take_while(is_word);
                    TokenKind::Word
                } else {
                    TokenKind::Symbol(self.symbol(next)?)
                }
            }
        };
        let keyword = if kind == TokenKind::Word { Keyword::of(&self.text[start..self.at]) } else { None };
        Ok(Token { kind, keyword, span: Span::new(start, self.at) })
    }

    fn skip_blanks(&mut self) -> Result<(), Error> {
        loop {
            // A byte order mark, at the beginning of a file or where files were put together, is a blank.
            self.take_while(|c| c.is_whitespace() || c == '\u{feff}');
            if self.text[self.at..].starts_with("--") {
                self.take_while(|c| c != '\n');
            } else if self.text[self.at..].starts_with("/*") {
                self.comment()?;
            } else {
                return Ok(());
            }
        }
    }

    /// A comment in brackets, which may hold others (clause 5.2).
    fn comment(&mut self) -> Result<(), Error> {
        let start = self.at;
        let mut depth = 0_usize;
        for at in memchr::memchr2_iter(b'/', b'*', &self.text.as_bytes()[start..]).map(|at| start + at) {
            // A sign that belongs to the mark before it begins none.
            if at < self.at {
                continue;
            }
            match self.text.as_bytes().get(at..at + 2) {
                Some(b"/*") => depth += 1,
                Some(b"*/") => depth -= 1,
                _ => continue,
            }
            self.at = at + 2;
            if depth == 0 {
                return Ok(());
            }
        }
        self.at = self.text.len();
        Err(Error::from_facts(&Problem::UnclosedComment).at(Span::new(start, start + 2)))
    }

    fn take_while(&mut self, keep: impl Fn(char) -> bool) {
        let rest = &self.text[self.at..];
        self.at += rest.find(|c| !keep(c)).unwrap_or(rest.len());
    }

    fn quoted(&mut self, quote: u8, kind: TokenKind, problem: &Problem) -> Result<TokenKind, Error> {
        let start = self.at;
        self.at += 1;
        loop {
            let Some(end) = memchr::memchr(quote, &self.text.as_bytes()[self.at..]) else {
                // Reading goes on after the next semicolon, where the next statement may begin.
                self.at =
                    memchr::memchr(b';', &self.text.as_bytes()[start..]).map_or(self.text.len(), |end| start + end);
                return Err(Error::from_facts(problem).at(Span::new(start, start + 1)));
            };
            self.at += end + 1;
            if self.peek(0) != Some(quote) {
                return Ok(kind);
            }
            self.at += 1;
        }
    }

    fn number(&mut self) -> Result<TokenKind, Error> {
        let start = self.at;
        if self.peek(0) == Some(b'0') && matches!(self.peek(1), Some(b'x' | b'X' | b'o' | b'O' | b'b' | b'B')) {
            self.take_while(is_word);
            return Ok(TokenKind::Number);
        }
        let is_digit = |c: char| c.is_ascii_digit() || c == '_';
        self.take_while(is_digit);
        if self.peek(0) == Some(b'.') {
            self.at += 1;
            self.take_while(is_digit);
        }
        if matches!(self.peek(0), Some(b'e' | b'E')) {
            let sign = usize::from(matches!(self.peek(1), Some(b'+' | b'-')));
            if self.peek(1 + sign).is_some_and(|byte| byte.is_ascii_digit()) {
                self.at += 1 + sign;
                self.take_while(is_digit);
            }
        }
        let end = self.at;
        self.take_while(is_word);
        if self.at > end {
            let text = self.text[start..self.at].to_owned();
            return Err(Error::from_facts(&Problem::BadNumber { text }).at(Span::new(start, self.at)));
        }
        Ok(TokenKind::Number)
    }

    fn symbol(&mut self, first: char) -> Result<Symbol, Error> {
        let second = self.peek(1);
        let (symbol, length) = match (first, second) {
            ('<', Some(b'>')) | ('!', Some(b'=')) => (Symbol::NotEqual, 2),
            ('<', Some(b'=')) => (Symbol::LessOrEqual, 2),
            ('>', Some(b'=')) => (Symbol::GreaterOrEqual, 2),
            ('|', Some(b'|')) => (Symbol::Concat, 2),
            ('<', _) => (Symbol::Less, 1),
            ('>', _) => (Symbol::Greater, 1),
            ('=', Some(b'=')) => {
                self.at += 2;
                let span = Span::new(self.at - 2, self.at);
                let beside = operands(self.text, span);
                return Err(Error::from_facts(&Problem::DoubleEqual { beside }).at(span));
            }
            ('=', _) => (Symbol::Equal, 1),
            ('(', _) => (Symbol::LeftParen, 1),
            (')', _) => (Symbol::RightParen, 1),
            ('[', _) => (Symbol::LeftBracket, 1),
            (']', _) => (Symbol::RightBracket, 1),
            (',', _) => (Symbol::Comma, 1),
            ('.', _) => (Symbol::Dot, 1),
            (';', _) => (Symbol::Semicolon, 1),
            ('?', _) => (Symbol::Question, 1),
            ('*', _) => (Symbol::Star, 1),
            ('+', _) => (Symbol::Plus, 1),
            ('-', _) => (Symbol::Minus, 1),
            ('/', _) => (Symbol::Slash, 1),
            (other, _) => {
                let span = Span::new(self.at, self.at + other.len_utf8());
                self.at += other.len_utf8();
                // A sign of two characters is one mistake.
                let pair = matches!((other, self.peek(0)), ('!', Some(b'=')) | ('&', Some(b'&')) | ('|', Some(b'|')));
                let span = if pair { Span::new(self.at - 1, self.at + 1) } else { span };
                self.at += usize::from(pair);
                let beside = operands(self.text, span);
                return Err(Error::from_facts(&Problem::StrangeCharacter { character: other, beside }).at(span));
            }
        };
        self.at += length;
        Ok(symbol)
    }
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

/// What appears before and after a sign, where each is one word, number or text.
fn operands(text: &str, sign: Span) -> Option<[String; 2]> {
    let part = |c: char| is_word(c) || matches!(c, '.' | '"' | ':');
    let (before, after) = (text[..sign.start as usize].trim_end(), text[sign.end as usize..].trim_start());
    let left = before.trim_end_matches(part);
    let left = &before[left.len()..];
    let right = match after.strip_prefix('\'') {
        Some(rest) => &after[..rest.find('\'')? + 2],
        None => &after[..after.find(|c| !part(c)).unwrap_or(after.len())],
    };
    (!left.is_empty() && !right.is_empty()).then(|| [left.to_owned(), right.to_owned()])
}

/// The content of a quoted token: outer quotes off, doubled quotes single.
pub(super) fn unquote(raw: &str) -> Cow<'_, str> {
    let quote = &raw[..1];
    let inner = &raw[1..raw.len() - 1];
    if inner.contains(quote) { inner.replace(&quote.repeat(2), quote).into() } else { inner.into() }
}

/// The words of a text that are neither quoted nor in comments.
pub fn words(text: &str) -> Vec<&str> {
    let mut lexer = Lexer::new(text, 0);
    let mut words = Vec::new();
    while let Ok(token) = lexer.next_token() {
        match token.kind {
            TokenKind::End => break,
            TokenKind::Word => words.push(&text[token.span.range()]),
            _ => {}
        }
    }
    words
}
