//! One SELECT: from FROM to FETCH FIRST.

use super::group::Grouping;
use super::order::SortContext;
use super::scope::{Clause, Scope};
use super::{Binder, OutputColumn, problem::Problem};
use crate::diagnostic::{Result, SqlState};
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan, SortKey};
use crate::syntax::ast;
use crate::types::SqlType;

/// An item of the SELECT list after `*` is spelt out.
struct Item {
    name: String,
    expr: Expr,
}

impl Binder<'_> {
    pub(super) fn query(&mut self, query: &ast::Query) -> Result<(LogicalPlan, Vec<OutputColumn>)> {
        let select = &query.select;
        let (mut plan, scope) = self.from(&select.from)?;
        self.remember_aliases(select, &scope);
        if let Some(condition) = &select.where_ {
            let bound = self.expr(condition, &scope, Clause::Where)?;
            plan = filter(plan, self.condition(bound, "WHERE"));
        }
        let items = self.items(select, &scope)?;
        let having = match &select.having {
            Some(having) => {
                let bound = self.expr(having, &scope, Clause::Having)?;
                Some(self.condition(bound, "HAVING"))
            }
            None => None,
        };
        let grouping = self.group(select, &scope, having.is_some(), &query.order_by)?;
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
        let keys = query.order_by.iter().map(|item| self.sort_key(item, &context)).collect::<Result<Vec<_>>>()?;
        if let Some(grouping) = grouping {
            let having = having.map(|having| self.over_groups(having, &grouping)).transpose()?;
            let aggregates = std::mem::take(&mut self.aggregates);
            plan = LogicalPlan::Aggregate { input: Box::new(plan), keys: grouping.keys, aggregates };
            if let Some(having) = having {
                plan = filter(plan, having);
            }
        }
        plan = project(plan, computed);
        if select.distinct.is_some() {
            let mut columns: Vec<ColumnId> = output.iter().map(|column| column.id).collect();
            columns.sort_unstable();
            columns.dedup();
            plan = LogicalPlan::Distinct { input: Box::new(plan), columns };
        }
        Ok((self.finish(plan, keys, query)?, output))
    }

    fn finish(&mut self, mut plan: LogicalPlan, keys: Vec<SortKey>, query: &ast::Query) -> Result<LogicalPlan> {
        if !keys.is_empty() {
            plan = LogicalPlan::Sort { input: Box::new(plan), keys };
        }
        let mut count = |expr: &Option<ast::Expr>, what, state| match expr {
            Some(expr) => self.row_count(expr, what, state),
            None => Ok(None),
        };
        let offset = count(&query.offset, "OFFSET", SqlState::INVALID_OFFSET_COUNT)?.unwrap_or(0);
        let fetch = count(&query.fetch, "FETCH FIRST", SqlState::INVALID_FETCH_COUNT)?;
        if offset > 0 || fetch.is_some() {
            plan = LogicalPlan::Limit { input: Box::new(plan), offset, fetch };
        }
        Ok(plan)
    }

    /// Keeps the aliases for messages, and notes those that look like a forgotten comma.
    fn remember_aliases(&mut self, select: &ast::Select, scope: &Scope) {
        for item in &select.items {
            let ast::SelectItem::Expr { expr, alias: Some(alias) } = item else { continue };
            self.aliases.push((alias.name.clone(), expr.span));
            if !alias.with_as && scope.star.iter().any(|column| alias.name.matches(&column.name)) {
                self.note_alias_is_column(&alias.name);
            }
        }
    }

    fn items(&mut self, select: &ast::Select, scope: &Scope) -> Result<Vec<Item>> {
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
                    let bound = self.expr(expr, scope, Clause::Select)?;
                    let name = self.item_name(expr, alias.as_ref(), &bound);
                    items.push(Item { name, expr: bound });
                }
            }
        }
        Ok(items)
    }

    fn star_item(&self, name: &str, id: ColumnId, span: crate::diagnostic::Span) -> Item {
        Item { name: name.to_owned(), expr: Expr::column(id, self.columns.get(id).sql_type, span) }
    }

    /// An alias; else a column's own name as it was first written; else the expression's text.
    fn item_name(&self, expr: &ast::Expr, alias: Option<&ast::Alias>, bound: &Expr) -> String {
        match (alias, &expr.kind, bound.kind()) {
            (Some(alias), ..) => alias.name.text.clone(),
            (None, ast::ExprKind::Name(_), ExprKind::Column(id)) => self.columns.get(*id).name.clone(),
            _ => self.text(expr.span).split_whitespace().collect::<Vec<_>>().join(" "),
        }
    }

    /// The grouping, when the query has GROUP BY, HAVING or an aggregate anywhere.
    fn group(
        &mut self,
        select: &ast::Select,
        scope: &Scope,
        has_having: bool,
        order_by: &[ast::SortItem],
    ) -> Result<Option<Grouping>> {
        let keys = select
            .group_by
            .iter()
            .map(|key| {
                self.note_constant_grouping(key);
                let bound = self.expr(key, scope, Clause::GroupBy)?;
                Ok(if super::convert::is_unsettled(&bound) { self.coerce(bound, SqlType::TEXT) } else { bound })
            })
            .collect::<Result<Vec<_>>>()?;
        let sorts_by_aggregate = order_by.iter().any(|item| mentions_aggregate(&item.expr));
        let grouped = !keys.is_empty() || has_having || !self.aggregates.is_empty() || sorts_by_aggregate;
        Ok(grouped.then(|| self.grouping(keys)))
    }

    fn items_over_groups(&mut self, items: Vec<Item>, grouping: &Grouping) -> Result<Vec<Item>> {
        items
            .into_iter()
            .map(|item| Ok(Item { name: item.name, expr: self.over_groups(item.expr, grouping)? }))
            .collect()
    }

    /// A plain column stays itself; everything else is computed into a new column.
    fn output(&mut self, items: Vec<Item>) -> (Vec<(ColumnId, Expr)>, Vec<OutputColumn>) {
        let mut computed = Vec::new();
        let mut output = Vec::new();
        for Item { name, expr } in items {
            let expr = self.settled_item(expr);
            let sql_type = expr.sql_type();
            let id = match expr.kind() {
                ExprKind::Column(id) => *id,
                _ => {
                    let id = self.computed(&name, &expr);
                    computed.push((id, expr));
                    id
                }
            };
            output.push(OutputColumn { name, id, sql_type });
        }
        (computed, output)
    }

    /// A bare NULL or parameter in the SELECT list is text.
    fn settled_item(&mut self, expr: Expr) -> Expr {
        if expr.sql_type() == SqlType::Null { self.coerce(expr, SqlType::TEXT) } else { expr }
    }
}

