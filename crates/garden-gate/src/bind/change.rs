//! INSERT, UPDATE and DELETE as queries: the rows that are to be added, and the places of those that go (clauses 14.9 to 14.14).

use super::change_problem::ChangeProblem;
use super::convert::{convert, is_unsettled};
use super::scope::{Clause, Relation, Scope, ScopeColumn};
use super::{Binder, Bound, OutputColumn, Surroundings, fail_with_all, problem::Problem};
use crate::catalog::{ColumnDefinition, Filled, Table, TableDefinition, TableSource, Written};
use crate::diagnostic::{Error, Result, SourceText, Span};
use crate::logical::{ColumnId, ColumnInfo, Expr, ExprKind, LogicalPlan};
use crate::storage::StoredTable;
use crate::syntax::{ast, expression_of};
use crate::types::{SqlType, Value};
use std::any::Any;
use std::sync::Arc;

/// A change that is bound: a query, and what its rows mean.
#[derive(Debug)]
pub(crate) struct BoundChange {
    pub(crate) schema: String,
    pub(crate) table: String,
    pub(crate) rows: Bound,
    pub(crate) meaning: Meaning,
}

/// What the rows of a bound change are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Meaning {
    /// New rows, all columns in order; where one of `numbered` is NULL, the database numbers it.
    Added { numbered: Vec<usize>, duplicates: ast::Duplicates },
    /// The place of a row, then all its columns as they will be.
    Replaced,
    /// What is done, as [`Done`], the place of a row, then all its columns as they will be.
    Merged { numbered: Vec<usize> },
    /// The place of a row.
    Removed,
}

/// The table that a change is about.
#[derive(Clone)]
pub(super) struct Target<'a> {
    schema: String,
    table: Table,
    pub(super) definition: &'a TableDefinition,
}

/// Binds a change.
///
/// # Errors
/// As [`super::bind_query`]; 42000 when the table can't be changed, or values and columns do not fit.
pub(crate) fn bind_change(change: &ast::Change, source: &SourceText, around: &Surroundings<'_>) -> Result<BoundChange> {
    let mut binder = Binder::new(source, around);
    let target = binder.target(&change.table, change.span)?;
    if let Some(with) = &change.with {
        binder.with(with)?;
    }
    let (plan, output, meaning) = match &change.kind {
        ast::ChangeKind::Insert(insert) => binder.insert(insert, &target, change.span)?,
        ast::ChangeKind::Update { set, condition } => binder.update(change, (set, condition.as_ref()), &target)?,
        ast::ChangeKind::Delete { condition } => binder.delete(change, condition.as_ref(), &target)?,
        ast::ChangeKind::Truncate { .. } => binder.delete(change, None, &target)?,
        ast::ChangeKind::Merge(merge) => binder.merge(change, merge, &target)?,
    };
    let (schema, table) = (target.schema, target.table.name);
    Ok(BoundChange { schema, table, rows: binder.bound(plan, output)?, meaning })
}

