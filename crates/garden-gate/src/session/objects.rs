//! CREATE, ALTER and DROP of sequences and table functions, and COMMENT ON.

use super::Session;
use super::definition::{duplicate, no_schema};
use super::domain::refuse_used;
use super::session::Call;
use crate::bind::{MissingParameters, bind_query, columns_known_to, function_problem};
use crate::catalog::{Catalog, Comment, Named, Numbers, Schema, Sequence, TableFunction, named, subject};
use crate::diagnostic::{Error, Result, SourceText, SqlState, suggestion};
use crate::syntax::ast::{self, Commented, ObjectKind};
use crate::types::SqlType;
use std::sync::Arc;

impl Session {
    /// CREATE SEQUENCE.
    pub(super) fn create_sequence(&self, catalog: &mut Catalog, made: &ast::CreateSequence) -> Result<()> {
        let (schema, name) = self.new_place(catalog, &made.name)?;
        let sequences = &mut catalog.schema_mut(&schema).sequences;
        if known(sequences, name).is_some() {
            return if made.if_not_exists { Ok(()) } else { Err(duplicate("sequence", name)) };
        }
        let numbers = numbers(&made.options, None, name)?;
        sequences.push(Arc::new(Sequence::new(name.text.clone(), numbers, Some(numbers.start))));
        Ok(())
    }

    /// ALTER SEQUENCE.
    pub(super) fn alter_sequence(
        &self,
        catalog: &mut Catalog,
        name: &[ast::Ident],
        change: &ast::SequenceChange,
    ) -> Result<()> {
        let (schema, name) = self.place(catalog, name)?;
        let sequences = &mut catalog.schema_mut(&schema).sequences;
        let old = known(sequences, name).cloned().ok_or_else(|| missing("sequence", sequences, name))?;
        let numbers = numbers(&change.options, Some(old.numbers), name)?;
        let next = match change.restart {
            Some(number) => Some(number.unwrap_or(numbers.start)),
            None => old.next(),
        };
        let next = next.filter(|next| (numbers.least..=numbers.most).contains(next));
        if change.restart.is_some() && next.is_none() {
            return Err(outside(name, Numbers { start: change.restart.flatten().unwrap_or(numbers.start), ..numbers }));
        }
        let made = Arc::new(Sequence::new(old.name.clone(), numbers, next));
        sequences.iter_mut().filter(|known| known.name == old.name).for_each(|known| *known = Arc::clone(&made));
        Ok(())
    }

