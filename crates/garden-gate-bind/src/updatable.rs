//! Changes through views (clauses 4.15.2 and 11.32): a view that shows rows of one table, each once, stands for the table with other
//! names, and with a condition that CHECK OPTION holds new rows to.

use super::change::Target;
use super::change_problem::ChangeProblem;
use super::definition::in_slots;
use super::scope::{At, Clause, Relation, Scope, ScopeColumn};
use super::{BindContext, Binder, Bound, OutputColumn, fail_with_all, view::MOST_VIEWS};
use crate::catalog::{Catalog, TableDefinition, TableSource, View, ViewCheck};
use crate::collections::HashMap;
use crate::diagnostic::{Error, Result, SourceText, Span};
use crate::logical::{AggregateFunction, ColumnId, Expr, ExprKind, Test};
use crate::syntax::{Script, ast};
use crate::types::SqlType;
use std::sync::Arc;

/// The views between a name and the table that is changed, the lowest first.
pub(super) type Levels<'a> = Vec<Level<'a>>;

/// A view with the parts of its query.
#[derive(Clone)]
pub(super) struct Level<'a> {
    pub(super) view: &'a View,
    select: Arc<ast::Select>,
    /// The name of the table or view below, as the query calls it.
    below: String,
}

/// A column of a view, and which column of the table it is; `None` for one that is computed.
#[derive(Clone, Debug)]
pub(super) struct ViewColumn {
    pub(super) name: String,
    pub(super) id: ColumnId,
    pub(super) base: Option<usize>,
}

/// What the views make of the columns of the table.
pub(super) struct ViewColumns {
    /// The columns of the uppermost view.
    pub(super) columns: Vec<ViewColumn>,
    /// For each view its condition, over columns of the table.
    pub(super) conditions: Vec<Option<Expr>>,
    /// Columns that are computed, over columns of the table.
    pub(super) computed: HashMap<ColumnId, Expr>,
}

impl<'a> Binder<'a> {
    /// The views from a view down to its table, and the name of that.
    pub(super) fn levels(&self, view: &'a View, span: Span) -> Result<(Levels<'a>, &'a str, Vec<ast::Ident>)> {
        let mut levels = Vec::new();
        let mut view = view;
        loop {
            let refuse = |reason: &'static str| {
                Error::from_facts(&ChangeProblem::NotUpdatable { name: view.name.clone(), reason }).at(span)
            };
            if levels.len() >= MOST_VIEWS {
                return Err(refuse("it goes through too many others"));
            }
            let (select, below, name) = simple(view, self.around.catalog).map_err(refuse)?;
            levels.insert(0, Level { view, select: Arc::new(select), below });
            match self.view_of(&name, &view.schema) {
                Some(next) if !self.is_table(&name, &view.schema) => view = next,
                _ => return Ok((levels, &view.schema, name)),
            }
        }
    }

    fn is_table(&self, name: &[ast::Ident], schema: &str) -> bool {
        let schemas = self.around.catalog.schemas.iter();
        let (wanted, table) = match name {
            [table] => (None, table),
            [schema, table] => (Some(schema), table),
            _ => return false,
        };
        let mut fitting = schemas.filter(|known| wanted.map_or(known.name == schema, |w| w.matches(&known.name)));
        fitting.any(|schema| schema.tables.iter().any(|known| table.matches(&known.name)))
    }

    /// The columns and conditions of views over the columns of their table.
    pub(super) fn through(&mut self, levels: &[Level<'a>], base: &[ScopeColumn]) -> Result<ViewColumns> {
        let base = base.iter().enumerate();
        let base = base.map(|(at, column)| ViewColumn { name: column.name.clone(), id: column.id, base: Some(at) });
        let mut seen = ViewColumns { columns: base.collect(), conditions: Vec::new(), computed: HashMap::default() };
        for level in levels {
            let (source, schema) = (&*level.view.query, &*level.view.schema);
            let source = std::mem::replace(&mut self.source, source);
            let schema = std::mem::replace(&mut self.schema, schema);
            let outer = std::mem::take(&mut self.outer);
            let result = self.level_seen(level, &mut seen);
            (self.source, self.schema, self.outer) = (source, schema, outer);
            result?;
        }
        Ok(seen)
    }

    fn level_seen(&mut self, level: &Level<'a>, seen: &mut ViewColumns) -> Result<()> {
        // Columns that came to the table after the view was made are none of its own.
        if let [known] = level.view.known.as_slice() {
            seen.columns.retain(|column| known.columns.contains(&column.name));
        }
        let columns = seen.columns.iter().map(|column| ScopeColumn { name: column.name.clone(), id: column.id });
        let columns = columns.collect();
        let name = level.below.clone();
        let scope = Scope::of(Relation::new(name, columns));
        let condition = match &level.select.where_ {
            Some(condition) => {
                let bound = self.expr(condition, At { scope: &scope, clause: Clause::Where })?;
                let bound = self.condition(bound, "WHERE");
                Some(bound.replace_columns(&|id| seen.computed.get(&id).cloned()))
            }
            None => None,
        };
        seen.conditions.push(condition);
        let mut shown: Vec<ViewColumn> = Vec::new();
        for item in &level.select.items {
            let ast::SelectItem::Expr { expr, .. } = item else {
                shown.extend(seen.columns.iter().cloned());
                continue;
            };
            let bound = self.expr(expr, At { scope: &scope, clause: Clause::Select })?;
            let bound = bound.replace_columns(&|id| seen.computed.get(&id).cloned());
            let known = as_column(&bound).and_then(|id| seen.columns.iter().find(|column| column.id == id));
            shown.push(match known {
                Some(known) => known.clone(),
                None => {
                    let id = self.new_column("", bound.sql_type());
                    seen.computed.insert(id, bound);
                    ViewColumn { name: String::new(), id, base: None }
                }
            });
        }
        for (column, name) in shown.iter_mut().zip(&level.view.columns) {
            column.name.clone_from(name);
        }
        seen.columns = shown;
        Ok(())
    }
}

