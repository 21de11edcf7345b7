use super::ast::{Ident, ParameterName, Statement};
use super::keyword::Keyword as K;
use super::lexer::{Lexer, Symbol, Token, TokenKind, unquote};
use super::problem::Problem;
use super::trace::{Noted, Trace};
use crate::diagnostic::{Error, Result, SourceText, Span};
use std::sync::Arc;

/// Words that begin a clause or a statement, which a comma never appears before.
const CLAUSES: [K; 14] = [
    K::Select,
    K::Insert,
    K::Update,
    K::Delete,
    K::From,
    K::Where,
    K::Group,
    K::Having,
    K::Order,
    K::Union,
    K::Except,
    K::Intersect,
    K::Fetch,
    K::As,
];

/// How deep parentheses, CASE and calls may nest; each level costs the parser's own stack.
pub(super) const MAX_NESTING: u16 = 4096;
/// How deep an expression tree may grow, e.g. `a + b + …`; each level costs the stack of every later walk.
pub(super) const MAX_DEPTH: u16 = 2048;

/// The statements of one text, in order.
#[derive(Debug)]
pub struct Script {
    source: Arc<SourceText>,
    at: usize,
}

impl Script {
    /// The statements of a text, the first first.
    pub fn new(source: Arc<SourceText>) -> Self {
        Self { source, at: 0 }
    }

    /// The next statement, or `None` at the end. After an error, the following call goes on after the next semicolon.
    pub fn next_statement(&mut self) -> Option<Result<Statement>> {
        loop {
            let tokens = match self.tokens_to_semicolon() {
                Ok(tokens) => tokens,
                Err(error) => return Some(Err(error.in_source(&self.source))),
            };
            if tokens.len() > 1 {
                let parsed = Parser::new(self.source.text(), tokens).statement();
                return Some(parsed.map_err(|error| error.in_source(&self.source)));
            }
            if self.at >= self.source.text().len() {
                return None;
            }
        }
    }

    /// The parameters that the rest of the text names, as often as it does; a text that cannot be read names none.
    pub fn parameter_names(&self) -> Vec<ParameterName> {
        let mut rest = Self { source: Arc::clone(&self.source), at: self.at };
        let mut names = Vec::new();
        while rest.at < rest.source.text().len() {
            let Ok(tokens) = rest.tokens_to_semicolon() else { continue };
            let mut position = 0;
            for token in tokens {
                match token.kind {
                    TokenKind::Parameter => {
                        names.push(ParameterName::Named(rest.source.slice(token.span)[1..].to_owned()))
                    }
                    TokenKind::Symbol(Symbol::Question) => {
                        position += 1;
                        names.push(ParameterName::Position(position));
                    }
                    _ => {}
                }
            }
        }
        names
    }

    /// Tokens up to a semicolon, which is skipped; the last is always `End`.
    pub(super) fn tokens_to_semicolon(&mut self) -> Result<Vec<Token>> {
        let mut lexer = Lexer::new(self.source.text(), self.at);
        let mut tokens = Vec::new();
        let mut failed = None;
        loop {
            let token = match lexer.next_token() {
                Ok(token) => token,
                Err(error) => {
                    failed.get_or_insert(error);
                    continue;
                }
            };
            if matches!(token.kind, TokenKind::Symbol(Symbol::Semicolon) | TokenKind::End) {
                self.at = token.span.end as usize;
                tokens.push(Token::end(token.span));
                return match failed {
                    None => Ok(tokens),
                    Some(error) => Err(self.explain(error, &tokens)),
                };
            }
            tokens.push(token);
        }
    }
}

impl Script {
    /// A text over several lines with a statement's end in it was probably to be closed on its first line.
    fn explain(&mut self, error: Error, tokens: &[Token]) -> Error {
        let runs_on = |token: &&Token| {
            let raw = self.source.slice(token.span);
            token.kind == TokenKind::Text && raw.lines().count() > 1 && raw.contains(';')
        };
        match tokens.iter().find(runs_on) {
            Some(token) => {
                let start = token.span.start as usize;
                self.at = self.source.text()[start..].find(';').map_or(self.at, |end| start + end + 1);
                let quote = Span { start: token.span.start, end: token.span.start + 1 };
                Error::from_facts(&Problem::UnclosedText).at(quote)
            }
            None => error,
        }
    }
}

