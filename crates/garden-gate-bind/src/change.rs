//! INSERT, UPDATE and DELETE as queries: the rows that are to be added, and the places of those that go (clauses 14.9 to 14.14).

use super::assignment::numbered_anew;
use super::change_problem::ChangeProblem;
use super::convert::{convert, is_unsettled};
use super::definition::limited;
use super::period::Portion;
use super::scope::{At, Clause, Relation, Scope, ScopeColumn};
use super::updatable::{Levels, ViewChecks, view_checks, view_columns};
use super::{BindContext, Binder, Bound, OutputColumn, fail_with_all, problem::Problem};
use crate::catalog::{ColumnDefinition, Filled, Table, TableDefinition, TableSource, Written};
use crate::diagnostic::{Error, Result, SourceText, Span};
use crate::logical::{ColumnId, ColumnInfo, Expr, ExprKind, LogicalPlan};
use crate::storage::StoredTable;
use crate::syntax::{ast, expression_of};
use crate::types::{SqlType, Value, Zone};
use std::any::Any;
use std::sync::Arc;

/// A change that is bound: a query, and what its rows mean.
#[derive(Debug)]
pub struct BoundChange {
    pub schema: String,
    pub table: String,
    pub rows: Bound,
    pub meaning: Meaning,
    /// What CHECK OPTION asks of new rows.
    pub checks: ViewChecks,
    /// The columns that can be given a value, as the change names them, with their places in the table.
    pub columns: Vec<(String, usize)>,
}

/// What the rows of a bound change are.
#[derive(Clone, Debug, PartialEq)]
pub enum Meaning {
    /// New rows, all columns in order; where one of `numbered` is NULL, the database numbers it.
    Added { numbered: Vec<usize>, duplicates: ast::Duplicates },
    /// The place of a row, then all its columns as they will be; where one of `numbered` is NULL, the database numbers it.
    Replaced { numbered: Vec<usize>, portion: Option<Portion> },
    /// What is done, as [`done`](super::done), the place of a row, then all its columns as they will be. NULL in one of `numbered` is
    /// numbered in new rows, in one of `renumbered` in rows that are updated too.
    Merged { numbered: Vec<usize>, renumbered: Vec<usize> },
    /// The place of a row.
    Removed { portion: Option<Portion> },
}

impl Meaning {
    /// The portion of a period that the change is about.
    pub fn portion(&self) -> Option<&Portion> {
        match self {
            Self::Replaced { portion, .. } | Self::Removed { portion } => portion.as_ref(),
            Self::Added { .. } | Self::Merged { .. } => None,
        }
    }
}

/// The table that a change is about.
#[derive(Clone)]
pub(super) struct Target<'a> {
    schema: String,
    table: Table,
    pub(super) definition: &'a TableDefinition,
    /// The views through which it is changed, the lowest first.
    pub(super) levels: Levels<'a>,
    /// The columns as the change names them, with their places in the table; one that is computed has none.
    pub(super) shown: Vec<(String, Option<usize>)>,
}

impl Target<'_> {
    /// The name of the view or table as the change has it.
    pub(super) fn shown_name(&self) -> String {
        self.levels.last().map_or_else(|| self.table.name.clone(), |level| level.view.name.clone())
    }

    /// An error when the change goes through a view.
    pub(super) fn refuse_view(&self, what: &'static str, span: Span) -> Result<()> {
        if self.levels.is_empty() {
            return Ok(());
        }
        Err(Error::from_facts(&ChangeProblem::IsView { name: self.shown_name(), what }).at(span))
    }
}

/// The rows that a change is about.
pub(super) struct Affected {
    pub(super) plan: LogicalPlan,
    /// What names mean.
    pub(super) scope: Scope,
    pub(super) place: ColumnId,
    /// The columns of the table.
    pub(super) own: Vec<ScopeColumn>,
}

