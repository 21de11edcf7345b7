//! INSERT (clause 14.11): the rows that are given, with what the definition fills the other columns with.

use super::change::{Meaning, Target, null};
use super::change_problem::ChangeProblem;
use super::scope::{At, Clause, Scope, ScopeColumn};
use super::{Binder, OutputColumn};
use crate::catalog::{ColumnDefinition, Filled, Table};
use crate::diagnostic::{Error, Result, Span};
use crate::logical::{ColumnId, LogicalPlan};
use crate::syntax::ast;

impl<'a> Binder<'a> {
    /// The rows that an INSERT adds, and what their columns mean.
    pub(super) fn insert(
        &mut self,
        insert: &ast::Insert,
        target: &Target<'a>,
        span: Span,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let wanted = self.insert_columns(insert, target, span);
        let (plan, given) = match &insert.rows {
            ast::InsertRows::Values(rows) => self.given_rows(rows, &wanted, (target, insert, span))?,
            ast::InsertRows::Defaults => (LogicalPlan::OneRow, Vec::new()),
            ast::InsertRows::Query(query) => {
                let (plan, output) = self.query(query)?;
                self.refuse_generated(&wanted, target, insert, query.span);
                self.assigned(plan, &output, (&wanted, target, query.span))?
            }
            ast::InsertRows::File { path, options, span } => {
                let source = self.around.files.open(path, options).map_err(|error| error.at(*span))?;
                let table = Table {
                    name: path.clone(),
                    kind: crate::catalog::TableKind::File,
                    source,
                    definition: None,
                    groups: std::sync::Arc::default(),
                };
                let (plan, scope) = self.scan(&table, None, path.clone());
                let (plan, given) =
                    self.file_rows(plan, &scope.star, (&wanted, insert.columns.is_some()), (target, *span))?;
                for column in given.iter().map(|(at, _)| &target.definition.columns[*at]) {
                    if matches!(column.filled, Filled::Identity(_)) {
                        self.refuse_own_value(column, insert, *span);
                    }
                }
                (plan, given)
            }
        };
        let is_identity = |at: &usize| matches!(target.definition.columns[*at].filled, Filled::Identity(_));
        let (overridden, mut given) = (insert.overriding == Some(ast::Overriding::User), given);
        given.retain(|(at, _)| !(overridden && is_identity(at)));
        let (plan, output) = self.filled(plan, &given, target);
        let numbered = (0..target.definition.columns.len()).filter(is_identity);
        let own = |at: &usize| given.iter().any(|(known, _)| known == at);
        let is_value = matches!(insert.rows, ast::InsertRows::Values(_));
        let numbered: Vec<usize> = numbered.filter(|at| !own(at) || is_value).collect();
        Ok((plan, output, Meaning::Added { numbered, duplicates: insert.duplicates }))
    }

    /// The columns that values are given for: those named, else all that `*` shows.
    pub(super) fn insert_columns(&mut self, insert: &ast::Insert, target: &Target<'_>, span: Span) -> Vec<usize> {
        let Some(names) = &insert.columns else {
            if target.levels.is_empty() {
                let columns = &target.definition.columns;
                return (0..columns.len()).filter(|at| !columns[*at].hidden).collect();
            }
            let all: Vec<ast::Ident> =
                target.shown.iter().map(|(name, _)| ast::Ident { text: name.clone(), quoted: true, span }).collect();
            return all.iter().filter_map(|name| self.target_column(name, target)).collect();
        };
        let mut found = Vec::new();
        for name in names {
            match self.target_column(name, target) {
                Some(at) if found.contains(&at) => {
                    self.report(&ChangeProblem::ColumnTwice { column: name.text.clone() }, name.span);
                }
                Some(at) => found.push(at),
                None => {}
            }
        }
        found
    }

