//! From the elements of CREATE TABLE to the definition of a table.

use super::Session;
use super::definition::no_table;
use super::objects::numbers;
use crate::bind::for_type;
use crate::catalog::{
    Catalog, CheckConstraint, ColumnDefinition, Domain, Filled, ForeignKey, Identity, KeyConstraint, LOCAL_SCHEMA,
    TableDefinition, Temporary, Timing, Written,
};
use crate::diagnostic::{Error, Result, SourceText, Span, SqlState, suggestion};
use crate::syntax::{ast, with_name_for};
use crate::types::{DeclaredType, SqlType};
use std::sync::Arc;

/// Makes the definition of one table.
pub(super) struct Maker<'a> {
    pub(super) session: &'a Session,
    pub(super) catalog: &'a Catalog,
    pub(super) source: &'a Arc<SourceText>,
    pub(super) table: &'a ast::Ident,
}

impl Maker<'_> {
    /// The definition of a table that is written as elements.
    pub(super) fn table(
        &self,
        elements: &[ast::TableElement],
        schema: &str,
        (versioned, temporary): (Option<Span>, Option<Temporary>),
    ) -> Result<TableDefinition> {
        let mut made = TableDefinition { temporary, ..TableDefinition::default() };
        let (mut constraints, mut periods) = (Vec::new(), Vec::new());
        for element in elements {
            match element {
                ast::TableElement::Column(column) => {
                    self.column(&mut made, column)?;
                    constraints.extend(&column.constraints);
                }
                ast::TableElement::Constraint(constraint) => constraints.push(constraint),
                ast::TableElement::Like(name, copied, span) => self.like(&mut made, (name, copied), *span)?,
                ast::TableElement::Period(period) => periods.push(period),
            }
        }
        for period in periods {
            self.period(&mut made, period)?;
        }
        self.settle_system_time(&mut made, versioned)?;
        for constraint in constraints {
            self.constraint(&mut made, constraint, schema)?;
        }
        Ok(made)
    }

    /// Adds a column.
    pub(super) fn column(&self, made: &mut TableDefinition, column: &ast::ColumnElement) -> Result<()> {
        self.new_name(made, &column.name)?;
        let domain = column.domain.as_ref().map(|name| self.domain(name)).transpose()?;
        let (domain, domain_name) = domain.unzip();
        let DeclaredType { sql_type, limit } = domain.as_ref().map_or(column.declared, |domain| domain.sql_type.into());
        let filled = match &column.filled {
            None => domain.as_ref().and_then(|domain| domain.default.clone()).map_or(Filled::Null, Filled::Default),
            Some(ast::FilledBy::Default(expr)) => Filled::Default(self.written(expr)),
            Some(ast::FilledBy::Generated(expr)) => Filled::Generated(self.written(expr)),
            Some(ast::FilledBy::RowStart) => Filled::RowStart,
            Some(ast::FilledBy::RowEnd) => Filled::RowEnd,
            Some(ast::FilledBy::Identity { always, options }) => {
                if !sql_type.is_integer() && sql_type.digits().is_none_or(|(_, scale)| scale > 0) {
                    let message = format!("column {:?} can't be numbered: it is {sql_type}", column.name.text);
                    return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(column.name.span));
                }
                let typed = ast::SequenceOptions { sql_type: Some(numbered_as(sql_type)), ..*options };
                Filled::Identity(Identity { always: *always, numbers: numbers(&typed, None, &column.name)? })
            }
        };
        made.columns.push(ColumnDefinition {
            name: column.name.text.clone(),
            sql_type,
            limit,
            not_null: column.not_null
                || domain.as_ref().is_some_and(|domain| domain.not_null)
                || matches!(filled, Filled::Identity(_) | Filled::RowStart | Filled::RowEnd),
            filled,
            hidden: column.hidden,
            domain: domain_name,
        });
        for (name, condition) in domain.iter().flat_map(|domain| &domain.checks) {
            let text = with_name_for(condition, "VALUE", &column.name.text)?;
            let name = self.free_name(made, &format!("{}_{name}", column.name.text));
            let (condition, timing) = (SourceText::new(text), Timing::AtOnce);
            made.checks.push(CheckConstraint { name, condition, timing, unproven: false });
        }
        Ok(())
    }

    /// The domain of a name, and where it is kept.
    fn domain(&self, name: &[ast::Ident]) -> Result<(Arc<Domain>, (String, String))> {
        let (schema, name) = self.session.place(self.catalog, name)?;
        let schema = if schema == LOCAL_SCHEMA { self.session.schema.clone() } else { schema };
        let domains = self.catalog.schema(&schema).map(|schema| schema.domains.as_slice()).unwrap_or_default();
        let Some(found) = domains.iter().find(|known| name.matches(&known.name)) else {
            let names = domains.iter().map(|domain| domain.name.as_str());
            let types = ["BOOLEAN", "INTEGER", "BIGINT", "NUMERIC", "DOUBLE PRECISION", "VARCHAR", "DATE", "TIMESTAMP"];
            let known: Vec<&str> = types.into_iter().chain(names).collect();
            let message = format!("{:?} is neither a type nor a domain", name.text);
            let help = for_type(&name.text).map(|sql_type| format!("write {sql_type}"));
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                .with_help(help.unwrap_or_else(|| suggestion(&name.text, &known, "some types are")))
                .at(name.span));
        };
        Ok((Arc::clone(found), (schema, found.name.clone())))
    }

    fn new_name(&self, made: &TableDefinition, name: &ast::Ident) -> Result<()> {
        // Names in quotes are exact: "aA" may stand beside "Aa".
        let is_taken = |known: &ColumnDefinition| match name.quoted {
            true => known.name == name.text,
            false => known.name.eq_ignore_ascii_case(&name.text),
        };
        if made.columns.iter().any(is_taken) {
            let message = format!("two columns of table {:?} are called {:?}", self.table.text, name.text);
            return Err(Error::new(SqlState::COLUMN_EXISTS, message).at(name.span));
        }
        Ok(())
    }

    /// `LIKE table`: its columns with their types and NOT NULL, and what INCLUDING names.
    fn like(
        &self,
        made: &mut TableDefinition,
        (name, copied): (&[ast::Ident], &[ast::Copied]),
        span: Span,
    ) -> Result<()> {
        let (schema, name) = self.session.place(self.catalog, name)?;
        let tables = self.catalog.schema(&schema).map(|schema| schema.tables.as_slice()).unwrap_or_default();
        let Some(table) = tables.iter().find(|table| name.matches(&table.name)) else {
            return Err(no_table(self.catalog, &schema, name));
        };
        for (at, column) in table.source.columns().iter().enumerate() {
            let ident = ast::Ident { text: column.name.clone(), quoted: true, span };
            self.new_name(made, &ident)?;
            let defined = table.definition.as_ref().map(|definition| &definition.columns[at]);
            if defined.is_some_and(|column| column.hidden && matches!(column.filled, Filled::RowStart | Filled::RowEnd))
            {
                continue;
            }
            let limit = defined.and_then(|column| column.limit);
            let declared = DeclaredType { sql_type: column.sql_type, limit };
            let mut copy = super::definition::plain_column(&column.name, declared);
            copy.not_null = defined.is_some_and(|column| column.not_null);
            if let Some(column) = defined {
                let wanted = match &column.filled {
                    Filled::Identity(_) => Some(ast::Copied::Identity),
                    Filled::Default(_) => Some(ast::Copied::Defaults),
                    Filled::Generated(_) => Some(ast::Copied::Generated),
                    Filled::Null | Filled::RowStart | Filled::RowEnd => None,
                };
                if wanted.is_some_and(|wanted| copied.contains(&wanted)) {
                    copy.filled = column.filled.clone();
                }
            }
            made.columns.push(copy);
        }
        Ok(())
    }

    /// Adds a constraint.
    pub(super) fn constraint(
        &self,
        made: &mut TableDefinition,
        constraint: &ast::TableConstraint,
        schema: &str,
    ) -> Result<()> {
        match &constraint.kind {
            ast::ConstraintKind::Key { columns, primary, nulls_same, period } => {
                let mut places = self.columns(made, columns)?;
                let period = period.as_ref().map(|name| self.key_period(made, name, &places)).transpose()?;
                places.extend(period.map(|(start, _)| start));
                if *primary {
                    if made.keys.iter().any(|key| key.primary) {
                        let message = format!("table {:?} has a primary key already", self.table.text);
                        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(constraint.span));
                    }
                    places.iter().for_each(|at| made.columns[*at].not_null = true);
                }
                let kind = if *primary { "primary_key".to_owned() } else { format!("{}_unique", self.joined(columns)) };
                let name = self.name(made, constraint, &kind)?;
                let (primary, nulls_same, timing) = (*primary, *nulls_same, constraint.timing);
                let period_end = period.map(|(_, end)| end);
                made.keys.push(KeyConstraint { name, columns: places, primary, nulls_same, timing, period_end });
            }
            ast::ConstraintKind::Check(condition) => {
                let name = self.name(made, constraint, "check")?;
                let (condition, timing) = (self.written(condition), constraint.timing);
                made.checks.push(CheckConstraint { name, condition, timing, unproven: false });
            }
            ast::ConstraintKind::Foreign(foreign) => {
                let name = self.name(made, constraint, &format!("{}_reference", self.joined(&foreign.columns)))?;
                let key = self.foreign(made, (foreign, constraint.span), name, schema)?;
                made.references.push(ForeignKey { timing: constraint.timing, ..key });
            }
        }
        Ok(())
    }

    /// The columns of the period of a key WITHOUT OVERLAPS.
    fn key_period(&self, made: &TableDefinition, name: &ast::Ident, columns: &[usize]) -> Result<(usize, usize)> {
        let (start, end) = self.own_period(made, name)?;
        if columns.is_empty() {
            let message = "a key WITHOUT OVERLAPS has a column before its period: what must not overlap with itself";
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
        }
        if columns.contains(&start) || columns.contains(&end) {
            let message = format!("the ends of period {:?} are part of the key by WITHOUT OVERLAPS", name.text);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
        }
        Ok((start, end))
    }

    /// A period of the table that is made.
    pub(super) fn own_period(&self, made: &TableDefinition, name: &ast::Ident) -> Result<(usize, usize)> {
        period_of(made, &self.table.text, name)
    }

    /// The places of columns, each once.
    pub(super) fn columns(&self, made: &TableDefinition, names: &[ast::Ident]) -> Result<Vec<usize>> {
        let mut places = Vec::new();
        for name in names {
            let place = made.columns.iter().position(|column| name.matches(&column.name));
            let place = place.ok_or_else(|| no_column(made, &self.table.text, name))?;
            if places.contains(&place) {
                let message = format!("column {:?} appears twice", name.text);
                return Err(Error::new(SqlState::COLUMN_EXISTS, message).at(name.span));
            }
            places.push(place);
        }
        Ok(places)
    }

    fn joined(&self, columns: &[ast::Ident]) -> String {
        columns.iter().map(|column| column.text.as_str()).collect::<Vec<_>>().join("_")
    }

    /// The name of a constraint, or one made from the table's.
    fn name(&self, made: &TableDefinition, constraint: &ast::TableConstraint, kind: &str) -> Result<String> {
        let known = constraint_names(made);
        if let Some(name) = &constraint.name {
            if known.iter().any(|known| name.matches(known)) {
                let message = format!("two constraints of table {:?} are called {:?}", self.table.text, name.text);
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
            }
            return Ok(name.text.clone());
        }
        Ok(self.free_name(made, kind))
    }

    fn free_name(&self, made: &TableDefinition, kind: &str) -> String {
        free_name(made, &self.table.text, kind)
    }

    /// A default, as it is written.
    pub(super) fn default(&self, expr: &ast::Expr) -> Filled {
        Filled::Default(self.written(expr))
    }

    /// An expression as the definition keeps it. It appears where it stood in the statement, so that places in messages are right.
    pub(super) fn written(&self, expr: &ast::Expr) -> Written {
        written(self.source, expr)
    }
}