/// Binds a change.
///
/// # Errors
/// As [`super::bind_query`]; 42000 when the table can't be changed, or values and columns do not fit.
pub fn bind_change(change: &ast::Change, source: &SourceText, around: &BindContext<'_>) -> Result<BoundChange> {
    let mut binder = Binder::new(source, around);
    let target = binder.target(&change.table, change.span)?;
    if let Some(with) = &change.with {
        binder.with(with)?;
    }
    let every_row = match &change.kind {
        ast::ChangeKind::Update { condition: None, .. } => Some("updated"),
        ast::ChangeKind::Delete { condition: None, .. } => Some("deleted"),
        ast::ChangeKind::Insert(_)
        | ast::ChangeKind::Update { .. }
        | ast::ChangeKind::Delete { .. }
        | ast::ChangeKind::Truncate { .. }
        | ast::ChangeKind::Merge(_) => None,
    };
    if let Some(verb) = every_row {
        binder.note_every_row(verb, &target.table.name, change.span);
    }
    let (plan, output, meaning) = match &change.kind {
        ast::ChangeKind::Insert(insert) => binder.insert(insert, &target, change.span)?,
        ast::ChangeKind::Update { portion, set, condition } => {
            binder.update(change, (portion.as_ref(), set, condition.as_ref()), &target)?
        }
        ast::ChangeKind::Delete { portion, condition } => {
            binder.delete(change, (portion.as_ref(), condition.as_ref()), &target)?
        }
        ast::ChangeKind::Truncate { .. } => {
            target.refuse_view("TRUNCATE", change.span)?;
            binder.refuse_truncate(&target, change.span)?;
            binder.delete(change, (None, None), &target)?
        }
        ast::ChangeKind::Merge(merge) => binder.merge(change, merge, &target)?,
    };
    let checks = view_checks(&target, around).map_err(|error| error.at(change.span))?;
    let columns = target.shown.iter().filter_map(|(name, at)| Some((name.clone(), (*at)?))).collect();
    let (schema, table) = (target.schema, target.table.name);
    Ok(BoundChange { schema, table, rows: binder.bound(plan, output)?, meaning, checks, columns })
}

