//! CREATE, DROP and ALTER: each makes a new picture of the database.

use super::constraints::Changer;
use super::deferred::Deferral;
use super::objects::drop_stale_comments;
use super::session::Call;
use super::table_definition::names;
use super::words::of_definition;
use super::{Outcome, Session};
use crate::bind::{BindContext, MissingParameters, bind_query, check_view_option, columns_known_to};
use crate::catalog::{
    Catalog, ColumnDefinition, DEFAULT_SCHEMA, Filled, LOCAL_SCHEMA, Schema, Table, TableDefinition, TableKind, View,
};
use crate::diagnostic::{Error, Result, SourceText, Span, SqlState, counted, suggestion};
use crate::kernel::Batch;
use crate::storage::StoredTable;
use crate::syntax::{Script, ast};
use std::sync::Arc;

impl Session {
    /// CREATE, ALTER, DROP and COMMENT.
    pub(super) fn define(&mut self, definition: &ast::Definition, call: &Call<'_>) -> Result<Outcome> {
        let defined = match definition {
            ast::Definition::CreateSchema { name, elements, .. } if !elements.is_empty() => {
                self.schema_with(name, (definition, elements), call)
            }
            _ => self.change_catalog(|session, catalog| session.defined(definition, call, catalog)),
        };
        let affected = defined.map_err(|error| match subject(definition) {
            Some(span) if error.span().is_none() => error.at(span),
            _ => error,
        })?;
        let elapsed = call.started.elapsed();
        Ok(match affected {
            Some(affected) => {
                let what = format!("{}, {}", of_definition(definition), super::words::rows(affected));
                Outcome::Changed { what, affected, elapsed, notes: Vec::new() }
            }
            None => Outcome::Done { what: of_definition(definition), elapsed, notes: Vec::new() },
        })
    }

    /// A schema and what is made in it, or none of both (clause 11.1).
    fn schema_with(
        &mut self,
        name: &ast::Ident,
        (schema, elements): (&ast::Definition, &[ast::Definition]),
        call: &Call<'_>,
    ) -> Result<Option<u64>> {
        let before = std::mem::replace(&mut self.schema, name.text.clone());
        let made = self.change_catalog(|session, catalog| {
            let (mut changed, _) = session.defined(schema, call, catalog)?;
            for element in elements {
                let named = |error: Error| match subject(element) {
                    Some(span) if error.span().is_none() => error.at(span),
                    _ => error,
                };
                (changed, _) = session.defined(element, call, &Arc::new(changed)).map_err(named)?;
            }
            Ok((changed, None))
        });
        self.schema = before;
        made
    }

    /// The database after the definition, and how many rows a new table was given.
    fn defined(
        &self,
        definition: &ast::Definition,
        call: &Call<'_>,
        catalog: &Arc<Catalog>,
    ) -> Result<(Catalog, Option<u64>)> {
        let mut changed = Catalog::clone(catalog);
        let mut affected = None;
        match definition {
            ast::Definition::CreateSchema { name, if_not_exists, .. } => {
                create_schema(&mut changed, name, *if_not_exists)?
            }
            ast::Definition::DropSchema { name, drop } => drop_schema(&mut changed, name, *drop)?,
            ast::Definition::CreateTable(table) => affected = self.create_table(&mut changed, table, call)?,
            ast::Definition::CreateIndex(index) => self.create_index(&mut changed, index, call)?,
            ast::Definition::DropIndex { name, drop } => self.drop_index(&mut changed, name, *drop)?,
            ast::Definition::DropTable { name, drop } => self.drop_table(&mut changed, name, *drop)?,
            ast::Definition::CreateView(view) => self.create_view(&mut changed, view, call)?,
            ast::Definition::DropView { name, drop } => self.drop_view(&mut changed, name, *drop)?,
            ast::Definition::AlterTable { name, action } => {
                affected = self.alter_table(&mut changed, (name, action), call)?;
            }
            ast::Definition::TrimHistory(trim) => affected = Some(self.trim_history(&mut changed, trim, call)?),
            ast::Definition::CreateSequence(made) => self.create_sequence(&mut changed, made)?,
            ast::Definition::AlterSequence { name, change } => self.alter_sequence(&mut changed, name, change)?,
            ast::Definition::CreateDomain(made) => self.create_domain(&mut changed, made, call)?,
            ast::Definition::CreateFunction(made) => self.create_function(&mut changed, made, call)?,
            ast::Definition::AlterDomain { name, change } => self.alter_domain(&mut changed, (name, change), call)?,
            ast::Definition::DropObject { kind, name, drop } => self.drop_object(&mut changed, *kind, name, *drop)?,
            ast::Definition::Comment(comment) => self.comment(&mut changed, comment, call)?,
        }
        let gone = matches!(
            definition,
            ast::Definition::DropSchema { .. }
                | ast::Definition::DropTable { .. }
                | ast::Definition::DropIndex { .. }
                | ast::Definition::DropView { .. }
                | ast::Definition::AlterDomain { .. }
                | ast::Definition::DropObject { .. }
                | ast::Definition::AlterTable { .. }
        );
        if gone {
            changed.schemas.iter_mut().filter(|schema| !schema.comments.is_empty()).for_each(|schema| {
                drop_stale_comments(Arc::make_mut(schema));
            });
            self.check_dependents(catalog, &mut changed, cascades(definition), call)?;
        }
        Ok((changed, affected))
    }

