//! INSERT, UPDATE, DELETE, TRUNCATE (clauses 14.11 to 14.14) and transactions (clause 17).

use super::ast::{
    Assigned, AssignedValue, Assignment, Change, ChangeKind, Duplicates, Export, FileOptions, Ident, Insert,
    InsertRows, Merge, MergeAction, MergeBranch, Name, Overriding, StatementKind, Transaction, With,
};
use super::ast::{ExprKind, Join, JoinCondition, JoinKind, TableExpr};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::Result;
use crate::types::{SqlType, Value};

impl Parser<'_> {
    /// A statement that begins here with INSERT, UPDATE, DELETE or TRUNCATE, after its WITH.
    pub(super) fn change(&mut self, with: Option<With>) -> Result<StatementKind> {
        Ok(StatementKind::Change(Box::new(self.change_of_rows(with)?)))
    }

    /// INSERT, UPDATE, DELETE or MERGE, after its WITH.
    pub(super) fn change_of_rows(&mut self, with: Option<With>) -> Result<Change> {
        let mut change = if self.accept_word(K::Insert) {
            self.insert()?
        } else if self.accept_word(K::Update) {
            self.update()?
        } else if self.accept_word(K::Delete) {
            self.delete()?
        } else if self.accept_word(K::Merge) {
            self.merge()?
        } else {
            self.expect_word(K::Truncate)?;
            self.expect_word(K::Table)?;
            let (table, span) = self.table_name()?;
            let restart = self.accept_words(&[K::Restart, K::Identity]);
            if !restart {
                self.accept_words(&[K::Continue, K::Identity]);
            }
            Change { with: None, table, alias: None, kind: ChangeKind::Truncate { restart }, returning: None, span }
        };
        change.with = with;
        if self.accept_word(K::Returning) {
            change.returning = Some(self.list(Self::select_item)?);
        }
        Ok(change)
    }

    /// `INSERT INTO FILE 'path' (…) query`
    pub(super) fn export(&mut self) -> Result<StatementKind> {
        for word in [K::Insert, K::Into, K::File] {
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
        if !self.accept_word(K::Into) {
            let error = self.expected("INTO");
            let skips = self.at_any(&[K::Ignore, K::Skip, K::Or]);
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
        let duplicates = if self.accept_words(&[K::Skip, K::Duplicates]) {
            Duplicates::Skip
        } else if self.accept_words(&[K::Replace, K::Duplicates]) {
            Duplicates::Replace
        } else {
            Duplicates::Refuse
        };
        let kind = ChangeKind::Insert(Insert { columns, rows, overriding, duplicates });
        Ok(Change { with: None, table, alias: None, kind, returning: None, span })
    }

    fn insert_rows(&mut self) -> Result<InsertRows> {
        if self.accept_words(&[K::Default, K::Values]) {
            return Ok(InsertRows::Defaults);
        }
        if self.accept_words(&[K::From, K::File]) {
            let start = self.span();
            let path = self.text_literal("the path of a file")?;
            let options = Box::new(self.load_options()?);
            return Ok(InsertRows::File { path, options, span: start.to(self.last_span()) });
        }
        if self.at_word(K::Values) && self.values_to_the_end() {
            self.advance();
            return Ok(InsertRows::Values(self.list(Self::given_row)?));
        }
        if self.at_any(&[K::Select, K::With, K::Values, K::Table]) || self.at_symbol(Symbol::LeftParen) {
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
                    let ends = [K::Returning, K::Skip, K::Replace];
                    return ends.iter().any(|word| self.is_word_at(distance, *word));
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
        if self.accept_word(K::Default) {
            Ok(AssignedValue::Default(span))
        } else {
            Ok(AssignedValue::Value(self.expression()?))
        }
    }

    fn update(&mut self) -> Result<Change> {
        let (table, span) = self.table_name()?;
        let portion = self.portion()?;
        let alias = self.target_alias(K::Set)?;
        self.expect_word(K::Set)?;
        let set = self.list(Self::assignment)?;
        if self.accept_word(K::From) {
            if portion.is_some() {
                return Err(self.not_supported("FROM beside FOR PORTION OF"));
            }
            let kind = self.update_from(set)?;
            return Ok(Change { with: None, table, alias, kind, returning: None, span });
        }
        let condition = if self.accept_word(K::Where) { Some(self.expression()?) } else { None };
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
        if !self.accept_word(K::From) {
            let help = format!("write DELETE FROM {}", self.found());
            let error = self.expected("FROM");
            return Err(if self.at_name() { error.with_help(help) } else { error });
        }
        let (table, span) = self.table_name()?;
        let portion = self.portion()?;
        let alias = self.target_alias(K::Where)?;
        let condition = if self.accept_word(K::Where) { Some(self.expression()?) } else { None };
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
        let on = if self.accept_word(K::Where) {
            self.expression()?
        } else {
            self.node(ExprKind::Literal(Value::Boolean(true), SqlType::Boolean), start)?
        };
        let span = start.to(self.last_span());
        let branches = vec![MergeBranch { matched: true, condition: None, action: MergeAction::Update(set), span }];
        Ok(ChangeKind::Merge(Box::new(Merge { source, on, branches })))
    }

    fn merge(&mut self) -> Result<Change> {
        self.expect_word(K::Into)?;
        let (table, span) = self.table_name()?;
        let alias = self.target_alias(K::Using)?;
        self.expect_word(K::Using)?;
        let source = self.table_expression()?;
        self.expect_word(K::On)?;
        let on = self.expression()?;
        let mut branches = Vec::new();
        while self.at_word(K::When) {
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
        self.expect_word(K::When)?;
        let matched = !self.accept_word(K::Not);
        self.expect_word(K::Matched)?;
        let condition = if self.accept_word(K::And) { Some(self.expression()?) } else { None };
        self.expect_word(K::Then)?;
        let action = if !matched {
            self.expect_word(K::Insert)?;
            let columns =
                if self.at_symbol(Symbol::LeftParen) { Some(self.names_in_parentheses("a column")?) } else { None };
            let overriding = self.overriding();
            self.expect_word(K::Values)?;
            MergeAction::Insert { columns, overriding, values: self.given_row()? }
        } else if self.accept_word(K::Delete) {
            MergeAction::Delete
        } else {
            self.expect_either(K::Update, "UPDATE or DELETE")?;
            self.expect_word(K::Set)?;
            MergeAction::Update(self.list(Self::assignment)?)
        };
        Ok(MergeBranch { matched, condition, action, span: start.to(self.last_span()) })
    }

    fn overriding(&mut self) -> Option<Overriding> {
        if self.accept_words(&[K::Overriding, K::System, K::Value]) {
            return Some(Overriding::System);
        }
        self.accept_words(&[K::Overriding, K::User, K::Value]).then_some(Overriding::User)
    }

    fn target_alias(&mut self, next: K) -> Result<Option<Ident>> {
        if self.accept_word(K::As) || self.at_name() && !self.at_any(&[next, K::Returning]) {
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
        if self.accept_word(K::Start) {
            self.expect_word(K::Transaction)?;
            return self.transaction_modes();
        }
        if self.accept_word(K::Savepoint) {
            return self.name("the name of a savepoint").map(Transaction::Savepoint);
        }
        if self.accept_word(K::Release) {
            self.expect_word(K::Savepoint)?;
            return self.name("the name of a savepoint").map(Transaction::Release);
        }
        let commit = self.accept_word(K::Commit);
        if !commit {
            self.expect_word(K::Rollback)?;
        }
        self.accept_word(K::Work);
        let chain =
            if self.accept_words(&[K::And, K::No, K::Chain]) { false } else { self.accept_words(&[K::And, K::Chain]) };
        if commit {
            return Ok(Transaction::Commit { chain });
        }
        let to = if self.accept_word(K::To) {
            self.accept_word(K::Savepoint);
            Some(self.name("the name of a savepoint")?)
        } else {
            None
        };
        Ok(Transaction::Rollback { chain, to })
    }

    /// `SET CONSTRAINTS { ALL | name, … } { DEFERRED | IMMEDIATE }`
    pub(super) fn set_constraints(&mut self) -> Result<Transaction> {
        self.accept_words(&[K::Set, K::Constraints]);
        let names = if self.accept_word(K::All) {
            None
        } else {
            Some(self.list(|parser| parser.qualified_name("the name of a constraint"))?)
        };
        let deferred = self.accept_word(K::Deferred);
        if !deferred {
            self.expect_either(K::Immediate, "DEFERRED or IMMEDIATE")?;
        }
        Ok(Transaction::Constraints { names, deferred })
    }

    /// `SET TRANSACTION modes`: of the next transaction (clause 17.3).
    pub(super) fn set_transaction(&mut self) -> Result<Transaction> {
        self.advance();
        self.accept_word(K::Local);
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
            if self.accept_words(&[K::Read, K::Only]) {
                read_only = true;
            } else if self.accept_words(&[K::Read, K::Write]) {
                read_only = false;
            } else if self.accept_words(&[K::Isolation, K::Level]) {
                let levels = [
                    &[K::Serializable] as &[K],
                    &[K::Repeatable, K::Read],
                    &[K::Read, K::Committed],
                    &[K::Read, K::Uncommitted],
                ];
                if !levels.iter().any(|level| self.accept_words(level)) {
                    return Err(self.expected("SERIALIZABLE, REPEATABLE READ, READ COMMITTED or READ UNCOMMITTED"));
                }
            } else if self.current().kind != TokenKind::End {
                return Err(self.expected("READ ONLY, READ WRITE or ISOLATION LEVEL"));
            }
            if !self.accept_symbol(Symbol::Comma) && !self.at_any(&[K::Read, K::Isolation]) {
                return Ok(Transaction::Start { read_only });
            }
        }
    }
}
