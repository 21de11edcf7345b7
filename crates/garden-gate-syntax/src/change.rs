//! INSERT, UPDATE, DELETE, TRUNCATE (clauses 14.11 to 14.14) and transactions (clause 17).

use super::ast::{
    Assigned, AssignedValue, Assignment, Change, ChangeKind, Duplicates, Export, FileOptions, Ident, Insert,
    InsertRows, Merge, MergeAction, MergeBranch, Name, Overriding, StatementKind, Transaction, With,
};
use super::ast::{ExprKind, Join, JoinCondition, JoinKind, TableExpr};
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::Result;
use crate::types::{SqlType, Value};

impl Parser<'_> {
    /// A statement that begins here with INSERT, UPDATE, DELETE or TRUNCATE, after its WITH.
    pub(super) fn change(&mut self, with: Option<With>) -> Result<StatementKind> {
        Ok(StatementKind::Change(Box::new(self.change_of_rows(with)?)))
    }

    pub(super) fn change_of_rows(&mut self, with: Option<With>) -> Result<Change> {
        let mut change = if self.accept_word("INSERT") {
            self.insert()?
        } else if self.accept_word("UPDATE") {
            self.update()?
        } else if self.accept_word("DELETE") {
            self.delete()?
        } else if self.accept_word("MERGE") {
            self.merge()?
        } else {
            self.expect_word("TRUNCATE")?;
            self.expect_word("TABLE")?;
            let (table, span) = self.table_name()?;
            let restart = self.accept_words(&["RESTART", "IDENTITY"]);
            if !restart {
                self.accept_words(&["CONTINUE", "IDENTITY"]);
            }
            Change { with: None, table, alias: None, kind: ChangeKind::Truncate { restart }, returning: None, span }
        };
        change.with = with;
        if self.accept_word("RETURNING") {
            change.returning = Some(self.list(Self::select_item)?);
        }
        Ok(change)
    }

    /// `INSERT INTO FILE 'path' (…) query`
    pub(super) fn export(&mut self) -> Result<StatementKind> {
        for word in ["INSERT", "INTO", "FILE"] {
            self.expect_word(word)?;
        }
        let span = self.span();
        let path = self.text_literal("the path of a file")?;
        let (options, replace) =
            if self.query_here() { (FileOptions::default(), false) } else { self.export_options()? };
        let query = self.query()?;
        Ok(StatementKind::Export(Box::new(Export { path, options, replace, query, span })))
    }

    fn table_name(&mut self) -> Result<(Name, crate::diagnostic::Span)> {
        let start = self.span();
        let name = self.qualified_name("the name of a table")?;
        Ok((name, start.to(self.last_span())))
    }

    fn insert(&mut self) -> Result<Change> {
        if !self.accept_word("INTO") {
            let error = self.expected("INTO");
            let skips = self.at_any(&["IGNORE", "SKIP", "OR"]);
            return Err(if skips {
                error.with_help("SKIP DUPLICATES belongs at the end of the INSERT")
            } else {
                error
            });
        }
        let (table, span) = self.table_name()?;
        let columns = if self.at_symbol(Symbol::LeftParen) && !self.query_here() {
            Some(self.names_in_parentheses("a column")?)
        } else {
            None
        };
        let overriding = self.overriding();
        let rows = self.insert_rows()?;
        let duplicates = if self.accept_words(&["SKIP", "DUPLICATES"]) {
            Duplicates::Skip
        } else if self.accept_words(&["REPLACE", "DUPLICATES"]) {
            Duplicates::Replace
        } else {
            Duplicates::Refuse
        };
        let kind = ChangeKind::Insert(Insert { columns, rows, overriding, duplicates });
        Ok(Change { with: None, table, alias: None, kind, returning: None, span })
    }

    fn insert_rows(&mut self) -> Result<InsertRows> {
        if self.accept_words(&["DEFAULT", "VALUES"]) {
            return Ok(InsertRows::Defaults);
        }
        if self.accept_words(&["FROM", "FILE"]) {
            let start = self.span();
            let path = self.text_literal("the path of a file")?;
            let options = Box::new(self.load_options()?);
            return Ok(InsertRows::File { path, options, span: start.to(self.last_span()) });
        }
        if self.at_word("VALUES") && self.values_to_the_end() {
            self.advance();
            return Ok(InsertRows::Values(self.list(Self::given_row)?));
        }
        if self.at_any(&["SELECT", "WITH", "VALUES", "TABLE"]) || self.at_symbol(Symbol::LeftParen) {
            return Ok(InsertRows::Query(Box::new(self.query()?)));
        }
        Err(self.expected("VALUES, a query, DEFAULT VALUES or FROM FILE"))
    }

    /// Whether the VALUES here are the entire source, and not an operand of a larger query.
    fn values_to_the_end(&self) -> bool {
        let mut open = 0_u32;
        for distance in 1.. {
            match self.ahead(distance).kind {
                TokenKind::Symbol(Symbol::LeftParen) => open += 1,
                TokenKind::Symbol(Symbol::RightParen) if open == 0 => return true,
                TokenKind::Symbol(Symbol::RightParen) => open -= 1,
                TokenKind::End => return true,
                TokenKind::Word if open == 0 => {
                    let ends = ["RETURNING", "SKIP", "REPLACE"];
                    return ends.iter().any(|word| self.is_word_at(distance, word));
                }
                _ => {}
            }
        }
        true
    }

    fn given_row(&mut self) -> Result<Vec<AssignedValue>> {
        if !self.at_symbol(Symbol::LeftParen) {
            return Ok(vec![self.given()?]);
        }
        let open = self.advance().span;
        let row = self.list(Self::given)?;
        self.close(open)?;
        Ok(row)
    }

    fn given(&mut self) -> Result<AssignedValue> {
        let span = self.span();
        if self.accept_word("DEFAULT") {
            Ok(AssignedValue::Default(span))
        } else {
            Ok(AssignedValue::Value(self.expression()?))
        }
    }

    fn update(&mut self) -> Result<Change> {
        let (table, span) = self.table_name()?;
        let portion = self.portion()?;
        let alias = self.target_alias("SET")?;
        self.expect_word("SET")?;
        let set = self.list(Self::assignment)?;
        if self.accept_word("FROM") {
            if portion.is_some() {
                return Err(self.not_supported("FROM beside FOR PORTION OF"));
            }
            let kind = self.update_from(set)?;
            return Ok(Change { with: None, table, alias, kind, returning: None, span });
        }
        let condition = if self.accept_word("WHERE") { Some(self.expression()?) } else { None };
        Ok(Change {
            with: None,
            table,
            alias,
            kind: ChangeKind::Update { portion, set, condition },
            returning: None,
            span,
        })
    }

    fn delete(&mut self) -> Result<Change> {
        if !self.accept_word("FROM") {
            let help = format!("write DELETE FROM {}", self.found());
            let error = self.expected("FROM");
            return Err(if self.at_name() { error.with_help(help) } else { error });
        }
        let (table, span) = self.table_name()?;
        let portion = self.portion()?;
        let alias = self.target_alias("WHERE")?;
        let condition = if self.accept_word("WHERE") { Some(self.expression()?) } else { None };
        Ok(Change { with: None, table, alias, kind: ChangeKind::Delete { portion, condition }, returning: None, span })
    }

    /// `UPDATE t SET … FROM sources WHERE condition` is a MERGE whose matches are updated: a row that several rows of the sources match is an
    /// error, and not one of several values.
    fn update_from(&mut self, set: Vec<Assignment>) -> Result<ChangeKind> {
        let start = self.span();
        let mut source = self.table_expression()?;
        while self.accept_symbol(Symbol::Comma) {
            let right = self.table_expression()?;
            let span = start.to(self.last_span());
            source = TableExpr::Join(Box::new(Join {
                kind: JoinKind::Inner,
                mirrored: false,
                left: source,
                right,
                condition: JoinCondition::Cross,
                span,
            }));
        }
        let on = if self.accept_word("WHERE") {
            self.expression()?
        } else {
            self.node(ExprKind::Literal(Value::Boolean(true), SqlType::Boolean), start)?
        };
        let span = start.to(self.last_span());
        let branches = vec![MergeBranch { matched: true, condition: None, action: MergeAction::Update(set), span }];
        Ok(ChangeKind::Merge(Box::new(Merge { source, on, branches })))
    }

    fn merge(&mut self) -> Result<Change> {
        self.expect_word("INTO")?;
        let (table, span) = self.table_name()?;
        let alias = self.target_alias("USING")?;
        self.expect_word("USING")?;
        let source = self.table_expression()?;
        self.expect_word("ON")?;
        let on = self.expression()?;
        let mut branches = Vec::new();
        while self.at_word("WHEN") {
            branches.push(self.merge_branch()?);
        }
        if branches.is_empty() {
            return Err(self.expected("WHEN MATCHED or WHEN NOT MATCHED"));
        }
        let kind = ChangeKind::Merge(Box::new(Merge { source, on, branches }));
        Ok(Change { with: None, table, alias, kind, returning: None, span })
    }

    fn merge_branch(&mut self) -> Result<MergeBranch> {
        let start = self.span();
        self.expect_word("WHEN")?;
        let matched = !self.accept_word("NOT");
        self.expect_word("MATCHED")?;
        let condition = if self.accept_word("AND") { Some(self.expression()?) } else { None };
        self.expect_word("THEN")?;
        let action = if !matched {
            self.expect_word("INSERT")?;
            let columns =
                if self.at_symbol(Symbol::LeftParen) { Some(self.names_in_parentheses("a column")?) } else { None };
            let overriding = self.overriding();
            self.expect_word("VALUES")?;
            MergeAction::Insert { columns, overriding, values: self.given_row()? }
        } else if self.accept_word("DELETE") {
            MergeAction::Delete
        } else {
            self.expect_either("UPDATE", "UPDATE or DELETE")?;
            self.expect_word("SET")?;
            MergeAction::Update(self.list(Self::assignment)?)
        };
        Ok(MergeBranch { matched, condition, action, span: start.to(self.last_span()) })
    }

    fn overriding(&mut self) -> Option<Overriding> {
        if self.accept_words(&["OVERRIDING", "SYSTEM", "VALUE"]) {
            return Some(Overriding::System);
        }
        self.accept_words(&["OVERRIDING", "USER", "VALUE"]).then_some(Overriding::User)
    }

    fn target_alias(&mut self, next: &str) -> Result<Option<Ident>> {
        if self.accept_word("AS") || self.at_name() && !self.at_any(&[next, "RETURNING"]) {
            return self.name("another name for the table").map(Some);
        }
        Ok(None)
    }

    fn assignment(&mut self) -> Result<Assignment> {
        if !self.at_symbol(Symbol::LeftParen) {
            let column = self.name("a column")?;
            if self.at_symbol(Symbol::Dot) {
                let help = format!("give the column as a whole: {} = …", column.text);
                return Err(self.not_supported("an assignment to a field of a row").with_help(help));
            }
            if self.accept_symbol(Symbol::LeftBracket) {
                let place = self.expression()?;
                self.expect_symbol(Symbol::RightBracket, "]")?;
                self.expect_symbol(Symbol::Equal, "=")?;
                let value = self.expression()?;
                return Ok(Assignment { columns: vec![column], values: Assigned::Element { place, value } });
            }
            self.expect_symbol(Symbol::Equal, "=")?;
            return Ok(Assignment { columns: vec![column], values: Assigned::Each(vec![self.given()?]) });
        }
        let columns = self.names_in_parentheses("a column")?;
        self.expect_symbol(Symbol::Equal, "=")?;
        if self.query_here() || !self.at_symbol(Symbol::LeftParen) {
            return Ok(Assignment { columns, values: Assigned::Row(self.expression()?) });
        }
        let values = self.given_row()?;
        Ok(Assignment { columns, values: Assigned::Each(values) })
    }

    /// START TRANSACTION, COMMIT, ROLLBACK, SAVEPOINT and RELEASE SAVEPOINT.
    pub(super) fn transaction(&mut self) -> Result<Transaction> {
        if self.accept_word("START") {
            self.expect_word("TRANSACTION")?;
            return self.transaction_modes();
        }
        if self.accept_word("SAVEPOINT") {
            return self.name("the name of a savepoint").map(Transaction::Savepoint);
        }
        if self.accept_word("RELEASE") {
            self.expect_word("SAVEPOINT")?;
            return self.name("the name of a savepoint").map(Transaction::Release);
        }
        let commit = self.accept_word("COMMIT");
        if !commit {
            self.expect_word("ROLLBACK")?;
        }
        self.accept_word("WORK");
        let chain =
            if self.accept_words(&["AND", "NO", "CHAIN"]) { false } else { self.accept_words(&["AND", "CHAIN"]) };
        if commit {
            return Ok(Transaction::Commit { chain });
        }
        let to = if self.accept_word("TO") {
            self.accept_word("SAVEPOINT");
            Some(self.name("the name of a savepoint")?)
        } else {
            None
        };
        Ok(Transaction::Rollback { chain, to })
    }

    /// `SET CONSTRAINTS { ALL | name, … } { DEFERRED | IMMEDIATE }`
    pub(super) fn set_constraints(&mut self) -> Result<Transaction> {
        self.accept_words(&["SET", "CONSTRAINTS"]);
        let names = if self.accept_word("ALL") {
            None
        } else {
            Some(self.list(|parser| parser.qualified_name("the name of a constraint"))?)
        };
        let deferred = self.accept_word("DEFERRED");
        if !deferred {
            self.expect_either("IMMEDIATE", "DEFERRED or IMMEDIATE")?;
        }
        Ok(Transaction::Constraints { names, deferred })
    }

    /// `SET TRANSACTION modes`: of the next transaction (clause 17.3).
    pub(super) fn set_transaction(&mut self) -> Result<Transaction> {
        self.advance();
        self.accept_word("LOCAL");
        self.advance();
        match self.transaction_modes()? {
            Transaction::Start { read_only } => Ok(Transaction::Next { read_only }),
            other => Ok(other),
        }
    }

    /// Every isolation level is accepted: all run as SERIALIZABLE, which each of them allows (clause 4.41).
    fn transaction_modes(&mut self) -> Result<Transaction> {
        let mut read_only = false;
        loop {
            if self.accept_words(&["READ", "ONLY"]) {
                read_only = true;
            } else if self.accept_words(&["READ", "WRITE"]) {
                read_only = false;
            } else if self.accept_words(&["ISOLATION", "LEVEL"]) {
                let levels = [
                    &["SERIALIZABLE"] as &[&str],
                    &["REPEATABLE", "READ"],
                    &["READ", "COMMITTED"],
                    &["READ", "UNCOMMITTED"],
                ];
                if !levels.iter().any(|level| self.accept_words(level)) {
                    return Err(self.expected("SERIALIZABLE, REPEATABLE READ, READ COMMITTED or READ UNCOMMITTED"));
                }
            } else if self.current().kind != TokenKind::End {
                return Err(self.expected("READ ONLY, READ WRITE or ISOLATION LEVEL"));
            }
            if !self.accept_symbol(Symbol::Comma) && !self.at_any(&["READ", "ISOLATION"]) {
                return Ok(Transaction::Start { read_only });
            }
        }
    }
}