    /// The schema and the name that a name means, whether there is such a thing or not.
    pub(super) fn place<'n>(&self, catalog: &Catalog, name: &'n [ast::Ident]) -> Result<(String, &'n ast::Ident)> {
        let (schema, name) = match name {
            [name] => (None, name),
            [schema, name] => (Some(schema), name),
            _ => {
                let message = "a table's name has at most two parts, schema and table";
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name[0].span));
            }
        };
        let Some(schema) = schema else {
            // A table of the session's own hides others of its name.
            let own = catalog.schema(LOCAL_SCHEMA).is_some_and(|own| own.tables.iter().any(|t| name.matches(&t.name)));
            return Ok((if own { LOCAL_SCHEMA.to_owned() } else { self.schema.clone() }, name));
        };
        match catalog.schemas.iter().find(|known| schema.matches(&known.name)) {
            Some(found) => Ok((found.name.clone(), name)),
            None => Err(no_schema(catalog, schema)),
        }
    }

    /// As [`Session::place`], for what is to be made: never a table of the session's own.
    pub(super) fn new_place<'n>(&self, catalog: &Catalog, name: &'n [ast::Ident]) -> Result<(String, &'n ast::Ident)> {
        match name {
            [name] => Ok((self.schema.clone(), name)),
            _ => self.place(catalog, name),
        }
    }

    fn drop_table(&self, catalog: &mut Catalog, name: &[ast::Ident], drop: ast::Drop) -> Result<()> {
        let (schema, table) = self.place(catalog, name)?;
        let tables = &mut catalog.schema_mut(&schema).tables;
        let before = tables.len();
        tables.retain(|known| !table.matches(&known.name));
        if tables.len() == before && !drop.if_exists {
            return Err(no_table(catalog, &schema, table));
        }
        Ok(())
    }

    fn drop_view(&self, catalog: &mut Catalog, name: &[ast::Ident], drop: ast::Drop) -> Result<()> {
        let (schema, view) = self.place(catalog, name)?;
        let views = &mut catalog.schema_mut(&schema).views;
        let before = views.len();
        views.retain(|known| !view.matches(&known.name));
        if views.len() == before && !drop.if_exists {
            let message = format!("no view {:?}", view.text);
            return Err(Error::new(SqlState::TABLE_NOT_FOUND, message).at(view.span));
        }
        Ok(())
    }

    fn create_view(&self, catalog: &mut Catalog, view: &ast::CreateView, call: &Call<'_>) -> Result<()> {
        let (schema, name) = self.new_place(catalog, &view.name)?;
        let before = catalog.clone();
        if !view.or_replace {
            free_name(catalog, &schema, name)?;
        } else if before.table(&schema, &name.text).is_some() {
            return free_name(catalog, &schema, name);
        }
        let files = self.files();
        let around = self.around(&before, &files, call.parameters, MissingParameters::Refuse);
        let text = SourceText::new(call.source.slice(view.query.span));
        if !Script::new(Arc::clone(&text)).parameter_names().is_empty() {
            let message = "a view can't use parameters";
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(view.query.span));
        }
        let bound = bind_query(&view.query, call.source, &around)?;
        let columns = match &view.columns {
            None => bound.output.iter().map(|column| column.name.clone()).collect::<Vec<_>>(),
            Some(given) if given.len() == bound.output.len() => given.iter().map(|name| name.text.clone()).collect(),
            Some(given) => {
                let message = format!("{} for {}", counted(given.len(), "name"), counted(bound.output.len(), "column"));
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(given[0].span));
            }
        };
        if let Some(twice) = (1..columns.len()).find(|at| columns[..*at].contains(&columns[*at])) {
            let message = format!("two columns of the view are called {:?}", columns[twice]);
            return Err(Error::new(SqlState::COLUMN_EXISTS, message).at(name.span));
        }
        let known = columns_known_to(&view.query, catalog, &self.schema);
        let made = View {
            name: name.text.clone(),
            columns,
            query: text,
            schema: self.schema.clone(),
            check: view.check,
            known,
        };
        let views = &mut catalog.schema_mut(&schema).views;
        views.retain(|known| !name.matches(&known.name));
        views.push(Arc::new(made));
        let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
        if view.check.is_some() {
            check_view_option(&view.name, view.query.span, &around)?;
        }
        bind_query(&whole_table(&view.name), call.source, &around).map(|_| ())
    }

    /// Changes of the tables of a catalog that is being made.
    pub(super) fn changer<'a>(&self, catalog: &Catalog, around: &'a BindContext<'a>) -> Changer<'a> {
        Changer::new(catalog.clone(), around, false, Deferral::default())
    }
}