/// The columns of a period of application time.
pub(super) fn period_of(made: &TableDefinition, table: &str, name: &ast::Ident) -> Result<(usize, usize)> {
    if let Some(period) = made.periods.iter().find(|period| name.matches(&period.name)) {
        return Ok((period.start, period.end));
    }
    let known: Vec<&str> = made.periods.iter().map(|period| period.name.as_str()).collect();
    let error = Error::new(SqlState::SYNTAX_OR_RULE, format!("no period {:?} in table {table:?}", name.text));
    let help = match known.is_empty() {
        true => format!("PERIOD FOR {} (start, end) among its columns makes one", name.text),
        false => suggestion(&name.text, &known, "the periods are"),
    };
    Err(error.with_help(help).at(name.span))
}

/// An expression as a definition keeps it, with its place.
pub(super) fn written(source: &SourceText, expr: &ast::Expr) -> Written {
    let before = " ".repeat(expr.span.start as usize);
    SourceText::new(format!("{before}{}", source.slice(expr.span)))
}

/// A name for a constraint that no other has.
pub(super) fn free_name(made: &TableDefinition, table: &str, kind: &str) -> String {
    let known = constraint_names(made);
    let plain = format!("{table}_{kind}");
    let numbered = (2..).map(|number| format!("{plain}_{number}"));
    std::iter::once(plain.clone()).chain(numbered).find(|name| !known.contains(name)).unwrap_or(plain)
}

/// The names of all constraints, of which no two may be the same.
pub(super) fn constraint_names(definition: &TableDefinition) -> Vec<String> {
    let keys = definition.keys.iter().map(|key| key.name.clone());
    let checks = definition.checks.iter().map(|check| check.name.clone());
    keys.chain(checks).chain(definition.references.iter().map(|reference| reference.name.clone())).collect()
}

/// The error that a table has no such column, with a name that is near.
pub(super) fn no_column(definition: &TableDefinition, table: &str, name: &ast::Ident) -> Error {
    let known: Vec<&str> = definition.columns.iter().map(|column| column.name.as_str()).collect();
    Error::new(SqlState::COLUMN_NOT_FOUND, format!("no column {:?} in {table}", name.text))
        .with_help(suggestion(&name.text, &known, "the columns are"))
        .at(name.span)
}

/// `a, b and c`
pub(super) fn names(parts: &[String]) -> String {
    crate::diagnostic::sentence_list(parts)
}

/// The integer type whose numbers a identity column takes.
pub(super) fn numbered_as(sql_type: SqlType) -> SqlType {
    if sql_type.is_integer() { sql_type } else { SqlType::BigInt }
}