/// Which of the tokens of a statement the parser takes as names, and its problem, if there is one.
pub(super) fn names_of(
    source: &Arc<SourceText>,
    mut tokens: Vec<Token>,
    end: Token,
) -> (std::collections::BTreeSet<usize>, Option<Error>) {
    if tokens.is_empty() {
        return Default::default();
    }
    tokens.push(Token::end(end.span));
    let (noted, outcome) = traced(source.text(), tokens);
    (noted.names, outcome.err().map(|error| error.in_source(source)))
}

/// Parses a statement, and what the parser noted of it.
pub(super) fn traced(text: &str, tokens: Vec<Token>) -> (Noted, Result<Statement>) {
    let mut parser = Parser { trace: Trace::on(), ..Parser::new(text, tokens) };
    let outcome = parser.statement();
    (parser.trace.taken(), outcome)
}

/// A recursive-descent parser over the tokens of one statement.
///
/// The last token is `End` and is never passed, so looking ahead never fails.
#[derive(Debug)]
pub(super) struct Parser<'a> {
    text: &'a str,
    tokens: Vec<Token>,
    at: usize,
    nesting: u16,
    pub(super) positional: usize,
    trace: Trace,
}

impl<'a> Parser<'a> {
    /// A parser at the first of these tokens, of which the last is [`TokenKind::End`].
    pub(super) fn new(text: &'a str, tokens: Vec<Token>) -> Self {
        Self { text, tokens, at: 0, nesting: 0, positional: 0, trace: Trace::default() }
    }

    /// A token further on; past the end the last.
    pub(super) fn ahead(&self, distance: usize) -> Token {
        self.tokens[(self.at + distance).min(self.tokens.len() - 1)]
    }

    /// The token that comes next.
    pub(super) fn current(&self) -> Token {
        self.ahead(0)
    }

    /// Where it is.
    pub(super) fn span(&self) -> Span {
        self.current().span
    }

    /// The span of the token passed last.
    pub(super) fn last_span(&self) -> Span {
        self.tokens[self.at.saturating_sub(1)].span
    }