    /// VALUES with DEFAULT in it: each value is assigned to its column.
    fn given_rows(
        &mut self,
        rows: &[Vec<ast::AssignedValue>],
        wanted: &[usize],
        (target, insert, span): (&Target<'a>, &ast::Insert, Span),
    ) -> Result<(LogicalPlan, Vec<(usize, ColumnId)>)> {
        let mut bound = Vec::new();
        let mut numbered = false;
        for row in rows {
            let first = row.first().map_or(span, |given| match given {
                ast::AssignedValue::Value(expr) => expr.span,
                ast::AssignedValue::Default(span) => *span,
            });
            // A name that is not a column was reported, and is no reason to count.
            let named = insert.columns.as_ref().map_or(wanted.len(), Vec::len);
            if named != wanted.len() {
                continue;
            }
            if row.len() != wanted.len() {
                let columns = wanted.iter().map(|at| target.definition.columns[*at].name.clone()).collect();
                self.report(&ChangeProblem::Width { given: row.len(), wanted: wanted.len(), columns }, first);
                continue;
            }
            let mut values = Vec::new();
            for (at, given) in wanted.iter().zip(row) {
                let column = &target.definition.columns[*at];
                values.push(match given {
                    ast::AssignedValue::Default(span) => self.default_of(column, *span)?,
                    ast::AssignedValue::Value(expr) => {
                        self.refuse_own_value(column, insert, expr.span);
                        let value = self.expr(expr, At { scope: &Scope::default(), clause: Clause::Values })?;
                        self.assign(value, column)
                    }
                });
            }
            numbered |= self.has_next_values();
            bound.push((self.with_next_values(LogicalPlan::OneRow), values));
        }
        let ids: Vec<ColumnId> = wanted
            .iter()
            .map(|at| self.new_column(&target.definition.columns[*at].name, target.definition.columns[*at].sql_type))
            .collect();
        let plan = if numbered {
            self.rows_plan(ids.clone(), bound)
        } else {
            self.values_plan(ids.clone(), bound.into_iter().map(|(_, values)| values).collect())
        };
        Ok((plan, wanted.iter().copied().zip(ids).collect()))
    }

    fn refuse_generated(&mut self, wanted: &[usize], target: &Target<'_>, insert: &ast::Insert, span: Span) {
        for at in wanted {
            self.refuse_own_value(&target.definition.columns[*at], insert, span);
        }
    }

    /// Reports a value for a column that takes its values by itself.
    pub(super) fn refuse_own_value(&mut self, column: &ColumnDefinition, insert: &ast::Insert, span: Span) {
        match &column.filled {
            Filled::Generated(_) => {
                self.report(&ChangeProblem::Generated { column: column.name.clone() }, span);
            }
            Filled::RowStart | Filled::RowEnd => {
                self.report(&ChangeProblem::PeriodOfSystem { column: column.name.clone() }, span);
            }
            Filled::Identity(identity) if identity.always && insert.overriding.is_none() => {
                self.report(&ChangeProblem::IdentityAlways { column: column.name.clone() }, span);
            }
            Filled::Null | Filled::Default(_) | Filled::Identity(_) => {}
        }
    }

    /// The columns of a query, assigned to those of the table.
    fn assigned(
        &mut self,
        plan: LogicalPlan,
        output: &[OutputColumn],
        (wanted, target, span): (&[usize], &Target<'_>, Span),
    ) -> Result<(LogicalPlan, Vec<(usize, ColumnId)>)> {
        if let Some(first) = self.problems.first().filter(|_| output.len() != wanted.len()) {
            // A name that is not a column was reported, and is no reason to count.
            return Err(first.clone());
        }
        if output.len() != wanted.len() {
            let columns = wanted.iter().map(|at| target.definition.columns[*at].name.clone()).collect();
            let problem = ChangeProblem::Width { given: output.len(), wanted: wanted.len(), columns };
            return Err(Error::from_facts(&problem).at(span));
        }
        let mut computed = Vec::new();
        let mut given = Vec::new();
        for (at, column) in wanted.iter().zip(output) {
            let wanted = &target.definition.columns[*at];
            let value = self.column(column.id, span);
            let value = if self.untyped.contains(&column.id) {
                self.convert(value, wanted.sql_type)
            } else {
                self.assign(value, wanted)
            };
            let id = self.new_column(&wanted.name, wanted.sql_type);
            computed.push((id, value));
            given.push((*at, id));
        }
        Ok((plan.project(computed), given))
    }

    /// The columns of a file: by name where the table has all of them, else by place. What a file's values look like decides their type
    /// in it; they are cast to that of the column.
    fn file_rows(
        &mut self,
        plan: LogicalPlan,
        columns: &[ScopeColumn],
        (wanted, named): (&[usize], bool),
        (target, span): (&Target<'_>, Span),
    ) -> Result<(LogicalPlan, Vec<(usize, ColumnId)>)> {
        let own = &target.definition.columns;
        let by_name = |column: &ScopeColumn| {
            let found = target.shown.iter().find(|(name, _)| name.eq_ignore_ascii_case(&column.name))?;
            found.1
        };
        let found: Option<Vec<usize>> = if named { None } else { columns.iter().map(by_name).collect() };
        let places = match found {
            Some(places) => places,
            None if columns.len() == wanted.len() => wanted.to_vec(),
            None => {
                let found = columns.iter().map(|column| column.name.as_str()).collect::<Vec<_>>().join(", ");
                let wanted = wanted.iter().map(|at| own[*at].name.clone()).collect();
                return Err(Error::from_facts(&ChangeProblem::FileColumns { found, wanted }).at(span));
            }
        };
        let mut computed = Vec::new();
        let mut given = Vec::new();
        for (at, column) in places.into_iter().zip(columns) {
            let id = self.new_column(&own[at].name, own[at].sql_type);
            let value = self.column(column.id, span);
            // Files are the same for every session: what has no offset in them is UTC.
            computed.push((id, super::convert::convert(value, own[at].sql_type)));
            given.push((at, id));
        }
        Ok((plan.project(computed), given))
    }

    /// All columns of the table: what is given, else what the definition says; then those that are generated from them.
    fn filled(
        &mut self,
        plan: LogicalPlan,
        given: &[(usize, ColumnId)],
        target: &Target<'a>,
    ) -> (LogicalPlan, Vec<OutputColumn>) {
        let definition = target.definition;
        let mut computed = Vec::new();
        let mut ids = Vec::new();
        for (at, column) in definition.columns.iter().enumerate() {
            if let Some((_, id)) = given.iter().find(|(known, _)| *known == at)
                && !matches!(column.filled, Filled::Generated(_))
            {
                ids.push(*id);
                continue;
            }
            let id = self.new_column(&column.name, column.sql_type);
            let value = match &column.filled {
                Filled::Generated(_) => Ok(null(column.sql_type)),
                Filled::Null | Filled::Default(_) | Filled::Identity(_) | Filled::RowStart | Filled::RowEnd => {
                    self.default_of(column, Span::default())
                }
            };
            computed.push((id, value.unwrap_or_else(|_| null(column.sql_type))));
            ids.push(id);
        }
        let plan = self.with_next_values(plan).project(computed);
        self.generated(plan, ids, definition)
    }
}
