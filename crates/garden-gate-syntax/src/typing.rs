//! What a text that is still being typed says about the place of the cursor: which words the grammar has there, which kinds of names, and
//! which tables the query around it reads, also those named after the cursor.

use super::lexer::{Lexer, Symbol, Token, TokenKind, unquote};
use super::parser::traced;
use crate::diagnostic::Span;

/// What stands at the cursor.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Inside {
    /// Names, keywords and signs.
    #[default]
    Code,
    /// A text that is not closed before the cursor.
    Text,
    /// A comment.
    Comment,
}

/// A table, view, common table expression or query in the FROM clause of a query around the cursor.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Relation {
    /// Its correlation name.
    pub name: String,
    /// Where that is written.
    pub name_span: Span,
    /// How FROM has it, with its correlation name.
    pub text: String,
    /// The WITH clause that it may refer to; empty without one.
    pub with: String,
}

/// The place of the cursor.
#[derive(Clone, Debug, Default)]
pub struct Typing {
    /// Where the word that ends at the cursor begins; of a text, after its quote.
    pub start: usize,
    /// What is typed of it.
    pub word: String,
    pub inside: Inside,
    /// The names before it, with a dot after each.
    pub qualifier: Vec<String>,
    /// Words, or several in a row, that the grammar allows.
    pub keywords: Vec<String>,
    /// The kinds of names that the grammar allows, as messages call them.
    pub wanted: Vec<&'static str>,
    /// Whether the statement can be read up to the cursor.
    pub is_read: bool,
    /// Of the queries around the cursor, the innermost first.
    pub relations: Vec<Relation>,
    /// The common table expressions that may be named.
    pub ctes: Vec<String>,
    /// Of a text after a comparison: the column, as it is written.
    pub compared: Option<String>,
    /// Whether a text is the path of a file.
    pub is_file: bool,
}

/// Words after which FROM ends.
const AFTER_FROM: [&str; 12] = [
    "WHERE",
    "GROUP",
    "HAVING",
    "WINDOW",
    "ORDER",
    "OFFSET",
    "FETCH",
    "UNION",
    "EXCEPT",
    "INTERSECT",
    "GUIDE",
    "RETURNING",
];

/// The tokens of the statement at the cursor, those before it, and how the text goes on.
struct Around<'t> {
    text: &'t str,
    tokens: Vec<Token>,
    /// How many tokens end before the word at the cursor.
    before: usize,
}