/// Binds RETURNING over a source whose columns are those of the table as they are now, then as they were.
///
/// # Errors
/// As [`super::bind_query`].
pub(crate) fn bind_returning(
    change: &ast::Change,
    items: &[ast::SelectItem],
    source: &SourceText,
    (around, rows): (&Surroundings<'_>, Arc<dyn TableSource>),
) -> Result<Bound> {
    let mut binder = Binder::new(source, around);
    let target = binder.target(&change.table, change.span)?;
    let name = change.alias.as_ref().map_or_else(|| target.table.name.clone(), |alias| alias.text.clone());
    let changed = Table { source: rows, ..target.table.clone() };
    let (plan, scope) = binder.scan(&changed, None, name.clone());
    let all = scope.relations.into_iter().next().map(|relation| relation.columns).unwrap_or_default();
    let (new, old) = all.split_at(all.len() / 2);
    let removed = matches!(change.kind, ast::ChangeKind::Delete { .. } | ast::ChangeKind::Truncate { .. });
    let relation = |name: &str, columns: &[ScopeColumn]| Relation {
        schema: None,
        name: name.to_owned(),
        hidden_name: None,
        columns: columns.to_vec(),
        keys: Vec::new(),
    };
    let shown = if removed { old } else { new };
    let visible = shown.iter().zip(&target.definition.columns).filter(|(_, column)| !column.hidden);
    let scope = Scope {
        star: visible.map(|(column, _)| column.clone()).collect(),
        relations: vec![relation(&name, shown), relation("NEW", new), relation("OLD", old)],
    };
    let select = ast::Select {
        distinct: None,
        items: items.to_vec(),
        from: Vec::new(),
        from_span: Span::default(),
        where_: None,
        group_by: None,
        having: None,
        windows: Vec::new(),
    };
    let items = binder.items(&select, &scope)?;
    let (computed, output) = binder.output(items);
    let plan = binder.project_attached(plan, computed);
    binder.bound(plan, output)
}

impl<'a> Binder<'a> {
    pub(super) fn bound(self, plan: LogicalPlan, output: Vec<OutputColumn>) -> Result<Bound> {
        let Binder { columns, problems, notes, generic, steps, .. } = self;
        fail_with_all(problems)?;
        Ok(Bound { plan, output, columns, notes, generic, steps })
    }

    fn target(&self, name: &[ast::Ident], span: Span) -> Result<Target<'a>> {
        let (schema, table) = self.lookup(name).map_err(|problem| match self.find_view(name) {
            Some(view) => Error::from_facts(&ChangeProblem::IsView { name: view.name.clone() }).at(span),
            None => Error::from_facts(&problem).at(span),
        })?;
        let catalog = self.around.catalog;
        let stored = catalog.table(&schema, &table.name).and_then(|table| table.definition.as_deref());
        let Some(definition) = stored else {
            return Err(Error::from_facts(&ChangeProblem::NotStored { table: table.name }).at(span));
        };
        Ok(Target { schema, table, definition })
    }

    fn insert(
        &mut self,
        insert: &ast::Insert,
        target: &Target<'a>,
        span: Span,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let wanted = self.insert_columns(insert, target);
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
                let table =
                    Table { name: path.clone(), kind: crate::catalog::TableKind::File, source, definition: None };
                let (plan, scope) = self.scan(&table, None, path.clone());
                self.file_rows(plan, &scope.star, (&wanted, insert.columns.is_some()), (target, *span))?
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
    pub(super) fn insert_columns(&mut self, insert: &ast::Insert, target: &Target<'_>) -> Vec<usize> {
        let columns = &target.definition.columns;
        let Some(names) = &insert.columns else {
            return (0..columns.len()).filter(|at| !columns[*at].hidden).collect();
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

    pub(super) fn target_column(&mut self, name: &ast::Ident, target: &Target<'_>) -> Option<usize> {
        let columns = &target.definition.columns;
        let found = columns.iter().position(|column| name.matches(&column.name));
        if found.is_none() {
            let near = crate::diagnostic::nearest(&name.text, columns.iter().map(|column| column.name.as_str()));
            let problem = Problem::NoSuchColumn {
                name: name.text.clone(),
                tables: vec![target.table.name.clone()],
                near: near.map(str::to_owned),
                meant_text: false,
            };
            self.report(&problem, name.span);
        }
        found
    }

    /// VALUES with DEFAULT in it: each value is assigned to its column.
    fn given_rows(
        &mut self,
        rows: &[Vec<ast::Given>],
        wanted: &[usize],
        (target, insert, span): (&Target<'a>, &ast::Insert, Span),
    ) -> Result<(LogicalPlan, Vec<(usize, ColumnId)>)> {
        let mut bound = Vec::new();
        for row in rows {
            let first = row.first().map_or(span, |given| match given {
                ast::Given::Value(expr) => expr.span,
                ast::Given::Default(span) => *span,
            });
            if row.len() != wanted.len() {
                let columns = wanted.iter().map(|at| target.definition.columns[*at].name.clone()).collect();
                self.report(&ChangeProblem::Width { given: row.len(), wanted: wanted.len(), columns }, first);
                continue;
            }
            let mut values = Vec::new();
            for (at, given) in wanted.iter().zip(row) {
                let column = &target.definition.columns[*at];
                values.push(match given {
                    ast::Given::Default(span) => self.default_of(column, *span)?,
                    ast::Given::Value(expr) => {
                        self.refuse_own_value(column, insert, expr.span);
                        let value = self.expr(expr, &Scope::default(), Clause::Values)?;
                        self.assign(value, column)
                    }
                });
            }
            bound.push(values);
        }
        let ids: Vec<ColumnId> = wanted
            .iter()
            .map(|at| self.new_column(&target.definition.columns[*at].name, target.definition.columns[*at].sql_type))
            .collect();
        let plan = self.values_plan(ids.clone(), bound);
        Ok((plan, wanted.iter().copied().zip(ids).collect()))
    }

    fn refuse_generated(&mut self, wanted: &[usize], target: &Target<'_>, insert: &ast::Insert, span: Span) {
        for at in wanted {
            self.refuse_own_value(&target.definition.columns[*at], insert, span);
        }
    }

    pub(super) fn refuse_own_value(&mut self, column: &ColumnDefinition, insert: &ast::Insert, span: Span) {
        match &column.filled {
            Filled::Generated(_) => {
                self.report(&ChangeProblem::Generated { column: column.name.clone() }, span);
            }
            Filled::Identity(identity) if identity.always && insert.overriding.is_none() => {
                self.report(&ChangeProblem::IdentityAlways { column: column.name.clone() }, span);
            }
            _ => {}
        }
    }

    /// The columns of a query, assigned to those of the table.
    fn assigned(
        &mut self,
        plan: LogicalPlan,
        output: &[OutputColumn],
        (wanted, target, span): (&[usize], &Target<'_>, Span),
    ) -> Result<(LogicalPlan, Vec<(usize, ColumnId)>)> {
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
                convert(value, wanted.sql_type)
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
        let by_name = |column: &ScopeColumn| own.iter().position(|own| own.name.eq_ignore_ascii_case(&column.name));
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
            computed.push((id, convert(self.column(column.id, span), own[at].sql_type)));
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
                _ => self.default_of(column, Span::default()),
            };
            computed.push((id, value.unwrap_or_else(|_| null(column.sql_type))));
            ids.push(id);
        }
        let plan = plan.project(computed);
        self.generated(plan, ids, definition)
    }

    pub(super) fn generated(
        &mut self,
        plan: LogicalPlan,
        mut ids: Vec<ColumnId>,
        definition: &'a TableDefinition,
    ) -> (LogicalPlan, Vec<OutputColumn>) {
        let columns = definition.columns.iter().zip(&ids);
        let columns = columns.map(|(column, id)| ScopeColumn { name: column.name.clone(), id: *id }).collect();
        let scope =
            Scope::of(Relation { schema: None, name: String::new(), hidden_name: None, columns, keys: Vec::new() });
        let mut computed = Vec::new();
        for (at, column) in definition.columns.iter().enumerate() {
            let Filled::Generated(text) = &column.filled else { continue };
            let value = self.written(text, &scope).unwrap_or_else(|_| null(column.sql_type));
            let id = self.new_column(&column.name, column.sql_type);
            computed.push((id, convert(value, column.sql_type)));
            ids[at] = id;
        }
        let output = definition.columns.iter().zip(ids).map(|(column, id)| OutputColumn {
            name: column.name.clone(),
            id,
            sql_type: column.sql_type,
        });
        (plan.project(computed), output.collect())
    }

    pub(super) fn default_of(&mut self, column: &'a ColumnDefinition, span: Span) -> Result<Expr> {
        match &column.filled {
            Filled::Default(text) => {
                let value = self.written(text, &Scope::default()).map_err(|error| error.at(span))?;
                Ok(convert(value, column.sql_type))
            }
            _ => Ok(null(column.sql_type)),
        }
    }

    /// An expression that a definition keeps as text.
    pub(super) fn written(&mut self, text: &'a Written, scope: &Scope) -> Result<Expr> {
        let expr = expression_of(text)?;
        let source = std::mem::replace(&mut self.source, text);
        let bound = self.expr(&expr, scope, Clause::Definition);
        self.source = source;
        bound
    }

    /// A value on its way into a column: of a type that goes with the column's; whether it fits is seen when it is stored.
    pub(super) fn assign(&mut self, value: Expr, column: &ColumnDefinition) -> Expr {
        let (from, to) = (value.sql_type(), column.sql_type);
        if is_unsettled(&value) || from == SqlType::Null {
            return self.coerce(value, to);
        }
        if from.common(to).is_none() {
            let problem = ChangeProblem::NotAssignable { column: column.name.clone(), from, to };
            return self.report(&problem, value.span());
        }
        convert(value, to)
    }

    /// The rows of the table that fulfil a condition, with the place of each.
    pub(super) fn affected(
        &mut self,
        change: &ast::Change,
        condition: Option<&ast::Expr>,
        target: &Target<'_>,
    ) -> Result<(LogicalPlan, Scope, ColumnId)> {
        let name = change.alias.as_ref().map_or_else(|| target.table.name.clone(), |alias| alias.text.clone());
        let (mut plan, scope) = self.scan(&target.table, None, name);
        let info = ColumnInfo { qualifier: None, name: "place".into(), sql_type: SqlType::BigInt, origin: None };
        let place = self.columns.add(info);
        let any: &dyn Any = target.table.source.as_ref();
        if let (LogicalPlan::Scan(scan), Some(stored)) = (&mut plan, any.downcast_ref::<StoredTable>()) {
            scan.columns.push((place, stored.place_column()));
        }
        if let Some(condition) = condition {
            let bound = self.expr(condition, &scope, Clause::Where)?;
            let condition = self.condition(bound, "WHERE");
            plan = self.filter_attached(plan, condition);
        }
        Ok((plan, scope, place))
    }

    fn delete(
        &mut self,
        change: &ast::Change,
        condition: Option<&ast::Expr>,
        target: &Target<'_>,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let (plan, _, place) = self.affected(change, condition, target)?;
        let place = OutputColumn { name: "place".into(), id: place, sql_type: SqlType::BigInt };
        Ok((plan, vec![place], Meaning::Removed))
    }

    fn update(
        &mut self,
        change: &ast::Change,
        (set, condition): (&[ast::Assignment], Option<&ast::Expr>),
        target: &Target<'a>,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let (plan, scope, place) = self.affected(change, condition, target)?;
        let mut values: Vec<(usize, Expr)> = Vec::new();
        for assignment in set {
            for (at, value) in self.assignment(assignment, &scope, target)? {
                if values.iter().any(|(known, _)| *known == at) {
                    let column = target.definition.columns[at].name.clone();
                    self.report(&ChangeProblem::ColumnTwice { column }, assignment.columns[0].span);
                }
                values.push((at, value));
            }
        }
        let all = &scope.relations[0].columns;
        let mut ids: Vec<ColumnId> = all.iter().map(|column| column.id).collect();
        let mut computed = Vec::new();
        for (at, value) in values {
            let id = self.new_column(&all[at].name, value.sql_type());
            ids[at] = id;
            computed.push((id, value));
        }
        let plan = self.project_attached(plan, computed);
        let (plan, columns) = self.generated(plan, ids, target.definition);
        let place = OutputColumn { name: "place".into(), id: place, sql_type: SqlType::BigInt };
        let output = std::iter::once(place).chain(columns).collect();
        Ok((plan, output, Meaning::Replaced))
    }

    pub(super) fn assignment(
        &mut self,
        assignment: &ast::Assignment,
        scope: &Scope,
        target: &Target<'a>,
    ) -> Result<Vec<(usize, Expr)>> {
        let names = &assignment.columns;
        let places: Vec<usize> = names.iter().filter_map(|name| self.target_column(name, target)).collect();
        if places.len() != names.len() {
            return Ok(Vec::new());
        }
        let columns: Vec<&'a ColumnDefinition> = places.iter().map(|at| &target.definition.columns[*at]).collect();
        let span = names[0].span;
        let values = match &assignment.values {
            ast::Assigned::Each(given) => {
                let mut values = Vec::new();
                for (given, column) in given.iter().zip(&columns) {
                    values.push(match given {
                        ast::Given::Default(span) => self.default_of(column, *span)?,
                        ast::Given::Value(expr) => {
                            if matches!(column.filled, Filled::Generated(_)) {
                                self.report(&ChangeProblem::Generated { column: column.name.clone() }, expr.span);
                            }
                            self.expr(expr, scope, Clause::Set)?
                        }
                    });
                }
                (given.len() == columns.len()).then_some(values).ok_or(given.len())
            }
            ast::Assigned::Row(expr) => {
                let row = self.expr(expr, scope, Clause::Set)?;
                match row.sql_type() {
                    SqlType::Row(fields) if fields.len() == columns.len() => {
                        let field = |(at, field): (usize, &crate::types::RowField)| {
                            Expr::new(ExprKind::Field(Box::new(row.clone()), at), field.sql_type, span)
                        };
                        Ok(fields.iter().enumerate().map(field).collect())
                    }
                    SqlType::Row(fields) => Err(fields.len()),
                    _ => Err(1),
                }
            }
        };
        match values {
            Ok(values) => {
                let assigned = values.into_iter().zip(columns).map(|(value, column)| self.assign(value, column));
                let assigned: Vec<Expr> = assigned.collect();
                Ok(places.into_iter().zip(assigned).collect())
            }
            Err(given) => {
                let columns = columns.iter().map(|column| column.name.clone()).collect();
                self.report(&ChangeProblem::Width { given, wanted: places.len(), columns }, span);
                Ok(Vec::new())
            }
        }
    }
}

fn null(sql_type: SqlType) -> Expr {
    Expr::literal(Value::Null, sql_type, Span::default())
}
