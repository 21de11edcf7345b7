//! GROUP BY: what may stand in the SELECT list, HAVING and ORDER BY of a grouped query (clauses 7.13 and 7.16).

use super::scope::{At, Clause, Scope};
use super::{Binder, problem::Problem};
use crate::collections::HashSet;
use crate::diagnostic::{Error, Result, Span};
use crate::logical::dependencies::Dependencies;
use crate::logical::{ColumnId, CteId, Expr, ExprKind, LogicalPlan};
use crate::syntax::ast;
use crate::types::SqlType;

/// The grouping of a query; expressions above it are rewritten over its columns.
#[derive(Debug)]
pub(super) struct Grouping {
    pub(super) keys: Vec<(ColumnId, Expr)>,
    /// Which keys each grouping set has, when there is more than the one of all keys.
    pub(super) sets: Option<Vec<Vec<usize>>>,
    /// The columns below the grouping.
    input: HashSet<ColumnId>,
    /// Columns that have one value in each group, since what is grouped by determines them.
    dependents: HashSet<ColumnId>,
    /// A key has a problem of its own, from which others would only follow.
    broken: bool,
}

impl Binder<'_> {
    /// The grouping, when the query has GROUP BY, HAVING or an aggregate anywhere.
    pub(super) fn grouping(
        &mut self,
        select: &ast::Select,
        scope: &Scope,
        plan: &LogicalPlan,
        order_by: &[ast::SortItem],
    ) -> Result<Option<Grouping>> {
        let sorts_by_aggregate = order_by.iter().any(|item| item.expr.any(&mut |expr| self.is_aggregate(expr)));
        let grouped = select.group_by.is_some()
            || select.having.is_some()
            || !self.level.aggregates.is_empty()
            || sorts_by_aggregate;
        if !grouped {
            return Ok(None);
        }
        let mut keys: Vec<(ColumnId, Expr)> = Vec::new();
        let mut sets = None;
        let problems = self.problems.len();
        if let Some(group_by) = &select.group_by {
            sets = self.grouping_sets(group_by, scope, &mut keys)?;
        }
        let input: HashSet<ColumnId> = plan.output().into_iter().collect();
        let grouped = keys.iter().map(|(id, _)| *id);
        let steps = |id: CteId| self.steps.get(id.0).map(|step| &step.plan);
        let determined = || Dependencies::of(plan, &steps).closure(grouped);
        let dependents = if sets.is_none() { determined() } else { HashSet::default() };
        Ok(Some(Grouping { keys, sets, input, dependents, broken: self.problems.len() > problems }))
    }

    /// The number of a grouping expression among the keys. A plain column stays itself, another expression gets a new column.
    pub(super) fn key(&mut self, key: &ast::Expr, scope: &Scope, keys: &mut Vec<(ColumnId, Expr)>) -> Result<usize> {
        self.note_constant_grouping(key);
        let bound = self.expr(key, At { scope, clause: Clause::GroupBy })?;
        let bound = if bound.sql_type() == SqlType::Null { self.coerce(bound, SqlType::TEXT) } else { bound };
        if let Some(known) = keys.iter().position(|(_, known)| known.same_as(&bound)) {
            return Ok(known);
        }
        let id = if let ExprKind::Column(id) = bound.kind()
            && !self.is_outer(*id)
        {
            *id
        } else {
            self.new_column(self.text(bound.span()), bound.sql_type())
        };
        keys.push((id, bound));
        Ok(keys.len() - 1)
    }

    /// `expr` over the columns of the grouping. A column that is neither a key nor inside an aggregate has many values in a
    /// group: that is reported.
    pub(super) fn over_groups(&mut self, expr: Expr, grouping: &Grouping) -> Result<Expr> {
        if let Some((id, key)) = grouping.keys.iter().find(|(_, key)| key.same_as(&expr)) {
            return Ok(Expr::column(*id, key.sql_type(), expr.span()));
        }
        if let ExprKind::Column(id) = expr.kind() {
            let id = *id;
            if self.over_group_column(id, grouping, expr.span()) { Ok(expr) } else { Ok(super::stand_in(expr.span())) }
        } else if let ExprKind::Subquery(subquery) = expr.kind() {
            let span = expr.span();
            for id in subquery.plan.free() {
                self.over_group_column(id, grouping, span);
            }
            expr.map_children(&mut |child| self.over_groups(child, grouping))
        } else {
            expr.map_children(&mut |child| self.over_groups(child, grouping))
        }
    }

    fn over_group_column(&mut self, id: ColumnId, grouping: &Grouping, span: Span) -> bool {
        if grouping.broken || !grouping.input.contains(&id) || grouping.keys.iter().any(|(key, _)| *key == id) {
            return true;
        }
        if grouping.dependents.contains(&id) {
            if !self.level.dependents.contains(&id) {
                self.level.dependents.push(id);
            }
            return true;
        }
        if !self.problems.iter().any(|problem| problem.span() == Some(span)) {
            let text = self.text(span).to_owned();
            let grouped = grouping.keys.iter().map(|(_, key)| self.text(key.span()).to_owned()).collect();
            self.problems.push(Error::from_facts(&Problem::NotGrouped { text, grouped }).at(span));
        }
        false
    }

    /// A call of an aggregate that is not a window function.
    fn is_aggregate(&self, expr: &ast::Expr) -> bool {
        use crate::logical::AggregateFunction as A;
        if let ast::ExprKind::Call(call) = &expr.kind {
            call.over.is_none()
                && (self.aggregate_function(&call.name.text).is_some()
                    || call.within_group && A::hypothetical(&call.name.text).is_some())
        } else {
            false
        }
    }
}