impl Typing {
    /// Reads the statement around a place of a text. O(length of the text).
    pub fn at(text: &str, cursor: usize) -> Self {
        let cursor = (0..=cursor.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        let mut typing = Self::default();
        let start = typing.word_at(text, cursor);
        let around = Around::of(text, start, cursor);
        typing.start = start;
        if typing.inside == Inside::Comment {
            return typing;
        }
        typing.qualifier = around.qualifier();
        if typing.inside == Inside::Text {
            typing.compared = around.compared();
            typing.is_file = around.word_before(1).is_some_and(|word| word.eq_ignore_ascii_case("FILE"));
        } else {
            typing.grammar(&around);
        }
        typing.relations = around.relations();
        typing.ctes = around.visible_ctes().into_iter().map(|(name, _)| name).collect();
        typing
    }

    /// Where the word at the cursor begins, and what it is inside.
    fn word_at(&mut self, text: &str, cursor: usize) -> usize {
        let mut lexer = Lexer::new(text, 0);
        let mut last = Token::end(Span::new(0, 0));
        loop {
            match lexer.next_token() {
                Ok(token) if token.kind != TokenKind::End && (token.span.start as usize) < cursor => {
                    last = token;
                    if token.span.end as usize >= cursor {
                        break;
                    }
                }
                Ok(_) => break,
                // Something is not closed: it goes on to the end of the text.
                Err(error) => {
                    let open = error.span().map_or(cursor, |span| span.start as usize);
                    if open >= cursor {
                        break;
                    }
                    self.inside = match text.as_bytes().get(open) {
                        Some(b'\'') => Inside::Text,
                        Some(b'/') => Inside::Comment,
                        _ => Inside::Code,
                    };
                    if self.inside == Inside::Code && text.as_bytes().get(open) != Some(&b'"') {
                        continue;
                    }
                    let start = (open + 1).min(cursor);
                    text[start..cursor].clone_into(&mut self.word);
                    return if self.inside == Inside::Text { start } else { open };
                }
            }
        }
        let (start, end) = (last.span.start as usize, last.span.end as usize);
        if end < cursor {
            let gap = &text[end..cursor];
            let line = gap.rfind('\n').map_or(0, |at| at + 1);
            if gap[line..].contains("--") {
                self.inside = Inside::Comment;
            }
            return cursor;
        }
        match last.kind {
            TokenKind::Text if end > cursor || end - start < 2 => {
                self.inside = Inside::Text;
                text[start + 1..cursor].clone_into(&mut self.word);
                start + 1
            }
            TokenKind::Word | TokenKind::QuotedName | TokenKind::Parameter => {
                text[start..cursor].clone_into(&mut self.word);
                start
            }
            _ => cursor,
        }
    }

    /// What the grammar allows where the tokens before the word end.
    fn grammar(&mut self, around: &Around<'_>) {
        let mut tokens = around.tokens[..around.before].to_vec();
        let end = tokens.last().map_or(self.start, |last| last.span.end as usize);
        tokens.push(Token::end(Span::new(end, end)));
        let (noted, outcome) = traced(around.text, tokens);
        self.is_read = outcome.map_or_else(|error| error.span().is_none_or(|span| span.end as usize >= end), |_| true);
        self.keywords = noted
            .words
            .into_iter()
            .filter(|word| word.starts_with(char::is_alphabetic) && !word.ends_with('&'))
            .collect();
        self.wanted = noted.wanted.into_iter().collect();
    }
}

/// Where FROM gives the correlation name that stands at a place of a text, in bytes; nothing where another name or none stands.
/// O(length of the text).
pub fn correlation_name(text: &str, at: usize) -> Option<std::ops::Range<usize>> {
    let at = (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    let around = Around::of(text, at, at);
    let touches = |token: &&Token| (token.span.start as usize..=token.span.end as usize).contains(&at);
    let (number, token) =
        around.tokens.iter().enumerate().find(|(number, token)| touches(token) && around.is_name(*number))?;
    let name = around.name(number);
    let found = around.relations().into_iter().find(|relation| relation.name.eq_ignore_ascii_case(&name))?;
    let is_used = around.is_symbol(number + 1, Symbol::Dot) || found.name_span == token.span;
    is_used.then(|| found.name_span.range())
}

impl<'t> Around<'t> {
    fn of(text: &'t str, start: usize, cursor: usize) -> Self {
        let mut lexer = Lexer::new(text, 0);
        let mut tokens: Vec<Token> = Vec::new();
        loop {
            // What is not closed is skipped: the rest of the text is in it.
            let Ok(token) = lexer.next_token() else { if tokens.len() > text.len() { break } else { continue } };
            let is_end = token.kind == TokenKind::Symbol(Symbol::Semicolon);
            if token.kind == TokenKind::End || is_end && token.span.start as usize >= cursor {
                break;
            }
            if is_end {
                tokens.clear();
            } else {
                tokens.push(token);
            }
        }
        let before = tokens.iter().take_while(|token| (token.span.end as usize) <= start).count();
        Self { text, tokens, before }
    }

    fn raw(&self, at: usize) -> &'t str {
        self.tokens.get(at).map_or("", |token| &self.text[token.span.range()])
    }

    fn is_word(&self, at: usize, word: &str) -> bool {
        self.tokens.get(at).is_some_and(|token| token.kind == TokenKind::Word)
            && self.raw(at).eq_ignore_ascii_case(word)
    }

    fn is_symbol(&self, at: usize, symbol: Symbol) -> bool {
        self.tokens.get(at).is_some_and(|token| token.kind == TokenKind::Symbol(symbol))
    }

    fn is_name(&self, at: usize) -> bool {
        self.tokens.get(at).is_some_and(|token| match token.kind {
            TokenKind::QuotedName => true,
            TokenKind::Word => !super::keyword::is_reserved(self.raw(at)),
            _ => false,
        })
    }

    fn name(&self, at: usize) -> String {
        let raw = self.raw(at);
        if raw.starts_with('"') { unquote(raw).into_owned() } else { raw.to_owned() }
    }

    /// The word so many tokens before the cursor.
    fn word_before(&self, distance: usize) -> Option<&'t str> {
        self.before.checked_sub(distance).map(|at| self.raw(at))
    }

