//! CREATE, ALTER and DROP of sequences, domains and table functions, and COMMENT ON.

use super::ast::{
    CommentOn, Commented, ConstraintKind, CreateDomain, CreateFunction, CreateSequence, Definition, DomainChange, Drop,
    ObjectKind, SequenceChange, SequenceOptions,
};
use super::keyword::Keyword as K;
use super::lexer::Symbol;
use super::parser::Parser;
use crate::diagnostic::Result;

impl Parser<'_> {
    /// What appears after CREATE [OR REPLACE], when it is one of these.
    pub(super) fn create_object(&mut self, or_replace: bool) -> Result<Option<Definition>> {
        if self.accept_word(K::Function) {
            return self.create_function(or_replace).map(|made| Some(Definition::CreateFunction(Box::new(made))));
        }
        if or_replace {
            return Ok(None);
        }
        if self.accept_word(K::Sequence) {
            let if_not_exists = self.accept_words(&[K::If, K::Not, K::Exists]);
            let name = self.qualified_name("the name of a sequence")?;
            let options = self.sequence_options()?;
            return Ok(Some(Definition::CreateSequence(CreateSequence { name, if_not_exists, options })));
        }
        if self.accept_word(K::Domain) {
            return self.create_domain().map(|made| Some(Definition::CreateDomain(made)));
        }
        Ok(None)
    }

    /// `AS type START WITH n INCREMENT BY n MINVALUE n MAXVALUE n CYCLE`, in any order.
    fn sequence_options(&mut self) -> Result<SequenceOptions> {
        let mut options = SequenceOptions::default();
        while self.sequence_option(&mut options)? {}
        Ok(options)
    }

    /// One of the options, if one appears here.
    pub(super) fn sequence_option(&mut self, options: &mut SequenceOptions) -> Result<bool> {
        if self.accept_word(K::As) {
            options.sql_type = Some(self.data_type()?);
        } else if self.accept_words(&[K::Start, K::With]) {
            options.start = Some(self.whole_number()?);
        } else if self.accept_words(&[K::Increment, K::By]) {
            options.increment = Some(self.whole_number()?);
        } else if self.accept_words(&[K::No, K::Minvalue]) {
            options.least = None;
        } else if self.accept_word(K::Minvalue) {
            options.least = Some(self.whole_number()?);
        } else if self.accept_words(&[K::No, K::Maxvalue]) {
            options.most = None;
        } else if self.accept_word(K::Maxvalue) {
            options.most = Some(self.whole_number()?);
        } else if self.accept_words(&[K::No, K::Cycle]) {
            options.cycle = Some(false);
        } else if self.accept_word(K::Cycle) {
            options.cycle = Some(true);
        } else {
            return Ok(false);
        }
        Ok(true)
    }

    /// `ALTER SEQUENCE name [RESTART [WITH n]] [options]`
    pub(super) fn alter_sequence(&mut self) -> Result<Definition> {
        let name = self.qualified_name("the name of a sequence")?;
        let mut restart = None;
        let mut options = SequenceOptions::default();
        loop {
            if self.accept_word(K::Restart) {
                restart = Some(if self.accept_word(K::With) { Some(self.whole_number()?) } else { None });
            } else if !self.sequence_option(&mut options)? {
                break;
            }
        }
        Ok(Definition::AlterSequence { name, change: SequenceChange { restart, options } })
    }

    /// `ALTER DOMAIN name { SET DEFAULT value | DROP DEFAULT | ADD [CONSTRAINT name] CHECK (…) | DROP CONSTRAINT name }`
    pub(super) fn alter_domain(&mut self) -> Result<Definition> {
        let name = self.qualified_name("the name of a domain")?;
        let change = if self.accept_words(&[K::Set, K::Default]) {
            DomainChange::Default(Some(self.expression()?))
        } else if self.accept_words(&[K::Drop, K::Default]) {
            DomainChange::Default(None)
        } else if self.accept_words(&[K::Drop, K::Constraint]) {
            DomainChange::DropCheck(self.name("a constraint")?)
        } else if self.accept_word(K::Add) {
            let name = if self.accept_word(K::Constraint) { Some(self.name("a constraint")?) } else { None };
            if !self.at_word(K::Check) {
                return Err(self.expected("CHECK"));
            }
            match self.check()? {
                ConstraintKind::Check(condition) => DomainChange::AddCheck(name, condition),
                _ => return Err(self.expected("CHECK")),
            }
        } else {
            return Err(self.expected("SET DEFAULT, DROP DEFAULT, ADD CONSTRAINT or DROP CONSTRAINT"));
        };
        Ok(Definition::AlterDomain { name, change })
    }

    fn create_domain(&mut self) -> Result<CreateDomain> {
        let name = self.qualified_name("the name of a domain")?;
        self.accept_word(K::As);
        let sql_type = self.data_type()?;
        let mut domain = CreateDomain { name, sql_type, default: None, not_null: false, checks: Vec::new() };
        loop {
            if self.accept_word(K::Default) {
                domain.default = Some(self.expression()?);
                continue;
            }
            if self.accept_words(&[K::Not, K::Null]) {
                domain.not_null = true;
                continue;
            }
            let name = if self.accept_word(K::Constraint) { Some(self.name("a constraint")?) } else { None };
            if !self.at_word(K::Check) {
                return if name.is_some() { Err(self.expected("CHECK")) } else { Ok(domain) };
            }
            if let ConstraintKind::Check(condition) = self.check()? {
                domain.checks.push((name, condition));
            }
        }
    }

    /// `name (parameter type, …) RETURNS TABLE (column type, …) [LANGUAGE SQL] RETURN query`
    fn create_function(&mut self, or_replace: bool) -> Result<CreateFunction> {
        let name = self.qualified_name("the name of a function")?;
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and parameters")?;
        let parameters = if self.at_symbol(Symbol::RightParen) { Vec::new() } else { self.list(Self::typed_name)? };
        self.close(open)?;
        self.expect_word(K::Returns)?;
        if !self.accept_word(K::Table) {
            return Err(self.not_supported("a function that gives a value and not a table"));
        }
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and columns")?;
        let columns = self.list(Self::typed_name)?;
        self.close(open)?;
        while self.accept_words(&[K::Language, K::Sql])
            || self.accept_words(&[K::Reads, K::Sql, K::Data])
            || self.accept_words(&[K::Not, K::Deterministic])
            || self.accept_word(K::Deterministic)
        {}
        self.expect_word(K::Return)?;
        let in_parentheses = self.ahead(1).kind == super::lexer::TokenKind::Symbol(Symbol::LeftParen);
        if self.at_word(K::Table) && in_parentheses {
            self.advance();
            let query = Box::new(self.parenthesised_query()?);
            return Ok(CreateFunction { name, parameters, columns, query, or_replace });
        }
        let query = Box::new(self.query()?);
        Ok(CreateFunction { name, parameters, columns, query, or_replace })
    }

    fn typed_name(&mut self) -> Result<(super::ast::Ident, crate::types::SqlType)> {
        let name = self.name("a name")?;
        Ok((name, self.data_type()?))
    }

    /// What appears after DROP, when it is one of these.
    pub(super) fn drop_object(&mut self) -> Result<Option<Definition>> {
        let kinds =
            [(K::Sequence, ObjectKind::Sequence), (K::Domain, ObjectKind::Domain), (K::Function, ObjectKind::Function)];
        let Some((_, kind)) = kinds.into_iter().find(|(word, _)| self.accept_word(*word)) else { return Ok(None) };
        let if_exists = self.accept_words(&[K::If, K::Exists]);
        let name = self.qualified_name("a name")?;
        let drop: Drop = self.drop_behaviour(if_exists);
        Ok(Some(Definition::DropObject { kind, name, drop }))
    }

    /// `COMMENT ON kind name IS 'text'`; IS NULL takes it away.
    pub(super) fn comment(&mut self) -> Result<Definition> {
        self.expect_word(K::Comment)?;
        self.expect_word(K::On)?;
        let kinds = [
            (K::Table, Commented::Table),
            (K::Column, Commented::Column),
            (K::View, Commented::View),
            (K::Schema, Commented::Schema),
            (K::Sequence, Commented::Sequence),
            (K::Domain, Commented::Domain),
            (K::Function, Commented::Function),
        ];
        let Some((_, kind)) = kinds.into_iter().find(|(word, _)| self.accept_word(*word)) else {
            return Err(self.expected("TABLE, COLUMN, VIEW, SCHEMA, SEQUENCE, DOMAIN or FUNCTION"));
        };
        let name = self.qualified_name("a name")?;
        self.expect_word(K::Is)?;
        let text = if self.accept_word(K::Null) { None } else { Some(self.text_literal("a text, or NULL")?) };
        Ok(Definition::Comment(CommentOn { kind, name, text }))
    }
}
