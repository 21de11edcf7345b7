//! CREATE and ALTER DOMAIN (clauses 11.34 and 11.35): columns have taken over what a domain says, and a change of it reaches them.

use super::Session;
use super::change::stored;
use super::definition::duplicate;
use super::objects::{known, missing};
use super::session::Call;
use super::table_definition::{free_name, written};
use crate::bind::{MissingParameters, check_domain};
use crate::catalog::{
    Catalog, CheckConstraint, ColumnDefinition, Domain, Filled, Table, TableDefinition, TableSource, Timing, Written,
};
use crate::diagnostic::{Error, Result, SourceText, SqlState, suggestion};
use crate::kernel::Batch;
use crate::syntax::{ast, with_name_for};
use std::sync::Arc;

impl Session {
    /// CREATE DOMAIN.
    pub(super) fn create_domain(&self, catalog: &mut Catalog, made: &ast::CreateDomain, call: &Call<'_>) -> Result<()> {
        let (schema, name) = self.new_place(catalog, &made.name)?;
        if known(&catalog.schema_mut(&schema).domains, name).is_some() {
            return Err(duplicate("domain", name));
        }
        let check = |(at, (given, condition)): (usize, &(Option<ast::Ident>, ast::Expr))| {
            let plain = if at == 0 { "check".to_owned() } else { format!("check_{}", at + 1) };
            (given.as_ref().map_or(plain, |name| name.text.clone()), written(call.source, condition))
        };
        let domain = Domain {
            name: name.text.clone(),
            sql_type: made.sql_type,
            default: made.default.as_ref().map(|default| written(call.source, default)),
            not_null: made.not_null,
            checks: made.checks.iter().enumerate().map(check).collect(),
        };
        let files = self.files();
        let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
        check_domain(&domain, &around)?;
        catalog.schema_mut(&schema).domains.push(Arc::new(domain));
        Ok(())
    }

    /// ALTER DOMAIN: a new check is tested on the rows of all tables.
    pub(super) fn alter_domain(
        &self,
        catalog: &mut Catalog,
        (name, change): (&[ast::Ident], &ast::DomainChange),
        call: &Call<'_>,
    ) -> Result<()> {
        let (schema, name) = self.place(catalog, name)?;
        let domains = &catalog.schema_mut(&schema).domains;
        let old = known(domains, name).cloned().ok_or_else(|| missing("domain", domains, name))?;
        let mut domain = Domain::clone(&old);
        match change {
            ast::DomainChange::Default(value) => {
                domain.default = value.as_ref().map(|value| written(call.source, value));
            }
            ast::DomainChange::AddCheck(name, condition) => {
                let check = (new_check_name(&domain, name.as_ref())?, written(call.source, condition));
                domain.checks.push(check);
            }
            ast::DomainChange::DropCheck(name) => drop_check(&mut domain, name)?,
        }
        let files = self.files();
        let before = catalog.clone();
        let around = self.around(&before, &files, call.parameters, MissingParameters::Refuse);
        check_domain(&domain, &around)?;
        let (old, domain) = (old, Arc::new(domain));
        let domains = &mut catalog.schema_mut(&schema).domains;
        domains.iter_mut().filter(|known| known.name == old.name).for_each(|known| *known = Arc::clone(&domain));
        let place = (schema, old.name.clone());
        for (schema, table) in before.tables() {
            let Some(definition) = &table.definition else { continue };
            if !definition.columns.iter().any(|column| column.domain.as_ref() == Some(&place)) {
                continue;
            }
            let made = follow(definition, &place, (&old, &domain), &table.name)?;
            let (source, _) = stored(&before, schema, &table.name)?;
            let rows = usize::try_from(source.rows()).unwrap_or(usize::MAX);
            let rows = Batch::new(source.columns_whole()?, rows);
            let changer = self.changer(catalog, &around);
            changer.check_rows((schema, &table.name), &made.proven(), &rows)?;
            catalog.put_table(schema, Table { definition: Some(Arc::new(made)), ..table.clone() });
        }
        Ok(())
    }
}