/// The columns of the uppermost view under their names, each with its place in the table.
pub(super) fn view_columns(
    levels: &Levels<'_>,
    definition: &TableDefinition,
    around: &BindContext<'_>,
) -> Result<Vec<(String, Option<usize>)>> {
    let nothing = SourceText::new(String::new());
    let mut binder = Binder::new(&nothing, around);
    let scope = binder.row_scope(definition);
    let seen = binder.through(levels, &scope.relations[0].columns)?;
    fail_with_all(binder.problems)?;
    Ok(seen.columns.into_iter().map(|column| (column.name, column.base)).collect())
}

/// What CHECK OPTION asks of new rows.
#[derive(Debug, Default)]
pub struct ViewChecks {
    /// Conditions over batches of all columns of the table, with the names of their views.
    pub plain: Vec<(String, Expr)>,
    /// Whether there are conditions with queries as well: [`bind_hidden_rows`] looks for rows that break them.
    pub with_queries: bool,
}

/// The conditions that new rows of the table must fulfil for CHECK OPTION.
///
/// # Errors
/// Whatever is wrong with a view.
pub(super) fn view_checks(target: &Target<'_>, around: &BindContext<'_>) -> Result<ViewChecks> {
    let mut checks = ViewChecks::default();
    if target.levels.iter().all(|level| level.view.check.is_none()) {
        return Ok(checks);
    }
    let nothing = SourceText::new(String::new());
    let mut binder = Binder::new(&nothing, around);
    // The columns of the row are the first of the statement: their numbers are their places.
    let scope = binder.row_scope(target.definition);
    let seen = binder.through(&target.levels, &scope.relations[0].columns)?;
    fail_with_all(binder.problems)?;
    for (view, condition) in checked(&target.levels, seen) {
        if condition.has_subquery() {
            checks.with_queries = true;
        } else {
            checks.plain.push((view, in_slots(condition, target.definition)));
        }
    }
    Ok(checks)
}

