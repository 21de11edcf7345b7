//! Views: their text is read again instead of their name, in the schema they were made in.

use super::query::Rows;
use super::scope::{Relation, Scope, ScopeColumn};
use super::{Binder, Outer};
use crate::catalog::{KnownColumns, Schema, View};
use crate::diagnostic::{Error, Result, SourceText, Span, SqlState, counted};
use crate::logical::{ColumnId, LogicalPlan};
use crate::syntax::{Script, ast};
use std::sync::Arc;

/// How many views may stand after one another.
pub(super) const MOST_VIEWS: usize = 512;

impl<'a> Binder<'a> {
    /// The view that a name means; a table of that name comes first.
    pub(super) fn find_view(&self, name: &[ast::Ident]) -> Option<&'a View> {
        self.find_view_in(name).map(|(_, view)| view)
    }

    /// As [`Binder::find_view`], with the schema it is in.
    pub(super) fn find_view_in(&self, name: &[ast::Ident]) -> Option<(&'a str, &'a View)> {
        let [view] = name else { return self.view_in(name, self.schema) };
        let found = |schema: &&'a Schema| {
            let view = schema.views.iter().find(|known| view.matches(&known.name))?;
            Some((schema.name.as_str(), view.as_ref()))
        };
        self.schemas_of_bare_names().iter().find_map(found)
    }

    /// As [`Binder::find_view`], for a name that is written in this schema.
    pub(super) fn view_of(&self, name: &[ast::Ident], own: &str) -> Option<&'a View> {
        self.view_in(name, own).map(|(_, view)| view)
    }

    fn view_in(&self, name: &[ast::Ident], own: &str) -> Option<(&'a str, &'a View)> {
        let (schema, view) = match name {
            [view] => (None, view),
            [schema, view] => (Some(schema), view),
            _ => return None,
        };
        let schemas = self.around.catalog.schemas.iter();
        let mut fitting =
            schemas.filter(|known| schema.map_or(known.name == own, |schema| schema.matches(&known.name)));
        fitting.find_map(|schema| {
            let view = schema.views.iter().find(|known| view.matches(&known.name))?;
            Some((schema.name.as_str(), view.as_ref()))
        })
    }

    /// The rows of a view, under its own column names.
    pub(super) fn view(
        &mut self,
        (schema, view): (&str, &'a View),
        shown: String,
        span: Span,
    ) -> Result<(LogicalPlan, Scope)> {
        if self.views >= MOST_VIEWS {
            let message =
                format!("view {:?} refers to itself, or goes through more than {MOST_VIEWS} others", view.name);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(span));
        }
        let mut script = Script::new(Arc::clone(&view.query));
        let Some(Ok(ast::Statement { kind: ast::StatementKind::Query(query), .. })) = script.next_statement() else {
            return Err(Error::new(SqlState::GENERAL, "internal error: the text of a view is not a query").at(span));
        };
        let (plan, output) =
            self.apart((&view.query, &view.schema, &view.known), Vec::new(), &query).map_err(|error| {
                let message = format!("view {:?} no longer works: {}", view.name, error.message());
                Error::new(error.sqlstate(), message).at(span)
            })?;
        if output.len() != view.columns.len() {
            let (found, wanted) = (output.len(), view.columns.len());
            let message = format!(
                "view {:?} no longer works: its query gives {}, not {wanted}",
                view.name,
                counted(found, "column")
            );
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(span));
        }
        let columns =
            output.iter().zip(&view.columns).map(|(column, name)| ScopeColumn { name: name.clone(), id: column.id });
        let mut columns: Vec<ScopeColumn> = columns.collect();
        let mut star = columns.clone();
        if let Some(known) = self.known.iter().find(|known| known.table == view.name && known.schema == schema) {
            self.as_known(known, &mut columns, &mut star);
        }
        let relation = Relation::new(shown, columns);
        Ok((plan, Scope { relations: vec![relation], star }))
    }

    /// A query that the database keeps as text: it sees nothing of the query that it is used in but what `around` has.
    pub(super) fn apart(
        &mut self,
        (text, schema, known): (&'a SourceText, &'a str, &'a [KnownColumns]),
        around: Vec<Outer>,
        query: &ast::Query,
    ) -> Result<Rows> {
        let source = std::mem::replace(&mut self.source, text);
        let schema = std::mem::replace(&mut self.schema, schema);
        let (known, gone) = (std::mem::replace(&mut self.known, known), self.gone.len());
        let (level, outer) = (std::mem::take(&mut self.level), std::mem::replace(&mut self.outer, around));
        let (withs, problems) = (std::mem::take(&mut self.withs), std::mem::take(&mut self.problems));
        let notes = self.notes.len();
        self.views += 1;
        let bound = self.query(query);
        self.views -= 1;
        self.notes.truncate(notes);
        let own = std::mem::replace(&mut self.problems, problems);
        (self.source, self.schema, self.level, self.outer, self.withs) = (source, schema, level, outer, withs);
        self.known = known;
        let bound = bound.and_then(|(plan, output)| {
            let results: Vec<ColumnId> = output.iter().map(|column| column.id).collect();
            self.refuse_gone(gone, &plan, &results)?;
            Ok((plan, output))
        });
        match own.into_iter().next() {
            Some(error) => bound.and(Err(error)),
            None => bound.map(|(plan, output)| self.with_own_ids(plan, output)),
        }
    }
}