/// The name of what a definition makes, changes or drops.
fn subject(definition: &ast::Definition) -> Option<Span> {
    use ast::Definition as D;
    let name = match definition {
        D::CreateSchema { name, .. } | D::DropSchema { name, .. } => return Some(name.span),
        D::CreateIndex(index) => return Some(index.name.span),
        D::CreateTable(table) => &table.name,
        D::CreateView(view) => &view.name,
        D::CreateSequence(sequence) => &sequence.name,
        D::CreateDomain(domain) => &domain.name,
        D::CreateFunction(function) => &function.name,
        D::Comment(comment) => &comment.name,
        D::TrimHistory(trim) => &trim.table,
        D::DropTable { name, .. }
        | D::DropIndex { name, .. }
        | D::DropView { name, .. }
        | D::AlterTable { name, .. }
        | D::AlterSequence { name, .. }
        | D::AlterDomain { name, .. }
        | D::DropObject { name, .. } => name,
    };
    Some(name.first()?.span.to(name.last()?.span))
}

fn cascades(definition: &ast::Definition) -> bool {
    match definition {
        ast::Definition::DropSchema { drop, .. }
        | ast::Definition::DropTable { drop, .. }
        | ast::Definition::DropIndex { drop, .. }
        | ast::Definition::DropObject { drop, .. }
        | ast::Definition::DropView { drop, .. } => drop.cascade,
        ast::Definition::AlterTable { action, .. } => matches!(
            action,
            ast::AlterTable::DropColumn { drop, .. }
                | ast::AlterTable::DropConstraint { drop, .. }
                | ast::AlterTable::DropPeriod { drop, .. }
                | ast::AlterTable::DropVersioning { drop, .. } if drop.cascade
        ),
        _ => false,
    }
}

fn create_schema(catalog: &mut Catalog, name: &ast::Ident, if_not_exists: bool) -> Result<()> {
    if catalog.schemas.iter().any(|schema| name.matches(&schema.name))
        || name.matches("INFORMATION_SCHEMA")
        || name.matches(LOCAL_SCHEMA)
    {
        if if_not_exists {
            return Ok(());
        }
        let message = format!("there is a schema {:?} already", name.text);
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
    }
    catalog.schemas.push(Arc::new(Schema::new(&name.text)));
    Ok(())
}