    fn qualifier(&self) -> Vec<String> {
        let mut names = Vec::new();
        let mut at = self.before;
        while at >= 2 && self.is_symbol(at - 1, Symbol::Dot) && self.is_name(at - 2) {
            names.insert(0, self.name(at - 2));
            at -= 2;
        }
        names
    }

    /// The column before a comparison at the cursor: `b.sun = '`, `sun IN ('a', '`.
    fn compared(&self) -> Option<String> {
        let mut at = self.before.checked_sub(1)?;
        if !matches!(self.tokens[at].kind, TokenKind::Symbol(Symbol::Equal | Symbol::NotEqual))
            && !self.is_word(at, "LIKE")
        {
            while at > 0 && (self.is_symbol(at, Symbol::Comma) || self.tokens[at].kind == TokenKind::Text) {
                at -= 1;
            }
            if !(self.is_symbol(at, Symbol::LeftParen) && at > 0 && self.is_word(at - 1, "IN")) {
                return None;
            }
            at -= 1;
            if at > 0 && self.is_word(at - 1, "NOT") {
                at -= 1;
            }
        }
        let last = at.checked_sub(1).filter(|at| self.is_name(*at))?;
        let mut first = last;
        while first >= 2 && self.is_symbol(first - 1, Symbol::Dot) && self.is_name(first - 2) {
            first -= 2;
        }
        Some(self.text[self.tokens[first].span.start as usize..self.tokens[last].span.end as usize].to_owned())
    }

    /// The token that closes the parenthesis at a place, or the end.
    fn closing(&self, open: usize) -> usize {
        let mut depth = 0_usize;
        for at in open..self.tokens.len() {
            if self.is_symbol(at, Symbol::LeftParen) {
                depth += 1;
            } else if self.is_symbol(at, Symbol::RightParen) {
                depth -= 1;
                if depth == 0 {
                    return at;
                }
            }
        }
        self.tokens.len()
    }

    /// The tokens between the parentheses around the cursor, the innermost first; the last is the statement.
    fn levels(&self) -> Vec<(usize, usize)> {
        let mut open = Vec::new();
        for at in 0..self.before {
            if self.is_symbol(at, Symbol::LeftParen) {
                open.push(at);
            } else if self.is_symbol(at, Symbol::RightParen) {
                open.pop();
            }
        }
        let inner = open.into_iter().rev().map(|open| (open + 1, self.closing(open)));
        inner.chain([(0, self.tokens.len())]).collect()
    }

    /// The places of a level outside parentheses within it.
    fn outside(&self, (from, to): (usize, usize)) -> Vec<usize> {
        let mut places = Vec::new();
        let mut at = from;
        while at < to {
            places.push(at);
            at = if self.is_symbol(at, Symbol::LeftParen) { self.closing(at) + 1 } else { at + 1 };
        }
        places
    }

    fn relations(&self) -> Vec<Relation> {
        let mut found = Vec::new();
        let mut inner = self.before;
        for level in self.levels() {
            self.relations_of(level, inner, &mut found);
            inner = level.0.saturating_sub(1);
        }
        found
    }

