//! ORDER BY, OFFSET and FETCH FIRST (clause 7.17).

use super::scope::{At, Clause, Relation, Scope, ScopeColumn};
use super::{Binder, OutputColumn, group::Grouping, problem::Problem};
use crate::diagnostic::{Result, SqlState};
use crate::logical::{ColumnId, Expr, ExprKind, SortKey};
use crate::syntax::ast;
use crate::types::{SqlType, Value};

/// What ORDER BY can refer to.
pub(super) struct SortContext<'s> {
    pub(super) scope: &'s Scope,
    pub(super) output: &'s [OutputColumn],
    /// The expressions after the output columns, as they are computed.
    pub(super) selected: &'s [(ColumnId, Expr)],
    pub(super) grouping: Option<&'s Grouping>,
    pub(super) distinct: bool,
}

/// The scope with the names of result columns that nothing in it has: `SELECT a + 1 AS x … ORDER BY -x` (clause 14.3).
fn with_results(context: &SortContext<'_>) -> Scope {
    let mut scope = context.scope.clone();
    let known = |name: &str| {
        let all = scope.relations.iter().flat_map(|relation| &relation.columns).chain(&scope.star);
        all.into_iter().any(|column| column.name.eq_ignore_ascii_case(name))
    };
    let results = context.output.iter().filter(|column| !known(&column.name));
    let columns: Vec<ScopeColumn> =
        results.map(|column| ScopeColumn { name: column.name.clone(), id: column.id }).collect();
    if !columns.is_empty() {
        let name = String::new();
        scope.relations.push(Relation::new(name, columns));
    }
    scope
}

impl Binder<'_> {
    /// One key of ORDER BY.
    pub(super) fn sort_key(&mut self, item: &ast::SortItem, context: &SortContext<'_>) -> Result<SortKey> {
        let expr = self.sort_expr(&item.expr, context)?;
        Ok(SortKey { expr, direction: item.direction, nulls: item.nulls })
    }

    /// A position or an alias means an output column; anything else is an expression over the rows before them.
    fn sort_expr(&mut self, expr: &ast::Expr, context: &SortContext<'_>) -> Result<Expr> {
        let span = expr.span;
        if let ast::ExprKind::Literal(Value::Integer(position), _) = expr.kind {
            let column = usize::try_from(position - 1).ok().and_then(|position| context.output.get(position));
            let problem = Problem::PositionOutOfRange { position, columns: context.output.len() };
            return Ok(match column {
                Some(column) => Expr::column(column.id, column.sql_type, span),
                None => self.report(&problem, span),
            });
        }
        if let ast::ExprKind::Name(name) = &expr.kind
            && let [name] = name.as_slice()
            && let Some(column) = context.output.iter().find(|column| name.matches(&column.name))
        {
            if context.output.iter().any(|other| name.matches(&other.name) && other.id != column.id) {
                let problem = Problem::AmbiguousAlias { name: name.text.clone() };
                return Ok(self.report(&problem, span));
            }
            return Ok(Expr::column(column.id, column.sql_type, span));
        }
        let mut bound = self.expr(expr, At { scope: &with_results(context), clause: Clause::OrderBy })?;
        if let Some(grouping) = context.grouping {
            bound = self.over_groups(bound, grouping)?;
        }
        if let Some((id, selected)) = context.selected.iter().find(|(_, selected)| selected.same_as(&bound)) {
            return Ok(Expr::column(*id, selected.sql_type(), span));
        }
        let selected = |id: &ColumnId| context.output.iter().any(|column| column.id == *id);
        if context.distinct && !bound.columns().iter().all(selected) {
            return Ok(self.report(&Problem::SortKeyNotSelected, span));
        }
        Ok(bound)
    }

    /// The count of OFFSET or FETCH FIRST; a parameter without a value counts as not limited.
    pub(super) fn row_count(&mut self, expr: &ast::Expr, what: &'static str, state: SqlState) -> Result<Option<u64>> {
        let bound = self.expr(expr, At { scope: &Scope::default(), clause: Clause::Fetch })?;
        let bound = self.coerce_count(bound);
        let span = bound.span();
        if let ExprKind::Parameter(_, None) = bound.kind() {
            return Ok(None);
        }
        if !self.problems.is_empty() {
            return Ok(None);
        }
        if let Value::Integer(count) = crate::kernel::evaluate_constant(&bound)?
            && count >= 0
        {
            Ok(u64::try_from(count).ok())
        } else {
            self.report(&Problem::BadCount { what, state }, span);
            Ok(None)
        }
    }

    fn coerce_count(&mut self, bound: Expr) -> Expr {
        if super::convert::is_unsettled(&bound) { self.settle_parameter(bound, SqlType::BigInt) } else { bound }
    }
}