fn drop_schema(catalog: &mut Catalog, name: &ast::Ident, drop: ast::Drop) -> Result<()> {
    let Some(at) = catalog.schemas.iter().position(|schema| name.matches(&schema.name)) else {
        return if drop.if_exists { Ok(()) } else { Err(no_schema(catalog, name)) };
    };
    let schema = &catalog.schemas[at];
    if schema.name == DEFAULT_SCHEMA {
        let message = format!("schema {DEFAULT_SCHEMA:?} is where unqualified names are looked up, and stays");
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span));
    }
    let held: Vec<String> = schema.all_names().map(|name| format!("{name:?}")).collect();
    if !held.is_empty() && !drop.cascade {
        let message = format!("schema {:?} holds {}", schema.name, names(&held));
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
            .with_help("CASCADE drops what is in it as well")
            .at(name.span));
    }
    catalog.schemas.remove(at);
    Ok(())
}

/// The error that there is no such schema, with a name that is near.
pub(super) fn no_schema(catalog: &Catalog, name: &ast::Ident) -> Error {
    let known: Vec<&str> = catalog.schemas.iter().map(|schema| schema.name.as_str()).collect();
    Error::new(SqlState::INVALID_SCHEMA_NAME, format!("no schema {:?}", name.text))
        .with_help(suggestion(&name.text, &known, "the schemas are"))
        .at(name.span)
}

/// The error that there is no such table, with a name that is near.
pub(super) fn no_table(catalog: &Catalog, schema: &str, name: &ast::Ident) -> Error {
    let known: Vec<&str> = catalog.schema(schema).map(|schema| schema.names().collect()).unwrap_or_default();
    let error = Error::new(SqlState::TABLE_NOT_FOUND, format!("no table {:?}", name.text)).at(name.span);
    if known.is_empty() { error } else { error.with_help(suggestion(&name.text, &known, "the tables are")) }
}

/// The error that a name is taken.
pub(super) fn duplicate(what: &str, name: &ast::Ident) -> Error {
    Error::new(SqlState::SYNTAX_OR_RULE, format!("there is a {what} {:?} already", name.text)).at(name.span)
}

/// An error when the name is taken.
pub(super) fn free_name(catalog: &Catalog, schema: &str, name: &ast::Ident) -> Result<()> {
    let taken = |known: &str| name.matches(known) || known.eq_ignore_ascii_case(&name.text);
    if catalog.schema(schema).is_some_and(|schema| schema.names().any(taken)) {
        let message = format!("there is a table or view {:?} already", name.text);
        return Err(Error::new(SqlState::TABLE_EXISTS, message).at(name.span));
    }
    Ok(())
}

/// A column without constraints.
pub(super) fn plain_column(name: &str, declared: crate::types::DeclaredType) -> ColumnDefinition {
    ColumnDefinition {
        name: name.to_owned(),
        sql_type: declared.sql_type,
        limit: declared.limit,
        not_null: false,
        filled: Filled::Null,
        hidden: false,
        domain: None,
    }
}

/// Puts a new table into the catalog.
pub(super) fn put_new(
    catalog: &mut Catalog,
    schema: &str,
    name: &str,
    definition: Arc<TableDefinition>,
    rows: &[Batch],
) -> Result<()> {
    let columns = super::constraints::table_columns(&definition);
    let keys = definition.certain_keys();
    let source = StoredTable::new(columns, keys).changed(&[], rows)?;
    let table = Table {
        name: name.to_owned(),
        kind: TableKind::Table,
        source: Arc::new(source),
        definition: Some(definition),
        groups: Arc::default(),
    };
    catalog.put_table(schema, table);
    Ok(())
}

fn select_all(from: ast::TableExpr, span: Span) -> ast::Query {
    ast::Select::plain(vec![ast::SelectItem::All(span)], vec![from], span).into_query()
}

/// `SELECT * FROM name`.
pub(super) fn whole_table(name: &[ast::Ident]) -> ast::Query {
    let span = name[0].span;
    select_all(
        ast::TableExpr::Named { name: name.to_vec(), system_time: None, alias: ast::TableAlias::default(), span },
        span,
    )
}

/// `SELECT * FROM FILE 'path'`.
pub(super) fn whole_file(path: &str, options: &ast::FileOptions, span: Span) -> ast::Query {
    let (path, options, alias) = (path.to_owned(), options.clone(), ast::TableAlias::default());
    let options = Box::new(options);
    select_all(ast::TableExpr::File { path, options, alias, span }, span)
}
