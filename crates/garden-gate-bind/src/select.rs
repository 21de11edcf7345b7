//! One SELECT: from FROM to FETCH FIRST.

use super::group::Grouping;
use super::order::SortContext;
use super::scope::{At, Clause, Scope};
use super::{Binder, OutputColumn, problem::Problem};
use crate::diagnostic::{Result, Span};
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan, SortKey};
use crate::syntax::ast;
use crate::types::{SqlType, TypeLimit};

/// An item of the SELECT list after `*` is spelt out.
pub(super) struct Item {
    name: String,
    expr: Expr,
    limit: Option<TypeLimit>,
}

impl Binder<'_> {
    /// One SELECT: its rows, and the keys by which ORDER BY wants them sorted.
    pub(super) fn select(
        &mut self,
        select: &ast::Select,
        order_by: &[ast::SortItem],
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Vec<SortKey>)> {
        let around = std::mem::take(&mut self.level);
        let result = self.select_level(select, order_by);
        self.level = around;
        result
    }

    fn select_level(
        &mut self,
        select: &ast::Select,
        order_by: &[ast::SortItem],
    ) -> Result<(LogicalPlan, Vec<OutputColumn>, Vec<SortKey>)> {
        self.define_windows(&select.windows)?;
        self.level.from = if select.from.is_empty() { Span::default() } else { select.from_span };
        let (mut plan, scope) = self.from(&select.from)?;
        self.remember_aliases(select, &scope);
        if let Some(condition) = &select.where_ {
            let bound = self.expr(condition, At { scope: &scope, clause: Clause::Where })?;
            let condition = self.condition(bound, "WHERE");
            plan = self.filter_attached(plan, condition);
        }
        self.note_cross_product(select, &plan, &scope);
        let items = self.items(select, &scope)?;
        let having = match &select.having {
            Some(having) => {
                let bound = self.expr(having, At { scope: &scope, clause: Clause::Having })?;
                Some(self.condition(bound, "HAVING"))
            }
            None => None,
        };
        let grouping = self.grouping(select, &scope, &plan, order_by)?;
        let items = match &grouping {
            Some(grouping) => self.items_over_groups(items, grouping)?,
            None => items,
        };
        let (computed, output) = self.output(items);
        let context = SortContext {
            scope: &scope,
            output: &output,
            selected: &computed,
            grouping: grouping.as_ref(),
            distinct: select.distinct.is_some(),
        };
        let keys = order_by.iter().map(|item| self.sort_key(item, &context)).collect::<Result<Vec<_>>>()?;
        self.check_unused_windows(&scope)?;
        self.check_groupings(grouping.as_ref());
        plan = self.group_and_window(plan, grouping, having)?;
        plan = self.project_attached(plan, computed);
        let (sorts, exprs): (Vec<_>, Vec<_>) =
            keys.into_iter().map(|key| ((key.direction, key.nulls), key.expr)).unzip();
        let (mut plan, exprs) = self.attach_all(plan, exprs);
        let keys = sorts.into_iter().zip(exprs).map(|((direction, nulls), expr)| SortKey { expr, direction, nulls });
        let keys = keys.collect();
        if let Some(span) = select.distinct {
            let mut columns: Vec<ColumnId> = output.iter().map(|column| column.id).collect();
            columns.sort_unstable();
            columns.dedup();
            self.note_needless_distinct(span, &plan, &columns);
            plan = LogicalPlan::Distinct { input: Box::new(plan), columns };
        }
        Ok((plan, output, keys))
    }

    /// The grouping with HAVING, then the windows over what is left.
    fn group_and_window(
        &mut self,
        mut plan: LogicalPlan,
        grouping: Option<Grouping>,
        having: Option<Expr>,
    ) -> Result<LogicalPlan> {
        let mut windows = std::mem::take(&mut self.level.windows);
        if let Some(mut grouping) = grouping {
            for (_, window) in &mut windows {
                let taken = std::mem::take(window);
                *window = taken.map_exprs(&mut |expr| self.over_groups(expr, &grouping))?;
            }
            let having = having.map(|having| self.over_groups(having, &grouping)).transpose()?;
            let (ids, exprs): (Vec<_>, Vec<_>) = std::mem::take(&mut grouping.keys).into_iter().unzip();
            let (with_keys, exprs) = self.attach_all(plan, exprs);
            plan = with_keys;
            grouping.keys = ids.into_iter().zip(exprs).collect();
            let mut aggregates = std::mem::take(&mut self.level.aggregates);
            for (_, aggregate) in &mut aggregates {
                let mut input = Some(std::mem::replace(&mut plan, LogicalPlan::OneRow));
                let taken = aggregate.clone().map_exprs(&mut |expr| {
                    let (next, expr) = self.attach(input.take().unwrap_or(LogicalPlan::OneRow), expr);
                    input = Some(next);
                    Ok::<_, crate::diagnostic::Error>(expr)
                })?;
                *aggregate = taken;
                plan = input.unwrap_or(LogicalPlan::OneRow);
            }
            plan = self.grouped(plan, grouping, aggregates);
            if let Some(having) = having {
                plan = self.filter_attached(plan, having);
            }
        }
        Ok(self.windows(plan, windows))
    }

    /// Keeps the aliases for messages, and notes those that look like a forgotten comma.
    fn remember_aliases(&mut self, select: &ast::Select, scope: &Scope) {
        for item in &select.items {
            let ast::SelectItem::Expr { expr, alias: Some(alias) } = item else { continue };
            self.level.aliases.push((alias.name.clone(), expr.span));
            if !alias.with_as && scope.star.iter().any(|column| alias.name.matches(&column.name)) {
                self.note_alias_is_column(&alias.name);
            }
        }
    }

    /// The columns of SELECT, `*` spread out.
    pub(super) fn items(&mut self, select: &ast::Select, scope: &Scope) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        for item in &select.items {
            match item {
                ast::SelectItem::All(span) => {
                    if scope.relations.is_empty() {
                        self.report(&Problem::StarWithoutFrom, *span);
                    }
                    items.extend(scope.star.iter().map(|column| self.star_item(&column.name, column.id, *span)));
                }
                ast::SelectItem::AllOf(name, span) => match scope.relation(name) {
                    Ok(relation) => {
                        items.extend(
                            relation.columns.iter().map(|column| self.star_item(&column.name, column.id, *span)),
                        );
                    }
                    Err(problem) => {
                        self.report(&problem, *span);
                    }
                },
                ast::SelectItem::Expr { expr, alias } => {
                    let bound = self.expr(expr, At { scope, clause: Clause::Select })?;
                    let name = self.item_name(expr, alias.as_ref(), &bound, scope);
                    let limit = self.limit_of(expr, scope);
                    items.push(Item { name, expr: bound, limit });
                }
            }
        }
        Ok(items)
    }

    fn star_item(&self, name: &str, id: ColumnId, span: Span) -> Item {
        let info = self.columns.get(id);
        Item { name: name.to_owned(), expr: Expr::column(id, info.sql_type, span), limit: info.limit }
    }

    /// An alias; else the name that FROM gives the column; else the expression's text.
    fn item_name(&self, expr: &ast::Expr, alias: Option<&ast::Alias>, bound: &Expr, scope: &Scope) -> String {
        match (alias, &expr.kind, bound.kind()) {
            (Some(alias), ..) => alias.name.text.clone(),
            (None, ast::ExprKind::Name(parts), ExprKind::Column(id)) => {
                let written = |name: &String| parts.last().is_some_and(|last| last.matches(name));
                let found = scope.relations.iter().flat_map(|relation| &relation.columns).chain(&scope.star);
                let found =
                    found.filter(|column| column.id == *id).map(|column| &column.name).find(|name| written(name));
                found.unwrap_or(&self.columns.get(*id).name).clone()
            }
            _ => self.text(expr.span).split_whitespace().collect::<Vec<_>>().join(" "),
        }
    }

    fn items_over_groups(&mut self, items: Vec<Item>, grouping: &Grouping) -> Result<Vec<Item>> {
        items.into_iter().map(|item| Ok(Item { expr: self.over_groups(item.expr, grouping)?, ..item })).collect()
    }

    /// A plain column stays itself; everything else is computed into a new column.
    pub(super) fn output(&mut self, items: Vec<Item>) -> (Vec<(ColumnId, Expr)>, Vec<OutputColumn>) {
        let mut computed = Vec::new();
        let mut output = Vec::new();
        for Item { name, expr, limit } in items {
            let untyped = expr.sql_type() == SqlType::Null;
            let expr = self.settled(expr);
            let sql_type = expr.sql_type();
            let id = if let ExprKind::Column(id) = expr.kind()
                && !self.is_outer(*id)
            {
                // An aggregate has become a column by now.
                if self.columns.get(*id).limit.is_none() {
                    self.columns.set_limit(*id, limit);
                }
                *id
            } else {
                let id = self.new_column(&name, expr.sql_type());
                self.columns.set_limit(id, limit);
                computed.push((id, expr));
                if untyped {
                    self.untyped.insert(id);
                }
                id
            };
            output.push(OutputColumn { name, id, sql_type });
        }
        (computed, output)
    }
}
