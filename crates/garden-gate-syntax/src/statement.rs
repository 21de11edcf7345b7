use super::ast::{Analyze, Expr, ExprKind, Query, Statement, StatementKind};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use super::thesaurus;
use crate::diagnostic::{Error, Result, nearest};
use crate::types::{SqlType, Value};

/// The words that statements begin with, for those who misspell one.
const STATEMENTS: [K; 17] = [
    K::Select,
    K::With,
    K::Values,
    K::Insert,
    K::Update,
    K::Delete,
    K::Truncate,
    K::Create,
    K::Drop,
    K::Alter,
    K::Commit,
    K::Rollback,
    K::Savepoint,
    K::Set,
    K::Show,
    K::Let,
    K::Analyze,
];

/// Statements of the standard that are still to come.
const LATER: [K; 8] = [K::Grant, K::Revoke, K::Call, K::Prepare, K::Execute, K::Open, K::Close, K::Signal];

impl Parser<'_> {
    /// Whether the WITH here belongs to a statement that changes rows: its word appears after the last closing parenthesis.
    fn change_behind_with(&self) -> bool {
        let mut open = 0_u32;
        for distance in 1.. {
            match self.ahead(distance).kind {
                TokenKind::Symbol(Symbol::LeftParen) => open += 1,
                TokenKind::Symbol(Symbol::RightParen) => open = open.saturating_sub(1),
                TokenKind::End => return false,
                TokenKind::Word if open == 0 => {
                    let is = |words: &[K]| words.iter().any(|word| self.is_word_at(distance, *word));
                    if is(&[K::Select, K::Values, K::Table]) {
                        return false;
                    }
                    if is(&[K::Insert, K::Update, K::Delete, K::Merge]) {
                        return true;
                    }
                }
                _ => {}
            }
        }
        false
    }

    /// One statement, up to its semicolon.
    pub(super) fn statement(&mut self) -> Result<Statement> {
        let start = self.span();
        let kind = if self.at_word(K::With) && self.change_behind_with() {
            let with = self.with()?;
            self.change(Some(with))?
        } else if self.at_words(&[K::Insert, K::Into, K::File]) && self.ahead(3).kind == TokenKind::Text {
            self.export()?
        } else if self.at_any(&[K::Insert, K::Update, K::Delete, K::Truncate, K::Merge]) {
            self.change(None)?
        } else if self.accept_word(K::Create) {
            StatementKind::Definition(Box::new(self.create()?))
        } else if self.accept_word(K::Drop) {
            StatementKind::Definition(Box::new(self.drop()?))
        } else if self.accept_word(K::Alter) {
            StatementKind::Definition(Box::new(self.alter()?))
        } else if self.at_word(K::Comment) {
            StatementKind::Definition(Box::new(self.comment()?))
        } else if self.at_any(&[K::Start, K::Commit, K::Rollback, K::Savepoint, K::Release]) {
            StatementKind::Transaction(self.transaction()?)
        } else if self.at_any(&[K::Select, K::With, K::Values, K::Table]) || self.at_symbol(Symbol::LeftParen) {
            StatementKind::Query(Box::new(self.query()?))
        } else if self.at_words(&[K::Set, K::Constraints]) {
            StatementKind::Transaction(self.set_constraints()?)
        } else if self.at_words(&[K::Set, K::Transaction]) || self.at_words(&[K::Set, K::Local, K::Transaction]) {
            StatementKind::Transaction(self.set_transaction()?)
        } else if self.accept_word(K::Set) {
            self.set()?
        } else if self.accept_word(K::Show) {
            if !self.accept_word(K::Settings) {
                let help = thesaurus::for_statement("SHOW", "");
                return Err(help.into_iter().fold(self.expected("SETTINGS"), Error::with_help));
            }
            StatementKind::ShowSettings
        } else if self.accept_word(K::Analyze) {
            StatementKind::Analyze(self.analyze()?)
        } else if self.accept_word(K::Let) {
            let name = self.name("the name of a variable")?;
            self.expect_symbol(Symbol::Equal, "=")?;
            let value = self.expression()?;
            let has_query = value.any(&mut |part| part.query().is_some());
            if has_query {
                StatementKind::LetQuery { name, query: Box::new(Query::of_value(value)) }
            } else {
                StatementKind::Let { name, value }
            }
        } else if self.at_words(&[K::Trim, K::History]) {
            StatementKind::Definition(Box::new(super::ast::Definition::TrimHistory(self.trim_history()?)))
        } else {
            return Err(self.no_statement());
        };
        if self.current().kind != TokenKind::End {
            return Err(self.after_end());
        }
        Ok(Statement { kind, span: start.to(self.last_span()) })
    }

    /// A word that no statement begins with: one of the standard that comes later, a misspelt one, or a plain word.
    fn no_statement(&self) -> Error {
        let first = self.raw(self.current());
        if let Some(later) = LATER.iter().find(|later| self.at_word(**later)) {
            return self.not_supported(format!("the statement {}", later.text()));
        }
        let error = self
            .expected("a statement (SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, ANALYZE, SET, SHOW or LET)");
        let second = self.ahead(1);
        let second = if second.kind == TokenKind::Word { self.raw(second) } else { "" };
        match (thesaurus::for_statement(first, second), nearest(first, STATEMENTS.map(K::text))) {
            (Some(help), _) => error.with_help(help),
            (None, Some(near)) => error.with_help(format!("did you mean {near}?")).with_replacement(near),
            (None, None) => error,
        }
    }

    fn analyze(&mut self) -> Result<Analyze> {
        if !self.at_name() {
            return Ok(Analyze { table: None, columns: None });
        }
        let table = Some(self.qualified_name("the name of a table")?);
        let listed = self.at_symbol(Symbol::LeftParen);
        let columns = if listed { Some(self.names_in_parentheses("a column")?) } else { None };
        Ok(Analyze { table, columns })
    }

    /// what comes after a complete statement: a form that comes later, or a mistake.
    fn after_end(&self) -> Error {
        if self.at_word(K::For) {
            return self.not_supported(format!("the clause {}", self.found().to_uppercase()));
        }
        if self.at_symbol(Symbol::RightParen) {
            return self.expected("the end of the statement").with_help("this ) closes nothing");
        }
        let error = self.expected("the end of the statement, or ; before the next");
        // A word that was read as an alias may be what was meant as an operator.
        let before = self.raw_before();
        let help = thesaurus::for_word_behind(self.raw(self.current()))
            .or_else(|| self.at_any(&[K::Select, K::Values, K::Table]).then(|| thesaurus::for_word_behind(before))?);
        help.into_iter().fold(error, Error::with_help)
    }

    fn set(&mut self) -> Result<StatementKind> {
        if self.at_word(K::Schema) && !matches!(self.ahead(1).kind, TokenKind::Symbol(Symbol::Equal)) {
            self.advance();
            let span = self.span();
            if self.current().kind == TokenKind::Text {
                let text = self.text_literal("the name of a schema")?;
                return Ok(StatementKind::SetSchema(super::ast::Ident { text, quoted: false, span }));
            }
            return Ok(StatementKind::SetSchema(self.name("the name of a schema")?));
        }
        if self.at_word(K::Path) && !matches!(self.ahead(1).kind, TokenKind::Symbol(Symbol::Equal)) {
            self.advance();
            return Ok(StatementKind::SetPath(self.list(|parser| parser.name("the name of a schema"))?));
        }
        if self.accept_words(&[K::Time, K::Zone]) {
            let zone = if self.accept_word(K::Local) { None } else { Some(self.expression()?) };
            return Ok(StatementKind::SetZone(zone));
        }
        if self.accept_words(&[K::As, K::Of]) {
            self.expect_symbol(Symbol::Equal, "=")?;
            let ends = self.accept_word(K::Default);
            return Ok(StatementKind::SetAsOf(if ends { None } else { Some(self.moment()?) }));
        }
        let name = self.name("the name of a setting")?;
        self.expect_symbol(Symbol::Equal, "=")?;
        let value = if self.at_name() {
            // A bare word is a value of its own: SET output = wide.
            let word = self.name("a value")?;
            Expr { span: word.span, depth: 1, kind: ExprKind::Literal(Value::Text(word.text), SqlType::TEXT) }
        } else {
            self.expression()?
        };
        Ok(StatementKind::Set { name, value })
    }
}