    /// The token before this one, as it is written.
    pub(super) fn raw_before(&self) -> &'a str {
        self.at.checked_sub(1).map_or("", |before| self.raw(self.tokens[before]))
    }

    /// Whether a comma appears before a word or sign that can't follow one.
    fn after_stray_comma(&self) -> bool {
        let closes = self.at_symbol(Symbol::RightParen) || self.current().kind == TokenKind::End;
        self.raw_before() == "," && (closes || self.at_any(&CLAUSES))
    }

    /// Takes the next token, except the last.
    pub(super) fn advance(&mut self) -> Token {
        let token = self.current();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    /// A token as it is written.
    pub(super) fn raw(&self, token: Token) -> &'a str {
        &self.text[token.span.range()]
    }

    /// Whether a token further on is this keyword.
    pub(super) fn is_word_at(&self, distance: usize, word: K) -> bool {
        let token = self.ahead(distance);
        if token.kind == TokenKind::End && distance == 0 {
            self.trace.word(word.text());
        }
        token.keyword == Some(word)
    }

    /// Whether the next token is this keyword.
    pub(super) fn at_word(&self, word: K) -> bool {
        self.is_word_at(0, word)
    }

    /// Whether the mark before a text or name with escapes comes next: `U&`.
    pub(super) fn at_unicode_mark(&self) -> bool {
        self.raw(self.current()).eq_ignore_ascii_case("U&")
    }

    /// Whether these words come next.
    pub(super) fn at_words(&self, words: &[K]) -> bool {
        if self.current().kind == TokenKind::End && self.trace.is_on() {
            self.trace.word(&words.iter().map(|word| word.text()).collect::<Vec<_>>().join(" "));
            return false;
        }
        words.iter().enumerate().all(|(distance, word)| self.is_word_at(distance, *word))
    }

    /// Whether the next token is one of these keywords.
    pub(super) fn at_any(&self, words: &[K]) -> bool {
        words.iter().any(|word| self.at_word(*word))
    }

    /// Whether the next token is this symbol.
    pub(super) fn at_symbol(&self, symbol: Symbol) -> bool {
        self.current().kind == TokenKind::Symbol(symbol)
    }

    /// Takes this keyword, if it is next.
    pub(super) fn accept_word(&mut self, word: K) -> bool {
        let found = self.at_word(word);
        if found {
            self.advance();
        }
        found
    }

    /// Takes these keywords, if all of them are next.
    pub(super) fn accept_words(&mut self, words: &[K]) -> bool {
        let found = self.at_words(words);
        if found {
            words.iter().for_each(|_| {
                self.advance();
            });
        }
        found
    }

    /// Takes this symbol, if it is next.
    pub(super) fn accept_symbol(&mut self, symbol: Symbol) -> bool {
        let found = self.at_symbol(symbol);
        if found {
            self.advance();
        }
        found
    }

    /// Takes this keyword; 42000 without it.
    pub(super) fn expect_word(&mut self, word: K) -> Result<()> {
        if self.accept_word(word) { Ok(()) } else { Err(self.expected(word.text())) }
    }

    /// Takes this symbol; 42000 without it, with `text` as what was expected.
    pub(super) fn expect_symbol(&mut self, symbol: Symbol, text: &str) -> Result<()> {
        if self.accept_symbol(symbol) { Ok(()) } else { Err(self.expected(text)) }
    }

    /// Passes the `)` that belongs to the parenthesis at `open`, or says that it is missing.
    pub(super) fn close(&mut self, open: Span) -> Result<()> {
        if self.accept_symbol(Symbol::RightParen) {
            return Ok(());
        }
        // One that is closed further on has something in it that does not belong there.
        if self.is_closed_later() {
            let help = super::thesaurus::for_word_inside(self.raw(self.current()));
            return Err(help.into_iter().fold(self.expected(")"), Error::with_help));
        }
        let problem = Problem::UnclosedParenthesis { found: self.found() };
        Err(Error::from_facts(&problem).at(open).with_label(self.span(), "expected ) before this"))
    }

    /// Whether a `)` follows that closes what is open here.
    fn is_closed_later(&self) -> bool {
        let mut open = 0_u32;
        for distance in 0.. {
            match self.ahead(distance).kind {
                TokenKind::Symbol(Symbol::LeftParen) => open += 1,
                TokenKind::Symbol(Symbol::RightParen) if open == 0 => return true,
                TokenKind::Symbol(Symbol::RightParen) => open -= 1,
                TokenKind::End => return false,
                _ => {}
            }
        }
        false
    }

    /// What appears here, in words.
    pub(super) fn found(&self) -> String {
        let token = self.current();
        match token.kind {
            TokenKind::End if token.span.start == token.span.end => "the end of the text".into(),
            TokenKind::End => "the end of the statement".into(),
            _ => {
                let raw = self.raw(token);
                if raw.chars().count() > 30 {
                    format!("{}…", raw.chars().take(30).collect::<String>())
                } else {
                    raw.into()
                }
            }
        }
    }

    /// An error at the next token.
    #[cold]
    pub(super) fn fail(&self, problem: &Problem) -> Error {
        Error::from_facts(problem).at(self.span())
    }

    /// The error that something else was expected here.
    #[cold]
    pub(super) fn expected(&self, expected: &str) -> Error {
        let error = self.fail(&Problem::Expected { expected: expected.into(), found: self.found() });
        if self.after_stray_comma() { error.with_help("take the comma away") } else { error }
    }

    /// The error that something is not supported here: 0A000.
    #[cold]
    pub(super) fn not_supported(&self, what: impl Into<String>) -> Error {
        self.fail(&Problem::NotSupported { what: what.into() })
    }

    /// A value can begin where the text ends: a name, or one of these words.
    #[cold]
    pub(super) fn note_value_wanted(&self) {
        const WORDS: [K; 14] = [
            K::Case,
            K::Cast,
            K::Not,
            K::Exists,
            K::Null,
            K::True,
            K::False,
            K::Interval,
            K::Date,
            K::Time,
            K::Timestamp,
            K::Extract,
            K::CurrentDate,
            K::CurrentTimestamp,
        ];
        if self.current().kind == TokenKind::End && self.trace.is_on() {
            self.trace.wanted("an expression");
            WORDS.iter().for_each(|word| self.trace.word(word.text()));
        }
    }

    /// Runs `parse` one level deeper; past the bound it is an error, so that no text can exhaust the stack.
    pub(super) fn nested<T>(&mut self, parse: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        self.nested_by(1, parse)
    }

    /// As [`Parser::nested`], for what needs the stack of several levels.
    pub(super) fn nested_by<T>(&mut self, levels: u16, parse: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        if self.nesting >= MAX_NESTING {
            return Err(self.fail(&Problem::TooDeep(MAX_NESTING)));
        }
        self.nesting += levels;
        let result = parse(self);
        self.nesting -= levels;
        result
    }

    /// Takes this keyword; the error names what else might have stood here.
    pub(super) fn expect_either(&mut self, word: K, expected: &str) -> Result<()> {
        if self.accept_word(word) { Ok(()) } else { Err(self.expected(expected)) }
    }

    /// Whether a name can begin here: a quoted one, or a word that is not reserved.
    pub(super) fn at_name(&self) -> bool {
        let token = self.current();
        match token.kind {
            TokenKind::QuotedName => true,
            TokenKind::Word => !token.keyword.is_some_and(K::is_reserved),
            _ => false,
        }
    }

    /// A name, quoted or not.
    pub(super) fn name(&mut self, expected: &'static str) -> Result<Ident> {
        if self.current().kind == TokenKind::End {
            self.trace.wanted(expected);
        }
        if self.at_unicode_mark() && self.ahead(1).kind == TokenKind::QuotedName {
            return self.unicode_name();
        }
        let token = self.current();
        if token.kind == TokenKind::Word && !self.at_name() && expected != "an expression" && !self.after_stray_comma()
        {
            return Err(self.fail(&Problem::ReservedWord { word: self.raw(token).to_owned() }));
        }
        if !self.at_name() {
            let error = self.expected(expected);
            if token.kind != TokenKind::Word || self.after_stray_comma() {
                return Err(error);
            }
            let word = self.raw(token);
            return Err(error.with_help(format!(
                "{word} is a reserved word; as a name it is written in double quotes: \"{word}\""
            )));
        }
        self.trace.name(self.at);
        self.advance();
        let quoted = token.kind == TokenKind::QuotedName;
        let raw = self.raw(token);
        let text = if quoted { unquote(raw).into_owned() } else { raw.to_owned() };
        if text.is_empty() {
            return Err(Error::from_facts(&Problem::EmptyName).at(token.span));
        }
        Ok(Ident { text, quoted, span: token.span })
    }

    /// `a` or `a.b` or `a.b.c`
    pub(super) fn qualified_name(&mut self, expected: &'static str) -> Result<Vec<Ident>> {
        let mut parts = vec![self.name(expected)?];
        while self.at_symbol(Symbol::Dot) && self.ahead(1).kind != TokenKind::Symbol(Symbol::Star) {
            self.advance();
            parts.push(self.name("a name after the point")?);
        }
        Ok(parts)
    }

    /// A text in quotes; literals that are only blanks and line ends apart are one (ISO/IEC 9075-2, 5.3).
    pub(super) fn text_literal(&mut self, expected: &str) -> Result<String> {
        if self.current().kind != TokenKind::Text {
            return Err(self.expected(expected));
        }
        let mut token = self.advance();
        let mut text = unquote(self.raw(token)).into_owned();
        // A literal goes on in the next line (clause 5.3).
        let line_ends = |this: &Self, before: Token| {
            let between = before.span.end as usize..this.span().start as usize;
            this.text.get(between).is_some_and(|blanks| blanks.contains('\n'))
        };
        while self.current().kind == TokenKind::Text && line_ends(self, token) {
            token = self.advance();
            text.push_str(&unquote(self.raw(token)));
        }
        Ok(text)
    }

    /// One or more of what `parse` reads, separated by commas.
    pub(super) fn list<T>(&mut self, mut parse: impl FnMut(&mut Self) -> Result<T>) -> Result<Vec<T>> {
        let mut items = vec![parse(self)?];
        while self.accept_symbol(Symbol::Comma) {
            items.push(parse(self)?);
        }
        Ok(items)
    }
}