    /// CREATE FUNCTION, of a table function.
    pub(super) fn create_function(
        &self,
        catalog: &mut Catalog,
        made: &ast::CreateFunction,
        call: &Call<'_>,
    ) -> Result<()> {
        let (schema, name) = self.new_place(catalog, &made.name)?;
        let exists = known(&catalog.schema_mut(&schema).functions, name).is_some();
        if exists && !made.or_replace {
            return Err(duplicate("function", name));
        }
        let typed = |list: &[(ast::Ident, SqlType)], what: &str| -> Result<Vec<(String, SqlType)>> {
            for (at, (name, _)) in list.iter().enumerate() {
                if list[..at].iter().any(|(other, _)| other.text.eq_ignore_ascii_case(&name.text)) {
                    let message = format!("two {what} are called {:?}", name.text);
                    return Err(Error::new(SqlState::COLUMN_EXISTS, message).at(name.span));
                }
            }
            Ok(list.iter().map(|(name, sql_type)| (name.text.clone(), *sql_type)).collect())
        };
        let text = SourceText::new(call.source.slice(made.query.span));
        let names = crate::syntax::Script::new(Arc::clone(&text)).parameter_names();
        if let Some(parameter) = names.first() {
            let message = format!("a function can't use the parameter {parameter} of a program");
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                .with_help("its own parameters are named without a colon")
                .at(made.query.span));
        }
        let function = TableFunction {
            name: name.text.clone(),
            parameters: typed(&made.parameters, "parameters")?,
            columns: typed(&made.columns, "columns")?,
            query: text,
            schema: self.schema.clone(),
            known: columns_known_to(&made.query, catalog, &self.schema),
        };
        let functions = &mut catalog.schema_mut(&schema).functions;
        functions.retain(|known| !name.matches(&known.name));
        functions.push(Arc::new(function.clone()));
        let files = self.files();
        let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
        match function_problem((&schema, &function), made.query.span, &around) {
            Some(error) => Err(error),
            None => Ok(()),
        }
    }

    /// DROP of a view, sequence, domain or function.
    pub(super) fn drop_object(
        &self,
        catalog: &mut Catalog,
        kind: ObjectKind,
        name: &[ast::Ident],
        drop: ast::Drop,
    ) -> Result<()> {
        let (schema, name) = self.place(catalog, name)?;
        if kind == ObjectKind::Domain && !drop.cascade {
            refuse_used(catalog, &schema, name)?;
        }
        let here = catalog.schema_mut(&schema);
        let result = match kind {
            ObjectKind::Sequence => remove("sequence", &mut here.sequences, name),
            ObjectKind::Domain => remove("domain", &mut here.domains, name),
            ObjectKind::Function => remove("function", &mut here.functions, name),
        };
        if drop.if_exists { Ok(()) } else { result }
    }

    /// COMMENT ON.
    pub(super) fn comment(&self, catalog: &mut Catalog, comment: &ast::CommentOn, call: &Call<'_>) -> Result<()> {
        let (schema, subject) = self.subject(catalog, comment, call)?;
        let comments = &mut catalog.schema_mut(&schema).comments;
        comments.retain(|known| known.subject != subject);
        if let Some(text) = &comment.text {
            comments.push(Arc::new(Comment { subject, text: text.clone() }));
        }
        Ok(())
    }

    /// The schema of what a comment is about, and what that is called there.
    fn subject(&self, catalog: &Catalog, comment: &ast::CommentOn, call: &Call<'_>) -> Result<(String, String)> {
        let name = comment.name.as_slice();
        if comment.kind == Commented::Schema {
            let found = catalog.schemas.iter().find(|schema| name.len() == 1 && name[0].matches(&schema.name));
            let found = found.ok_or_else(|| no_schema(catalog, &name[0]))?;
            return Ok((found.name.clone(), subject(Commented::Schema.name(), &found.name, None)));
        }
        let (name, column) = match (comment.kind, name) {
            (Commented::Column, [table @ .., column]) if !table.is_empty() => (table, Some(column)),
            (Commented::Column, _) => {
                let message = "a column is named with its table: COMMENT ON COLUMN table.column IS …";
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(name[0].span));
            }
            _ => (name, None),
        };
        let (schema, name) = self.place(catalog, name)?;
        let Some(here) = catalog.schema(&schema) else { return Err(no_schema(catalog, name)) };
        let known = match comment.kind {
            Commented::Sequence => known(&here.sequences, name).map(|known| known.name.clone()),
            Commented::Domain => known(&here.domains, name).map(|known| known.name.clone()),
            Commented::Function => known(&here.functions, name).map(|known| known.name.clone()),
            Commented::View => known(&here.views, name).map(|known| known.name.clone()),
            Commented::Table => {
                here.tables.iter().find(|table| name.matches(&table.name)).map(|table| table.name.clone())
            }
            Commented::Column | Commented::Schema => here.names().find(|known| name.matches(known)).map(str::to_owned),
        };
        let Some(known) = known else {
            let message = format!("no {} {:?}", comment.kind.name().to_lowercase(), name.text);
            return Err(Error::new(SqlState::TABLE_NOT_FOUND, message).at(name.span));
        };
        let Some(column) = column else { return Ok((schema, subject(comment.kind.name(), &known, None))) };
        let files = self.files();
        let around = self.around(catalog, &files, call.parameters, MissingParameters::Refuse);
        let quoted = |text: &str| ast::Ident { text: text.to_owned(), quoted: true, span: name.span };
        let table = super::definition::whole_table(&[quoted(&schema), quoted(&known)]);
        let columns = bind_query(&table, call.source, &around)?.output;
        let Some(found) = columns.iter().find(|known| column.matches(&known.name)) else {
            let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
            let message = format!("no column {:?} in {known}", column.text);
            return Err(Error::new(SqlState::COLUMN_NOT_FOUND, message)
                .with_help(suggestion(&column.text, &names, "the columns are"))
                .at(column.span));
        };
        Ok((schema, subject("COLUMN", &known, Some(&found.name))))
    }
}

/// A thing of a schema by its name.
pub(super) fn known<'l, T: Named>(list: &'l [Arc<T>], name: &ast::Ident) -> Option<&'l Arc<T>> {
    list.iter().find(|known| name.matches(known.name()))
}