fn filter(plan: LogicalPlan, condition: Expr) -> LogicalPlan {
    let conjuncts = condition.into_conjuncts();
    if conjuncts.is_empty() { plan } else { LogicalPlan::Filter { input: Box::new(plan), conjuncts } }
}

fn project(plan: LogicalPlan, computed: Vec<(ColumnId, Expr)>) -> LogicalPlan {
    if computed.is_empty() { plan } else { LogicalPlan::Project { input: Box::new(plan), computed } }
}

/// Whether an aggregate is called anywhere in an expression that is not bound yet.
fn mentions_aggregate(expr: &ast::Expr) -> bool {
    use ast::ExprKind as K;
    match &expr.kind {
        K::Call { name, args } => {
            crate::logical::AggregateFunction::from_name(&name.text).is_some()
                || matches!(args, ast::Arguments::List { values, .. } if values.iter().any(mentions_aggregate))
        }
        K::Arithmetic(_, pair) | K::Concat(pair) | K::Compare(_, pair) => {
            mentions_aggregate(&pair.0) || mentions_aggregate(&pair.1)
        }
        K::Negate(operand) | K::Cast(operand, _) | K::Not(operand) => mentions_aggregate(operand),
        K::Case(case) => {
            let ast::Case { branches, otherwise, .. } = case.as_ref();
            branches.iter().any(|(when, then)| mentions_aggregate(when) || mentions_aggregate(then))
                || otherwise.as_ref().is_some_and(mentions_aggregate)
        }
        _ => false,
    }
}
