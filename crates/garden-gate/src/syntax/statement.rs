use super::ast::{Analyze, Expr, ExprKind, Statement, StatementKind};
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::{Result, nearest};
use crate::types::{SqlType, Value};

/// The words that statements begin with, for those who misspell one.
const STATEMENTS: [&str; 17] = [
    "SELECT",
    "WITH",
    "VALUES",
    "INSERT",
    "UPDATE",
    "DELETE",
    "TRUNCATE",
    "CREATE",
    "DROP",
    "ALTER",
    "COMMIT",
    "ROLLBACK",
    "SAVEPOINT",
    "SET",
    "SHOW",
    "LET",
    "ANALYZE",
];

impl Parser<'_> {
    /// Whether the WITH here belongs to a statement that changes rows: its word stands behind the last closing parenthesis.
    fn change_behind_with(&self) -> bool {
        let mut open = 0_u32;
        for distance in 1.. {
            match self.ahead(distance).kind {
                TokenKind::Symbol(Symbol::LeftParen) => open += 1,
                TokenKind::Symbol(Symbol::RightParen) => open = open.saturating_sub(1),
                TokenKind::End => return false,
                TokenKind::Word if open == 0 => {
                    let is = |words: &[&str]| words.iter().any(|word| self.is_word_at(distance, word));
                    if is(&["SELECT", "VALUES", "TABLE"]) {
                        return false;
                    }
                    if is(&["INSERT", "UPDATE", "DELETE", "MERGE"]) {
                        return true;
                    }
                }
                _ => {}
            }
        }
        false
    }

    pub(super) fn statement(&mut self) -> Result<Statement> {
        let start = self.span();
        let kind = if self.at_word("WITH") && self.change_behind_with() {
            let with = self.with()?;
            self.change(Some(with))?
        } else if self.at_words(&["INSERT", "INTO", "FILE"]) && self.ahead(3).kind == TokenKind::Text {
            self.export()?
        } else if self.at_any(&["INSERT", "UPDATE", "DELETE", "TRUNCATE", "MERGE"]) {
            self.change(None)?
        } else if self.accept_word("CREATE") {
            StatementKind::Definition(Box::new(self.create()?))
        } else if self.accept_word("DROP") {
            StatementKind::Definition(Box::new(self.drop()?))
        } else if self.accept_word("ALTER") {
            StatementKind::Definition(Box::new(self.alter()?))
        } else if self.at_word("COMMENT") {
            StatementKind::Definition(Box::new(self.comment()?))
        } else if self.at_any(&["START", "COMMIT", "ROLLBACK", "SAVEPOINT", "RELEASE"]) {
            StatementKind::Transaction(self.transaction()?)
        } else if self.at_any(&["SELECT", "WITH", "VALUES", "TABLE"]) || self.at_symbol(Symbol::LeftParen) {
            StatementKind::Query(Box::new(self.query()?))
        } else if self.at_words(&["SET", "CONSTRAINTS"]) {
            StatementKind::Transaction(self.set_constraints()?)
        } else if self.accept_word("SET") {
            self.set()?
        } else if self.accept_word("SHOW") {
            self.expect_word("SETTINGS")?;
            StatementKind::ShowSettings
        } else if self.accept_word("ANALYZE") {
            StatementKind::Analyze(self.analyze()?)
        } else if self.accept_word("LET") {
            let name = self.name("the name of a variable")?;
            self.expect_symbol(Symbol::Equal, "=")?;
            StatementKind::Let { name, value: self.expression()? }
        } else if self.at_words(&["TRIM", "HISTORY"]) {
            StatementKind::Definition(Box::new(super::ast::Definition::TrimHistory(self.trim_history()?)))
        } else {
            let error = self.expected(
                "a statement (SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER, ANALYZE, SET, SHOW or LET)",
            );
            let near = nearest(self.raw(self.current()), STATEMENTS);
            return Err(match near {
                Some(near) => error.with_help(format!("did you mean {near}?")),
                None => error,
            });
        };
        if self.current().kind != TokenKind::End {
            return Err(self.after_end());
        }
        Ok(Statement { kind, span: start.to(self.last_span()) })
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

    /// What stands behind a whole statement: a form that comes later, or a mistake.
    fn after_end(&self) -> crate::diagnostic::Error {
        if self.at_word("FOR") {
            return self.not_supported(format!("the clause {}", self.found().to_uppercase()));
        }
        if self.at_symbol(Symbol::RightParen) {
            return self.expected("the end of the statement").with_help("this ) closes nothing");
        }
        self.expected("the end of the statement, or ; before the next")
    }

    fn set(&mut self) -> Result<StatementKind> {
        if self.at_word("SCHEMA") && !matches!(self.ahead(1).kind, TokenKind::Symbol(Symbol::Equal)) {
            self.advance();
            let span = self.span();
            if self.current().kind == TokenKind::Text {
                let text = self.text_literal("the name of a schema")?;
                return Ok(StatementKind::SetSchema(super::ast::Ident { text, quoted: false, span }));
            }
            return Ok(StatementKind::SetSchema(self.name("the name of a schema")?));
        }
        if self.at_word("PATH") && !matches!(self.ahead(1).kind, TokenKind::Symbol(Symbol::Equal)) {
            self.advance();
            return Ok(StatementKind::SetPath(self.list(|parser| parser.name("the name of a schema"))?));
        }
        if self.accept_words(&["AS", "OF"]) {
            self.expect_symbol(Symbol::Equal, "=")?;
            let ends = self.accept_word("DEFAULT");
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
