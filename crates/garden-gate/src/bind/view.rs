//! Views: their text is read again in place of their name, in the schema they were made in.

use super::query::Rows;
use super::scope::{Relation, Scope, ScopeColumn};
use super::{Binder, Outer};
use crate::catalog::{Schema, View};
use crate::diagnostic::{Error, Result, SourceText, Span, SqlState};
use crate::logical::LogicalPlan;
use crate::syntax::{Script, ast};
use std::sync::Arc;

/// How many views may stand behind one another.
pub(super) const MOST_VIEWS: usize = 32;

impl<'a> Binder<'a> {
    /// The view that a name means; a table of that name comes first.
    pub(super) fn find_view(&self, name: &[ast::Ident]) -> Option<&'a View> {
        let [view] = name else { return self.view_of(name, self.schema) };
        let found = |schema: &&'a Schema| schema.views.iter().find(|known| view.matches(&known.name)).map(Arc::as_ref);
        self.schemas_of_bare_names().iter().find_map(found)
    }

    /// As [`Binder::find_view`], for a name that is written in this schema.
    pub(super) fn view_of(&self, name: &[ast::Ident], own: &str) -> Option<&'a View> {
        let (schema, view) = match name {
            [view] => (None, view),
            [schema, view] => (Some(schema), view),
            _ => return None,
        };
        let schemas = self.around.catalog.schemas.iter();
        let mut fitting =
            schemas.filter(|known| schema.map_or(known.name == own, |schema| schema.matches(&known.name)));
        fitting.find_map(|schema| schema.views.iter().find(|known| view.matches(&known.name))).map(Arc::as_ref)
    }

    /// The rows of a view, under its own column names.
    pub(super) fn view(&mut self, view: &'a View, shown: String, span: Span) -> Result<(LogicalPlan, Scope)> {
        if self.views >= MOST_VIEWS {
            let message = format!("view {:?} stands behind itself, or behind more than {MOST_VIEWS} others", view.name);
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).at(span));
        }
        let mut script = Script::new(Arc::clone(&view.query));
        let Some(Ok(ast::Statement { kind: ast::StatementKind::Query(query), .. })) = script.next_statement() else {
            return Err(Error::new(SqlState::GENERAL, "internal error: the text of a view is no query").at(span));
        };
        let (plan, output) = self.apart((&view.query, &view.schema), Vec::new(), &query).map_err(|error| {
            let message = format!("view {:?} no longer works: {}", view.name, error.message());
            Error::new(error.sqlstate(), message).at(span)
        })?;
        let columns =
            output.iter().zip(&view.columns).map(|(column, name)| ScopeColumn { name: name.clone(), id: column.id });
        let relation =
            Relation { schema: None, name: shown, hidden_name: None, columns: columns.collect(), keys: Vec::new() };
        Ok((plan, Scope::of(relation)))
    }

    /// A query that the database keeps as text: it sees nothing of the query that it is used in but what `around` has.
    pub(super) fn apart(
        &mut self,
        (text, schema): (&'a SourceText, &'a str),
        around: Vec<Outer>,
        query: &ast::Query,
    ) -> Result<Rows> {
        let source = std::mem::replace(&mut self.source, text);
        let schema = std::mem::replace(&mut self.schema, schema);
        let (level, outer) = (std::mem::take(&mut self.level), std::mem::replace(&mut self.outer, around));
        let (withs, problems) = (std::mem::take(&mut self.withs), std::mem::take(&mut self.problems));
        let notes = self.notes.len();
        self.views += 1;
        let bound = self.query(query);
        self.views -= 1;
        self.notes.truncate(notes);
        let own = std::mem::replace(&mut self.problems, problems);
        (self.source, self.schema, self.level, self.outer, self.withs) = (source, schema, level, outer, withs);
        match own.into_iter().next() {
            Some(error) => bound.and(Err(error)),
            None => bound,
        }
    }
}