/// The error that there is none, with a name that is near.
pub(super) fn missing<T: Named>(what: &str, list: &[Arc<T>], name: &ast::Ident) -> Error {
    let names: Vec<&str> = list.iter().map(|known| known.name()).collect();
    let error = Error::new(SqlState::SYNTAX_OR_RULE, format!("no {what} {:?}", name.text)).at(name.span);
    if names.is_empty() { error } else { error.with_help(suggestion(&name.text, &names, "there are")) }
}

fn remove<T: Named>(what: &str, list: &mut Vec<Arc<T>>, name: &ast::Ident) -> Result<()> {
    let Some(found) = known(list, name).map(|found| found.name().to_owned()) else {
        return Err(missing(what, list, name));
    };
    list.retain(|known| known.name() != found);
    Ok(())
}

/// The numbers that options describe; what they do not say stays as it was, or is what the type allows.
pub(super) fn numbers(options: &ast::SequenceOptions, before: Option<Numbers>, name: &ast::Ident) -> Result<Numbers> {
    let sql_type = options.sql_type.or(before.map(|before| before.sql_type)).unwrap_or(SqlType::BigInt);
    let range = match sql_type {
        SqlType::SmallInt => (i16::MIN.into(), i16::MAX.into()),
        SqlType::Integer => (i32::MIN.into(), i32::MAX.into()),
        SqlType::BigInt => (i64::MIN, i64::MAX),
        other => {
            let message = format!("a sequence gives integers, not {other}");
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message)
                .with_help("AS SMALLINT, INTEGER or BIGINT")
                .at(name.span));
        }
    };
    let increment = options.increment.or(before.map(|before| before.increment)).unwrap_or(1);
    let up = increment > 0;
    let least = options.least.or(before.map(|before| before.least)).unwrap_or(if up { 1 } else { range.0 });
    let most = options.most.or(before.map(|before| before.most)).unwrap_or(if up { range.1 } else { -1 });
    let least = least.min(options.start.filter(|_| options.least.is_none()).unwrap_or(least));
    let most = most.max(options.start.filter(|_| options.most.is_none()).unwrap_or(most));
    let start = options.start.or(before.map(|before| before.start)).unwrap_or(if up { least } else { most });
    let cycle = options.cycle.or(before.map(|before| before.cycle)).unwrap_or(false);
    let numbers = Numbers { sql_type, start, increment, least, most, cycle };
    if increment == 0 {
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, "a sequence can't go on BY 0").at(name.span));
    }
    if least < range.0 || most > range.1 || !(least..=most).contains(&start) {
        return Err(outside(name, numbers));
    }
    Ok(numbers)
}

fn outside(name: &ast::Ident, numbers: Numbers) -> Error {
    let Numbers { sql_type, start, least, most, .. } = numbers;
    let message = format!("sequence {:?} can't start with {start} between {least} and {most} as {sql_type}", name.text);
    Error::new(SqlState::SYNTAX_OR_RULE, message).at(name.span)
}

/// Takes away what is said of things that are there no longer.
pub(super) fn drop_stale_comments(schema: &mut Schema) {
    let is_there = |comment: &Arc<Comment>| {
        let Some((kind, name)) = comment.subject.split_once(' ') else { return false };
        let column_of = |table: &str| name.strip_prefix(table).is_some_and(|rest| rest.starts_with('.'));
        match kind {
            "TABLE" => schema.tables.iter().any(|table| table.name == name),
            "VIEW" => named(&schema.views, name).is_some(),
            "SEQUENCE" => named(&schema.sequences, name).is_some(),
            "DOMAIN" => named(&schema.domains, name).is_some(),
            "FUNCTION" => named(&schema.functions, name).is_some(),
            "COLUMN" => {
                let in_table = |table: &crate::catalog::Table| {
                    column_of(&table.name)
                        && table.source.columns().iter().any(|c| name.ends_with(&format!(".{}", c.name)))
                };
                schema.tables.iter().any(in_table) || schema.views.iter().any(|view| column_of(&view.name))
            }
            _ => true,
        }
    };
    let kept: Vec<Arc<Comment>> = schema.comments.iter().filter(|comment| is_there(comment)).cloned().collect();
    schema.comments = kept;
}