    /// The tables in FROM of the query of a level that has a place in it: between two set operators.
    fn relations_of(&self, level: (usize, usize), inside: usize, found: &mut Vec<Relation>) {
        let places = self.outside(level);
        let is_set = |at: &&usize| ["UNION", "EXCEPT", "INTERSECT"].iter().any(|word| self.is_word(**at, word));
        let from = places.iter().filter(|at| **at < inside).rfind(is_set).map_or(level.0, |at| at + 1);
        let to = places.iter().filter(|at| **at >= inside).find(is_set).copied().unwrap_or(level.1);
        let own: Vec<usize> = places.into_iter().filter(|at| (from..to).contains(at)).collect();
        let starts = |at: usize| {
            let is_from = self.is_word(at, "FROM") && !(at > 0 && self.is_word(at - 1, "DISTINCT"));
            is_from || ["UPDATE", "INTO"].iter().any(|word| self.is_word(at, word))
        };
        let Some(first) = own.iter().position(|at| starts(*at)) else { return };
        let ends = |at: usize| AFTER_FROM.iter().chain(&["SET", "VALUES", "SELECT"]).any(|word| self.is_word(at, word));
        let last = own[first + 1..].iter().position(|at| ends(*at)).map_or(own.len(), |at| first + 1 + at);
        let with = self.with_text();
        let joins = ["JOIN", "INNER", "LEFT", "RIGHT", "FULL", "CROSS", "NATURAL", "OUTER", "ON", "USING"];
        let parts = own[first + 1..last]
            .split(|at| self.is_symbol(*at, Symbol::Comma) || joins.iter().any(|word| self.is_word(*at, word)));
        let mut after_on = false;
        let mut at = first + 1;
        for part in parts {
            if !after_on && !part.is_empty() {
                found.extend(self.relation(part, to, &with));
            }
            at += part.len();
            let separator = own.get(at).copied().unwrap_or(to);
            after_on = self.is_word(separator, "ON") || self.is_word(separator, "USING");
            at += 1;
        }
    }

    /// A table of FROM.
    fn relation(&self, part: &[usize], end: usize, with: &str) -> Option<Relation> {
        let (first, last) = (*part.first()?, *part.last()?);
        let close = if self.is_symbol(last, Symbol::LeftParen) { self.closing(last) } else { last };
        if close >= end.min(self.tokens.len()) {
            // What is open after a name is a list that is being typed.
            return self.relation(
                part.split_last().map(|(_, before)| before).filter(|before| !before.is_empty())?,
                end,
                with,
            );
        }
        // A list of columns may follow the name.
        let named = part.iter().rev().find(|at| self.is_name(**at))?;
        let text = &self.text[self.tokens[first].span.start as usize..self.tokens[close].span.end as usize];
        Some(Relation {
            name: self.name(*named),
            name_span: self.tokens[*named].span,
            text: text.to_owned(),
            with: with.to_owned(),
        })
    }

    /// The common table expressions that are complete before the cursor, with the end of the text of each.
    fn visible_ctes(&self) -> Vec<(String, usize)> {
        let mut found = Vec::new();
        if !self.is_word(0, "WITH") {
            return found;
        }
        let mut at = 1 + usize::from(self.is_word(1, "RECURSIVE"));
        while self.is_name(at) {
            let name = self.name(at);
            let open = (at + 1..self.tokens.len()).find(|open| {
                self.is_symbol(*open, Symbol::LeftParen)
                    && (self.is_word(open - 1, "AS") || self.is_word(open - 1, "MATERIALIZED"))
            });
            let Some(close) = open.map(|open| self.closing(open)).filter(|close| *close < self.before) else { break };
            found.push((name, self.tokens[close].span.end as usize));
            let Some(comma) = (close + 1..self.before).find(|at| self.is_symbol(*at, Symbol::Comma)) else { break };
            if self.outside((close + 1, comma)).iter().any(|at| self.is_word(*at, "SELECT")) {
                break;
            }
            at = comma + 1;
        }
        found
    }

    fn with_text(&self) -> String {
        let start = self.tokens.first().map_or(0, |first| first.span.start as usize);
        self.visible_ctes().last().map_or_else(String::new, |(_, end)| self.text[start..*end].to_owned())
    }
}