/// Binds RETURNING over a source whose columns are those of the table as they are now, then as they were.
///
/// # Errors
/// As [`super::bind_query`].
pub fn bind_returning(
    change: &ast::Change,
    items: &[ast::SelectItem],
    source: &SourceText,
    (around, rows): (&BindContext<'_>, Arc<dyn TableSource>),
) -> Result<Bound> {
    let mut binder = Binder::new(source, around);
    let target = binder.target(&change.table, change.span)?;
    let name = change.alias.as_ref().map_or_else(|| target.shown_name(), |alias| alias.text.clone());
    let changed = Table { source: rows, ..target.table.clone() };
    let (plan, scope) = binder.scan(&changed, None, name.clone());
    let all = scope.relations.into_iter().next().map(|relation| relation.columns).unwrap_or_default();
    let (new, old) = all.split_at(all.len() / 2);
    let removed = matches!(change.kind, ast::ChangeKind::Delete { .. } | ast::ChangeKind::Truncate { .. });
    let relation = |name: &str, columns: &[ScopeColumn]| Relation::new(name.to_owned(), columns.to_vec());
    let named = |columns: &[ScopeColumn]| -> Vec<ScopeColumn> {
        let of = |(name, at): &(String, Option<usize>)| {
            at.map(|at| ScopeColumn { name: name.clone(), ..columns[at].clone() })
        };
        target.shown.iter().filter_map(of).collect()
    };
    let (new, old) = (named(new), named(old));
    let shown = if removed { &old } else { &new };
    let hidden = |column: &&ScopeColumn| {
        target.levels.is_empty()
            && target.definition.columns.iter().any(|known| known.name == column.name && known.hidden)
    };
    let scope = Scope {
        star: shown.iter().filter(|column| !hidden(column)).cloned().collect(),
        relations: vec![relation(&name, shown), relation("NEW", &new), relation("OLD", &old)],
    };
    let select = ast::Select::plain(items.to_vec(), Vec::new(), Span::default());
    let items = binder.items(&select, &scope)?;
    let (computed, output) = binder.output(items);
    let plan = binder.project_attached(plan, computed);
    binder.bound(plan, output)
}

impl<'a> Binder<'a> {
    /// Rows in the place of those of the table that is changed.
    pub(super) fn new_rows(&mut self, target: &Target<'a>, rows: &Arc<dyn TableSource>) -> (LogicalPlan, Scope) {
        let changed = Table { source: Arc::clone(rows), ..target.table.clone() };
        self.scan(&changed, None, target.shown_name())
    }

    /// What was bound.
    ///
    /// # Errors
    /// The problems that were found, the first with the others beside it.
    pub(super) fn bound(mut self, plan: LogicalPlan, output: Vec<OutputColumn>) -> Result<Bound> {
        let guide = self.take_guide();
        let Binder { columns, problems, notes, generic, steps, .. } = self;
        fail_with_all(problems)?;
        Ok(Bound { plan, output, columns, notes, generic, steps, guide })
    }

    /// The table that a change is of: itself, or that of an updatable view.
    pub(super) fn target(&self, name: &[ast::Ident], span: Span) -> Result<Target<'a>> {
        let (levels, schema, table) = match (self.lookup(name), self.find_view(name)) {
            (Ok((schema, table)), _) => (Vec::new(), schema, table),
            (Err(_), Some(view)) => {
                let (levels, within, below) = self.levels(view, span)?;
                let mut inside = Binder::new(self.source, self.around);
                inside.schema = within;
                let found = inside.lookup(&below).map_err(|problem| Error::from_facts(&problem).at(span))?;
                (levels, found.0, found.1)
            }
            (Err(problem), None) => return Err(super::table::about_name(&problem, name, span)),
        };
        let catalog = self.around.catalog;
        let stored = catalog.table(&schema, &table.name).and_then(|table| table.definition.as_deref());
        let Some(definition) = stored else {
            return Err(Error::from_facts(&ChangeProblem::NotStored { table: table.name }).at(span));
        };
        let shown = if levels.is_empty() {
            definition.columns.iter().enumerate().map(|(at, column)| (column.name.clone(), Some(at))).collect()
        } else {
            view_columns(&levels, definition, self.around).map_err(|error| {
                let view = name.last().map_or("", |name| name.text.as_str());
                Error::new(error.sqlstate(), format!("view {view:?} no longer works: {}", error.message())).at(span)
            })?
        };
        Ok(Target { schema, table, definition, levels, shown })
    }

    /// The place of a column that a change gives a value.
    pub(super) fn target_column(&mut self, name: &ast::Ident, target: &Target<'_>) -> Option<usize> {
        let Some((column, place)) = target.shown.iter().find(|(known, _)| name.matches(known)) else {
            let near = crate::diagnostic::nearest(&name.text, target.shown.iter().map(|(name, _)| name.as_str()));
            let problem = Problem::NoSuchColumn {
                name: name.text.clone(),
                tables: vec![target.shown_name()],
                near: near.map(str::to_owned),
                meant_text: false,
            };
            self.report(&problem, name.span);
            return None;
        };
        if place.is_none() {
            self.report(
                &ChangeProblem::ComputedColumn { column: column.clone(), view: target.shown_name() },
                name.span,
            );
        }
        *place
    }

    /// The rows with the values of GENERATED columns, which are computed from the others.
    pub(super) fn generated(
        &mut self,
        plan: LogicalPlan,
        mut ids: Vec<ColumnId>,
        definition: &'a TableDefinition,
    ) -> (LogicalPlan, Vec<OutputColumn>) {
        let mut held = Vec::new();
        for (at, column) in definition.columns.iter().enumerate() {
            if column.limit.is_none() || matches!(column.filled, Filled::Generated(_)) {
                continue;
            }
            let id = self.new_column(&column.name, column.sql_type);
            held.push((id, limited(Expr::column(ids[at], column.sql_type, Span::default()), column)));
            ids[at] = id;
        }
        let plan = plan.project(held);
        let columns = definition.columns.iter().zip(&ids);
        let columns = columns.map(|(column, id)| ScopeColumn { name: column.name.clone(), id: *id }).collect();
        let scope = Scope::of(Relation::new(String::new(), columns));
        let mut computed = Vec::new();
        for (at, column) in definition.columns.iter().enumerate() {
            let Filled::Generated(text) = &column.filled else { continue };
            let value = self.written(text, &scope).unwrap_or_else(|_| null(column.sql_type));
            let id = self.new_column(&column.name, column.sql_type);
            computed.push((id, limited(convert(value, column.sql_type), column)));
            ids[at] = id;
        }
        let output = definition.columns.iter().zip(ids).map(|(column, id)| OutputColumn {
            name: column.name.clone(),
            id,
            sql_type: column.sql_type,
        });
        (plan.project(computed), output.collect())
    }

    /// The value of a column that a statement gives none for.
    pub(super) fn default_of(&mut self, column: &'a ColumnDefinition, span: Span) -> Result<Expr> {
        match &column.filled {
            Filled::Default(text) => {
                let value = self.written_in(self.zone, text, &Scope::default()).map_err(|error| error.at(span))?;
                Ok(self.convert(value, column.sql_type))
            }
            Filled::Null | Filled::Identity(_) | Filled::Generated(_) | Filled::RowStart | Filled::RowEnd => {
                Ok(null(column.sql_type))
            }
        }
    }

    /// An expression that a definition keeps as text: of a row the same in every session, so times without zone are those of UTC.
    pub(super) fn written(&mut self, text: &'a Written, scope: &Scope) -> Result<Expr> {
        self.written_in(Zone::UTC, text, scope)
    }

    fn written_in(&mut self, zone: Zone, text: &'a Written, scope: &Scope) -> Result<Expr> {
        let expr = expression_of(text)?;
        let zone = std::mem::replace(&mut self.zone, zone);
        let source = std::mem::replace(&mut self.source, text);
        let bound = self.expr(&expr, At { scope, clause: Clause::Definition });
        self.source = source;
        self.zone = zone;
        bound
    }

    /// A value on its way into a column: of a type that goes with the column's; whether it fits is seen when it is stored.
    pub(super) fn assign(&mut self, value: Expr, column: &ColumnDefinition) -> Expr {
        self.assign_as(value, column.sql_type, &column.name)
    }

    /// A value as one of the type of what it is assigned to.
    pub(super) fn assign_as(&mut self, value: Expr, to: SqlType, column: &str) -> Expr {
        let from = value.sql_type();
        if is_unsettled(&value) || from == SqlType::Null {
            return self.coerce(value, to);
        }
        if matches!(value.kind(), ExprKind::Array(elements) if elements.is_empty()) && matches!(to, SqlType::Array(_)) {
            // An array without elements is one of any type.
            return Expr::new(ExprKind::Array(Vec::new()), to, value.span());
        }
        if from.common(to).is_none() {
            let problem = ChangeProblem::NotAssignable { column: column.to_owned(), from, to };
            return self.report(&problem, value.span());
        }
        self.convert(value, to)
    }

    /// The rows of the table that fulfil a condition, with the place of each.
    pub(super) fn affected(
        &mut self,
        change: &ast::Change,
        condition: Option<&ast::Expr>,
        target: &Target<'a>,
    ) -> Result<Affected> {
        let name = change.alias.as_ref().map_or_else(|| target.shown_name(), |alias| alias.text.clone());
        let (mut plan, mut scope) = self.scan(&target.table, None, name.clone());
        let own = scope.relations[0].columns.clone();
        let info = ColumnInfo::computed("place", SqlType::BigInt);
        let place = self.columns.add(info);
        let any: &dyn Any = target.table.source.as_ref();
        if let (LogicalPlan::Scan(scan), Some(stored)) = (&mut plan, any.downcast_ref::<StoredTable>()) {
            scan.columns.push((place, stored.place_column()));
        }
        if !target.levels.is_empty() {
            let seen = self.through(&target.levels, &own)?;
            for condition in seen.conditions.into_iter().flatten() {
                plan = self.filter_attached(plan, condition);
            }
            plan = self.project_attached(plan, seen.computed.into_iter().collect());
            let columns = seen.columns.into_iter().map(|column| ScopeColumn { name: column.name, id: column.id });
            let columns = columns.collect();
            scope = Scope::of(Relation::new(name, columns));
        }
        if let Some(condition) = condition {
            let bound = self.expr(condition, At { scope: &scope, clause: Clause::Where })?;
            let condition = self.condition(bound, "WHERE");
            plan = self.filter_attached(plan, condition);
        }
        Ok(Affected { plan, scope, place, own })
    }

    fn delete(
        &mut self,
        change: &ast::Change,
        (portion, condition): (Option<&ast::Portion>, Option<&ast::Expr>),
        target: &Target<'a>,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let Affected { mut plan, place, own, .. } = self.affected(change, condition, target)?;
        let portion = self.narrowed(portion, (&mut plan, &own), target)?;
        let place = OutputColumn { name: "place".into(), id: place, sql_type: SqlType::BigInt };
        Ok((plan, vec![place], Meaning::Removed { portion }))
    }

    fn update(
        &mut self,
        change: &ast::Change,
        (portion, set, condition): (Option<&ast::Portion>, &[ast::Assignment], Option<&ast::Expr>),
        target: &Target<'a>,
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Meaning)> {
        let Affected { mut plan, scope, place, own } = self.affected(change, condition, target)?;
        let portion = self.narrowed(portion, (&mut plan, &own), target)?;
        let mut values: Vec<(usize, Expr)> = Vec::new();
        for assignment in set {
            for (at, value) in self.assignment(assignment, &scope, (target, &own))? {
                self.refuse_twice(at, &values, (assignment, target));
                if portion.as_ref().is_some_and(|portion| at == portion.start || at == portion.end) {
                    let column = target.definition.columns[at].name.clone();
                    self.report(&ChangeProblem::PortionEnd { column }, assignment.columns[0].span);
                }
                values.push((at, value));
            }
        }
        let all = &own;
        let mut ids: Vec<ColumnId> = all.iter().map(|column| column.id).collect();
        if let Some(portion) = &portion {
            values.extend(self.cut(portion, &ids, change.span));
        }
        let mut computed = Vec::new();
        for (at, value) in values {
            let id = self.new_column(&all[at].name, value.sql_type());
            ids[at] = id;
            computed.push((id, value));
        }
        let plan = self.with_next_values(plan);
        let plan = self.project_attached(plan, computed);
        let (plan, columns) = self.generated(plan, ids, target.definition);
        let place = OutputColumn { name: "place".into(), id: place, sql_type: SqlType::BigInt };
        let output = std::iter::once(place).chain(columns).collect();
        let numbered = numbered_anew(set, target);
        Ok((plan, output, Meaning::Replaced { numbered, portion }))
    }
}

/// NULL as a value of a type.
pub(super) fn null(sql_type: SqlType) -> Expr {
    Expr::literal(Value::Null, sql_type, Span::default())
}
