//! CREATE, DROP and ALTER (clause 11).

use super::ast::{
    ColumnElement, ConstraintKind, Copied, CreateIndex, CreateTable, CreateView, Definition, Drop, FilledBy,
    ForeignElement, Ident, Name, SequenceOptions, TableConstraint, TableContent, TableElement,
};
use super::keyword::Keyword as K;
use super::lexer::Symbol;
use super::parser::Parser;
use crate::catalog::{MatchType, ReferentialAction, Temporary, TemporaryKind, Timing, ViewCheck};
use crate::diagnostic::Result;
use crate::types::{DeclaredType, SqlType};

impl Parser<'_> {
    /// What appears after CREATE.
    pub(super) fn create(&mut self) -> Result<Definition> {
        if self.accept_word(K::Schema) {
            let if_not_exists = self.accept_words(&[K::If, K::Not, K::Exists]);
            let name = self.name("the name of a schema")?;
            let mut elements = Vec::new();
            while self.accept_word(K::Create) {
                elements.push(self.create()?);
            }
            return Ok(Definition::CreateSchema { name, if_not_exists, elements });
        }
        let temporary = match () {
            () if self.accept_words(&[K::Local, K::Temporary]) => Some(TemporaryKind::Local),
            () if self.accept_words(&[K::Shared, K::Temporary]) => Some(TemporaryKind::Shared),
            () if self.accept_words(&[K::Global, K::Temporary]) => Some(TemporaryKind::Global),
            () => None,
        };
        if let Some(kind) = temporary {
            self.expect_word(K::Table)?;
            let mut table = self.create_table()?;
            let delete_rows = self.accept_words(&[K::On, K::Commit, K::Delete, K::Rows]);
            if !delete_rows {
                self.accept_words(&[K::On, K::Commit, K::Preserve, K::Rows]);
            }
            table.temporary = Some(Temporary { kind, delete_rows });
            return Ok(Definition::CreateTable(table));
        }
        if self.at_word(K::Temporary) {
            return Err(self.expected(
                "LOCAL TEMPORARY TABLE, of this session, SHARED TEMPORARY TABLE, of all, or GLOBAL TEMPORARY TABLE, of all with rows of their own",
            ));
        }
        if self.accept_word(K::Table) {
            return self.create_table().map(Definition::CreateTable);
        }
        let or_replace = self.accept_words(&[K::Or, K::Replace]);
        if self.accept_word(K::View) {
            return self.create_view(or_replace).map(Definition::CreateView);
        }
        if self.at_word(K::Index) || self.at_words(&[K::Unique, K::Index]) {
            return self.create_index().map(Definition::CreateIndex);
        }
        if let Some(object) = self.create_object(or_replace)? {
            return Ok(object);
        }
        if self.at_word(K::Trigger) {
            return Err(self.not_supported(format!("CREATE {}", self.found().to_uppercase())));
        }
        Err(self.expected("SCHEMA, TABLE, VIEW, INDEX, SEQUENCE, DOMAIN or FUNCTION"))
    }

    /// What appears after DROP.
    pub(super) fn drop(&mut self) -> Result<Definition> {
        if let Some(object) = self.drop_object()? {
            return Ok(object);
        }
        let kinds = [K::Schema, K::Table, K::View, K::Index];
        let Some(kind) = kinds.iter().position(|kind| self.at_word(*kind)) else {
            return Err(self.expected("SCHEMA, TABLE, VIEW, INDEX, SEQUENCE, DOMAIN or FUNCTION"));
        };
        self.advance();
        let if_exists = self.accept_words(&[K::If, K::Exists]);
        let name = self.qualified_name("a name")?;
        let drop = self.drop_behaviour(if_exists);
        Ok(match kind {
            0 => match <[Ident; 1]>::try_from(name) {
                Ok([name]) => Definition::DropSchema { name, drop },
                Err(_) => return Err(self.expected("the name of a schema")),
            },
            1 => Definition::DropTable { name, drop },
            2 => Definition::DropView { name, drop },
            _ => Definition::DropIndex { name, drop },
        })
    }

    /// CASCADE or RESTRICT after the name of what goes; RESTRICT is the default.
    pub(super) fn drop_behaviour(&mut self, if_exists: bool) -> Drop {
        let cascade = self.accept_word(K::Cascade);
        if !cascade {
            self.accept_word(K::Restrict);
        }
        Drop { if_exists, cascade }
    }

    fn create_index(&mut self) -> Result<CreateIndex> {
        let unique = self.accept_word(K::Unique);
        self.expect_word(K::Index)?;
        let if_not_exists = self.accept_words(&[K::If, K::Not, K::Exists]);
        let name = self.name("the name of an index")?;
        self.expect_word(K::On)?;
        let table = self.qualified_name("the name of a table")?;
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and columns")?;
        let keys = self.list(Self::sort_item)?;
        self.close(open)?;
        let include = if self.accept_word(K::Include) { self.names_in_parentheses("a column")? } else { Vec::new() };
        Ok(CreateIndex { name, table, unique, if_not_exists, keys, include })
    }

    fn create_table(&mut self) -> Result<CreateTable> {
        let if_not_exists = self.accept_words(&[K::If, K::Not, K::Exists]);
        let name = self.qualified_name("the name of a table")?;
        if self.accept_words(&[K::From, K::File]) {
            let start = self.span();
            let path = self.text_literal("the path of a file")?;
            let options = Box::new(self.file_options()?);
            let content = TableContent::File { path, options, span: start.to(self.last_span()) };
            let versioned = self.system_versioning();
            return Ok(CreateTable { name, if_not_exists, temporary: None, content, versioned });
        }
        if self.at_word(K::As) {
            let content = self.create_table_as(None)?;
            let versioned = self.system_versioning();
            return Ok(CreateTable { name, if_not_exists, temporary: None, content, versioned });
        }
        if !self.at_symbol(Symbol::LeftParen) {
            return Err(self.expected("(, AS or FROM FILE"));
        }
        if self.only_names_follow() {
            let columns = self.names_in_parentheses("a column")?;
            let content = self.create_table_as(Some(columns))?;
            let versioned = self.system_versioning();
            return Ok(CreateTable { name, if_not_exists, temporary: None, content, versioned });
        }
        let open = self.advance().span;
        let elements = self.list(Self::table_element)?;
        self.close(open)?;
        let (content, versioned) = (TableContent::Elements(elements), self.system_versioning());
        Ok(CreateTable { name, if_not_exists, temporary: None, content, versioned })
    }

    /// Whether `(a, b, …)` appears here, names and nothing else.
    fn only_names_follow(&self) -> bool {
        let is = |distance: usize, symbol| self.ahead(distance).kind == super::lexer::TokenKind::Symbol(symbol);
        is(2, Symbol::Comma) || is(2, Symbol::RightParen)
    }

    fn create_table_as(&mut self, columns: Option<Vec<Ident>>) -> Result<TableContent> {
        self.expect_word(K::As)?;
        let query = Box::new(self.query()?);
        let with_data = !self.accept_words(&[K::With, K::No, K::Data]);
        if with_data {
            self.accept_words(&[K::With, K::Data]);
        }
        Ok(TableContent::Query { columns, query, with_data })
    }

    fn table_element(&mut self) -> Result<TableElement> {
        let start = self.span();
        if self.accept_word(K::Like) {
            let name = self.qualified_name("a table")?;
            let mut copied = Vec::new();
            while self.at_any(&[K::Including, K::Excluding]) {
                let including = self.accept_word(K::Including);
                if !including {
                    self.advance();
                }
                let part = self.copied_part()?;
                copied.retain(|known| *known != part);
                if including {
                    copied.push(part);
                }
            }
            return Ok(TableElement::Like(name, copied, start.to(self.last_span())));
        }
        if self.at_words(&[K::Period, K::For]) {
            return self.period_element().map(TableElement::Period);
        }
        let key_word = self.at_any(&[K::Constraint, K::Check, K::Foreign])
            || self.at_words(&[K::Primary, K::Key])
            || self.at_word(K::Unique);
        if key_word {
            return self.table_constraint().map(TableElement::Constraint);
        }
        self.column_element().map(TableElement::Column)
    }

    fn copied_part(&mut self) -> Result<Copied> {
        let parts =
            [(K::Identity, Copied::Identity), (K::Defaults, Copied::Defaults), (K::Generated, Copied::Generated)];
        match parts.into_iter().find(|(word, _)| self.at_word(*word)) {
            Some((_, part)) => {
                self.advance();
                Ok(part)
            }
            None => Err(self.expected("IDENTITY, DEFAULTS or GENERATED")),
        }
    }

    /// A column with its type and constraints.
    pub(super) fn column_element(&mut self) -> Result<ColumnElement> {
        let name = self.name("a column or a constraint")?;
        let (declared, domain) = self.type_or_domain()?;
        let mut element = ColumnElement {
            name,
            declared,
            domain,
            not_null: false,
            filled: None,
            hidden: false,
            constraints: Vec::new(),
        };
        loop {
            let start = self.span();
            if self.accept_word(K::Default) {
                element.filled = Some(FilledBy::Default(self.expression()?));
            } else if self.accept_word(K::Generated) {
                element.filled = Some(self.generated()?);
            } else if self.accept_words(&[K::Not, K::Null]) {
                element.not_null = true;
            } else if self.accept_word(K::Hidden) {
                element.hidden = true;
            } else {
                let name = if self.accept_word(K::Constraint) { Some(self.name("a constraint")?) } else { None };
                let Some(kind) = self.column_constraint(&element.name)? else {
                    return if name.is_some() { Err(self.expected("a constraint")) } else { Ok(element) };
                };
                let span = start.to(self.last_span());
                let timing = self.constraint_timing()?;
                element.constraints.push(TableConstraint { name, kind, timing, span });
            }
        }
    }

    /// The type of a column; the name of a domain stands for its type.
    pub(super) fn type_or_domain(&mut self) -> Result<(DeclaredType, Option<Name>)> {
        let start = self.span();
        match self.declared_type() {
            Ok(declared) => Ok((declared, None)),
            Err(_) if self.span() == start && self.at_name() => {
                Ok((SqlType::Null.into(), Some(self.qualified_name("a data type")?)))
            }
            Err(error) => Err(error),
        }
    }

    fn generated(&mut self) -> Result<FilledBy> {
        let always = self.accept_word(K::Always);
        if !always {
            self.expect_word(K::By)?;
            self.expect_word(K::Default)?;
        }
        self.expect_word(K::As)?;
        if always && self.accept_words(&[K::Row, K::Start]) {
            return Ok(FilledBy::RowStart);
        }
        if always && self.accept_words(&[K::Row, K::End]) {
            return Ok(FilledBy::RowEnd);
        }
        if !self.accept_word(K::Identity) {
            let open = self.span();
            self.expect_symbol(Symbol::LeftParen, "IDENTITY, ROW START, ROW END, or ( and an expression")?;
            let expr = self.expression()?;
            self.close(open)?;
            return Ok(FilledBy::Generated(expr));
        }
        let mut options = SequenceOptions::default();
        if self.at_symbol(Symbol::LeftParen) {
            let open = self.advance().span;
            while !self.at_symbol(Symbol::RightParen) {
                if !self.sequence_option(&mut options)? {
                    return Err(self.expected("START WITH, INCREMENT BY, MINVALUE, MAXVALUE or CYCLE"));
                }
                self.accept_symbol(Symbol::Comma);
            }
            self.close(open)?;
        }
        Ok(FilledBy::Identity { always, options })
    }

    /// An integer, with its sign.
    pub(super) fn whole_number(&mut self) -> Result<i64> {
        let negative = self.accept_symbol(Symbol::Minus);
        let token = self.current();
        let number: i64 = self.raw(token).parse().map_err(|_| self.expected("an integer"))?;
        self.advance();
        Ok(if negative { -number } else { number })
    }

    fn column_constraint(&mut self, column: &Ident) -> Result<Option<ConstraintKind>> {
        let columns = vec![column.clone()];
        if self.accept_words(&[K::Primary, K::Key]) {
            return Ok(Some(ConstraintKind::Key { columns, primary: true, nulls_same: false, period: None }));
        }
        if self.accept_word(K::Unique) {
            let nulls_same = self.nulls_same()?;
            return Ok(Some(ConstraintKind::Key { columns, primary: false, nulls_same, period: None }));
        }
        if self.at_word(K::Check) {
            return self.check().map(Some);
        }
        if self.at_word(K::References) {
            return self.references(columns).map(Some);
        }
        Ok(None)
    }

    fn nulls_same(&mut self) -> Result<bool> {
        if !self.accept_word(K::Nulls) {
            return Ok(false);
        }
        let same = self.accept_word(K::Not);
        self.expect_word(K::Distinct)?;
        Ok(same)
    }

    /// A constraint of a table.
    pub(super) fn table_constraint(&mut self) -> Result<TableConstraint> {
        let start = self.span();
        let name = if self.accept_word(K::Constraint) { Some(self.name("a constraint")?) } else { None };
        let kind = if self.accept_words(&[K::Primary, K::Key]) {
            let (columns, period) = self.key_columns()?;
            ConstraintKind::Key { columns, primary: true, nulls_same: false, period }
        } else if self.accept_word(K::Unique) {
            let nulls_same = self.nulls_same()?;
            let (columns, period) = self.key_columns()?;
            ConstraintKind::Key { columns, primary: false, nulls_same, period }
        } else if self.at_word(K::Check) {
            self.check()?
        } else if self.accept_words(&[K::Foreign, K::Key]) {
            let (columns, period) = self.foreign_columns()?;
            self.references_from(columns, period)?
        } else {
            return Err(self.expected("PRIMARY KEY, UNIQUE, CHECK or FOREIGN KEY"));
        };
        let span = start.to(self.last_span());
        Ok(TableConstraint { name, kind, timing: self.constraint_timing()?, span })
    }

    /// `(a, b, period WITHOUT OVERLAPS)`
    fn key_columns(&mut self) -> Result<(Vec<Ident>, Option<Ident>)> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and columns")?;
        let (mut columns, mut period) = (Vec::new(), None);
        loop {
            let name = self.name("a column")?;
            if self.accept_words(&[K::Without, K::Overlaps]) {
                period = Some(name);
                break;
            }
            columns.push(name);
            if !self.accept_symbol(Symbol::Comma) {
                break;
            }
        }
        self.close(open)?;
        Ok((columns, period))
    }

    /// `(a, b, PERIOD p)`
    fn foreign_columns(&mut self) -> Result<(Vec<Ident>, Option<Ident>)> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and columns")?;
        let (mut columns, mut period) = (Vec::new(), None);
        loop {
            let is_period = self.at_word(K::Period)
                && !matches!(
                    self.ahead(1).kind,
                    super::lexer::TokenKind::Symbol(Symbol::Comma)
                        | super::lexer::TokenKind::Symbol(Symbol::RightParen)
                );
            if is_period {
                self.advance();
                period = Some(self.name("the name of a period")?);
                break;
            }
            columns.push(self.name("a column")?);
            if !self.accept_symbol(Symbol::Comma) {
                break;
            }
        }
        self.close(open)?;
        Ok((columns, period))
    }

    /// `CHECK (condition)`.
    pub(super) fn check(&mut self) -> Result<ConstraintKind> {
        self.advance();
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and a condition")?;
        let condition = self.expression()?;
        self.close(open)?;
        Ok(ConstraintKind::Check(condition))
    }

    fn references(&mut self, columns: Vec<Ident>) -> Result<ConstraintKind> {
        self.references_from(columns, None)
    }

    fn references_from(&mut self, columns: Vec<Ident>, period: Option<Ident>) -> Result<ConstraintKind> {
        self.expect_word(K::References)?;
        let table = self.qualified_name("a table")?;
        let (referred, referred_period) = if self.at_symbol(Symbol::LeftParen) {
            self.foreign_columns().map(|(c, p)| (Some(c), p))?
        } else {
            (None, None)
        };
        let mut element = ForeignElement {
            columns,
            period,
            table,
            referred,
            referred_period,
            match_type: MatchType::default(),
            on_delete: ReferentialAction::default(),
            on_update: ReferentialAction::default(),
        };
        loop {
            if self.accept_words(&[K::Match, K::Full]) {
                element.match_type = MatchType::Full;
            } else if self.accept_words(&[K::Match, K::Partial]) {
                element.match_type = MatchType::Partial;
            } else if self.accept_words(&[K::Match, K::Simple]) {
                element.match_type = MatchType::Simple;
            } else if self.accept_words(&[K::On, K::Delete]) {
                element.on_delete = self.referential_action()?;
            } else if self.accept_words(&[K::On, K::Update]) {
                element.on_update = self.referential_action()?;
            } else {
                return Ok(ConstraintKind::Foreign(element));
            }
        }
    }

    fn referential_action(&mut self) -> Result<ReferentialAction> {
        const ACTIONS: &[(&[K], ReferentialAction)] = &[
            (&[K::Cascade], ReferentialAction::Cascade),
            (&[K::Set, K::Null], ReferentialAction::SetNull),
            (&[K::Set, K::Default], ReferentialAction::SetDefault),
            (&[K::Restrict], ReferentialAction::Restrict),
            (&[K::No, K::Action], ReferentialAction::NoAction),
        ];
        match ACTIONS.iter().find(|(words, _)| self.accept_words(words)) {
            Some((_, action)) => Ok(*action),
            None => Err(self.expected("CASCADE, SET NULL, SET DEFAULT, RESTRICT or NO ACTION")),
        }
    }

    /// `[NOT] DEFERRABLE` and `INITIALLY { IMMEDIATE | DEFERRED }`, in either order.
    fn constraint_timing(&mut self) -> Result<Timing> {
        let (mut deferrable, mut deferred) = (None, None);
        loop {
            let start = self.span();
            if self.accept_words(&[K::Initially, K::Deferred]) {
                deferred = Some(true);
            } else if self.accept_words(&[K::Initially, K::Immediate]) {
                deferred = Some(false);
            } else if self.accept_words(&[K::Not, K::Deferrable]) {
                deferrable = Some(false);
            } else if self.accept_word(K::Deferrable) {
                deferrable = Some(true);
            } else {
                break;
            }
            if deferrable == Some(false) && deferred == Some(true) {
                return Err(self.expected("a constraint that is INITIALLY DEFERRED is DEFERRABLE").at(start));
            }
        }
        Ok(match (deferrable, deferred) {
            (_, Some(true)) => Timing::Deferred,
            (Some(true), _) => Timing::Deferrable,
            _ => Timing::AtOnce,
        })
    }

    fn create_view(&mut self, or_replace: bool) -> Result<CreateView> {
        let name = self.qualified_name("the name of a view")?;
        let columns =
            if self.at_symbol(Symbol::LeftParen) { Some(self.names_in_parentheses("a column")?) } else { None };
        self.expect_word(K::As)?;
        let query = Box::new(self.query()?);
        let check = if self.accept_words(&[K::With, K::Local, K::Check, K::Option]) {
            Some(ViewCheck::Local)
        } else if self.accept_words(&[K::With, K::Cascaded, K::Check, K::Option])
            || self.accept_words(&[K::With, K::Check, K::Option])
        {
            Some(ViewCheck::Cascaded)
        } else {
            None
        };
        Ok(CreateView { name, columns, query, or_replace, check })
    }
}