/// The conditions that CHECK OPTION holds rows to, the uppermost view's first.
fn checked(levels: &[Level<'_>], seen: ViewColumns) -> Vec<(String, Expr)> {
    let mut all = false;
    let mut found = Vec::new();
    for (level, condition) in levels.iter().zip(seen.conditions).rev() {
        let counts = all || level.view.check.is_some();
        all |= level.view.check == Some(ViewCheck::Cascaded);
        found.extend(condition.filter(|_| counts).map(|condition| (level.view.name.clone(), condition)));
    }
    found
}

/// For each condition with queries that CHECK OPTION asks for, a query for those of `rows` that break it.
///
/// # Errors
/// Whatever is wrong with a view.
pub fn bind_hidden_rows(
    change: &ast::Change,
    (around, rows): (&BindContext<'_>, &Arc<dyn TableSource>),
) -> Result<Vec<(String, Bound)>> {
    let nothing = SourceText::new(String::new());
    let mut queries = Vec::new();
    // Each condition has a query of its own, since a binder makes one.
    for number in 0.. {
        let mut binder = Binder::new(&nothing, around);
        let target = binder.target(&change.table, change.span)?;
        let (plan, scope) = binder.new_rows(&target, rows);
        let columns = &scope.relations[0].columns;
        let seen = binder.through(&target.levels, columns)?;
        let mut conditions = checked(&target.levels, seen).into_iter().filter(|(_, held)| held.has_subquery());
        let Some((view, condition)) = conditions.nth(number) else { break };
        let span = condition.span();
        let shown = Expr::new(ExprKind::Is(Box::new(condition), Test::True), SqlType::Boolean, span);
        let plan = binder.filter_attached(plan, shown.negated(true));
        let output = columns.iter().zip(&target.definition.columns).map(|(column, defined)| OutputColumn {
            name: column.name.clone(),
            id: column.id,
            sql_type: defined.sql_type,
        });
        let output = output.collect();
        queries.push((view, binder.bound(plan, output)?));
    }
    Ok(queries)
}

/// Finds what is wrong with CHECK OPTION on a view.
///
/// # Errors
/// 42000 when rows can't be changed through it.
pub fn check_view_option(name: &[ast::Ident], span: Span, around: &BindContext<'_>) -> Result<()> {
    let nothing = SourceText::new(String::new());
    let target = Binder::new(&nothing, around).target(name, span)?;
    view_checks(&target, around).map(|_| ()).map_err(|error| error.at(span))
}

/// Whether rows can be changed through a view, as far as its own query tells.
pub(super) fn is_simple(view: &View, catalog: &Catalog) -> bool {
    simple(view, catalog).is_ok()
}

/// The query of a view through which rows can be changed, with what the table below is called in it, and its name; else the reason.
fn simple(view: &View, catalog: &Catalog) -> std::result::Result<(ast::Select, String, Vec<ast::Ident>), &'static str> {
    let mut script = Script::new(Arc::clone(&view.query));
    let Some(Ok(ast::Statement { kind: ast::StatementKind::Query(query), .. })) = script.next_statement() else {
        return Err("its text is not a query");
    };
    if query.with.is_some() || query.offset.is_some() || query.fetch.is_some() {
        return Err("it has WITH, OFFSET or FETCH");
    }
    let select = match query.body {
        ast::QueryBody::Select(select) => *select,
        ast::QueryBody::Values(_)
        | ast::QueryBody::Table(..)
        | ast::QueryBody::SetOperation(_)
        | ast::QueryBody::Nested(_) => return Err("it is not a plain SELECT"),
    };
    if select.distinct.is_some() || select.group_by.is_some() || select.having.is_some() {
        return Err("its rows are no rows of a table: it has DISTINCT, GROUP BY or HAVING");
    }
    let [ast::TableExpr::Named { name, alias, .. }] = select.from.as_slice() else {
        return Err("it does not read just one table");
    };
    if alias.columns.is_some() {
        return Err("it gives the columns of its table other names in FROM");
    }
    let mut grouped = |expr: &ast::Expr| {
        if let ast::ExprKind::Call(call) = &expr.kind {
            call.over.is_some()
                || AggregateFunction::from_name(&call.name.text).is_some()
                || catalog.program_aggregate(&call.name.text).is_some()
        } else {
            matches!(expr.kind, ast::ExprKind::Subquery(_))
        }
    };
    let exprs = select.items.iter().filter_map(|item| match item {
        ast::SelectItem::Expr { expr, .. } => Some(expr),
        ast::SelectItem::All(_) | ast::SelectItem::AllOf(..) => None,
    });
    if exprs.into_iter().any(|expr| expr.any(&mut grouped)) {
        return Err("its SELECT list has aggregates, windows or queries");
    }
    let below = alias.name.as_ref().or(name.last()).map_or_else(String::new, |name| name.text.clone());
    let name = name.clone();
    Ok((select, below, name))
}

fn as_column(expr: &Expr) -> Option<ColumnId> {
    if let ExprKind::Column(id) = expr.kind() { Some(*id) } else { None }
}