fn new_check_name(domain: &Domain, name: Option<&ast::Ident>) -> Result<String> {
    let Some(name) = name else {
        let numbered = std::iter::once("check".to_owned()).chain((2..).map(|number| format!("check_{number}")));
        let is_free = |name: &String| !domain.checks.iter().any(|(known, _)| known == name);
        return Ok({ numbered }.find(is_free).unwrap_or_default());
    };
    if domain.checks.iter().any(|(known, _)| name.matches(known)) {
        let message = format!("two constraints of domain {:?} are called {:?}", domain.name, name.text);
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
    }
    Ok(name.text.clone())
}

fn drop_check(domain: &mut Domain, name: &ast::Ident) -> Result<()> {
    let known: Vec<&str> = domain.checks.iter().map(|(known, _)| known.as_str()).collect();
    if known.iter().any(|known| name.matches(known)) {
        domain.checks.retain(|(known, _)| !name.matches(known));
        return Ok(());
    }
    let error = Error::new(SqlState::SYNTAX_OR_RULE, format!("no constraint {:?}", name.text)).at(name.span);
    Err(if known.is_empty() { error } else { error.with_help(suggestion(&name.text, &known, "the constraints are")) })
}

/// A table whose columns of the domain follow its change: a default that was the domain's, and its conditions.
fn follow(
    definition: &TableDefinition,
    place: &(String, String),
    (old, new): (&Domain, &Domain),
    table: &str,
) -> Result<TableDefinition> {
    let mut made = definition.clone();
    let is_of_domain = |column: &&ColumnDefinition| column.domain.as_ref() == Some(place);
    let text = |text: Option<&Written>| text.map(|text| text.text().trim().to_owned());
    for column in definition.columns.iter().filter(is_of_domain) {
        for (_, condition) in old.checks.iter().filter(|check| !new.checks.iter().any(|known| known.0 == check.0)) {
            let gone = with_name_for(condition, "VALUE", &column.name)?;
            made.checks.retain(|check| check.condition.text() != gone);
        }
        for (name, condition) in new.checks.iter().filter(|check| !old.checks.iter().any(|known| known.0 == check.0)) {
            let condition = SourceText::new(with_name_for(condition, "VALUE", &column.name)?);
            let name = free_name(&made, table, &format!("{}_{name}", column.name));
            made.checks.push(CheckConstraint { name, condition, timing: Timing::AtOnce, unproven: false });
        }
    }
    for column in made.columns.iter_mut().filter(|column| column.domain.as_ref() == Some(place)) {
        let own = match &column.filled {
            Filled::Null => None,
            Filled::Default(text) => Some(text),
            Filled::Identity(_) | Filled::Generated(_) | Filled::RowStart | Filled::RowEnd => continue,
        };
        if text(own) == text(old.default.as_ref()) {
            column.filled = new.default.clone().map_or(Filled::Null, Filled::Default);
        }
    }
    Ok(made)
}

/// An error when a column has the domain.
pub(super) fn refuse_used(catalog: &Catalog, schema: &str, name: &ast::Ident) -> Result<()> {
    let Some(domain) = catalog.schema(schema).and_then(|schema| known(&schema.domains, name)) else { return Ok(()) };
    let wanted = (schema.to_owned(), domain.name.clone());
    for (_, table) in catalog.tables() {
        let columns = table.definition.iter().flat_map(|definition| &definition.columns);
        if let Some(column) = columns.into_iter().find(|column| column.domain.as_ref() == Some(&wanted)) {
            let message =
                format!("column {:?} of table {:?} has the domain {:?}", column.name, table.name, domain.name);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                .with_help("with CASCADE the columns keep its type, default and conditions")
                .at(name.span));
        }
    }
    Ok(())
}
