//! Query expressions (clause 7.17): WITH, a body, ORDER BY, OFFSET and FETCH FIRST.

use super::order::SortContext;
use super::scope::{At, Clause, Relation, Scope, ScopeColumn};
use super::{Binder, OutputColumn, problem::Problem};
use crate::diagnostic::{Result, Span, SqlState};
use crate::logical::{
    Aggregate, AggregateFunction, CompareOp, Expr, Frame, LogicalPlan, SortKey, WindowCall, WindowFunction,
};
use crate::syntax::ast::{self, ArithmeticOp};
use crate::types::{SqlType, Value};

/// The rows of a query and what its columns are called.
pub(super) type Rows = (LogicalPlan, Vec<OutputColumn>);

impl Binder<'_> {
    /// A query, with its WITH, ORDER BY and FETCH.
    pub(super) fn query(&mut self, query: &ast::Query) -> Result<Rows> {
        self.depth += 1;
        let rows = self.query_inside(query);
        self.depth -= 1;
        rows
    }

    fn query_inside(&mut self, query: &ast::Query) -> Result<Rows> {
        let visible = self.withs.len();
        if let Some(with) = &query.with {
            self.with(with)?;
        }
        let (plan, output, keys) = match &query.body {
            ast::QueryBody::Select(select) => self.select(select, &query.order_by)?,
            body @ (ast::QueryBody::Values(_)
            | ast::QueryBody::Table(..)
            | ast::QueryBody::SetOperation(_)
            | ast::QueryBody::Nested(_)) => {
                let (plan, output) = self.body(body)?;
                let keys = self.order_of_output(&query.order_by, &output)?;
                (plan, output, keys)
            }
        };
        let plan = self.ordered(plan, keys, query)?;
        if let Some(clause) = &query.guide {
            self.guide.add(clause);
        }
        self.leave_with(visible);
        Ok((plan, output))
    }

    /// A body without an order of its own.
    pub(super) fn body(&mut self, body: &ast::QueryBody) -> Result<Rows> {
        match body {
            ast::QueryBody::Select(select) => {
                let (plan, output, _) = self.select(select, &[])?;
                Ok((plan, output))
            }
            ast::QueryBody::Values(rows) => self.values(rows),
            ast::QueryBody::Table(name, span) => {
                let (plan, scope) = self.named_table(name, (None, None), *span)?;
                let output = scope.star.iter().map(|column| OutputColumn {
                    name: column.name.clone(),
                    id: column.id,
                    sql_type: self.columns.get(column.id).sql_type,
                });
                Ok((plan, output.collect()))
            }
            ast::QueryBody::SetOperation(operation) => self.set_operation(operation),
            ast::QueryBody::Nested(query) => self.query(query),
        }
    }

    /// ORDER BY of a query that is not a plain SELECT: it sees the columns of the result only.
    fn order_of_output(&mut self, items: &[ast::SortItem], output: &[OutputColumn]) -> Result<Vec<SortKey>> {
        let columns = output.iter().map(|column| ScopeColumn { name: column.name.clone(), id: column.id }).collect();
        let relation = Relation::new("the result", columns);
        let scope = Scope::of(relation);
        let context = SortContext { scope: &scope, output, selected: &[], grouping: None, distinct: false };
        items.iter().map(|item| self.sort_key(item, &context)).collect()
    }

    /// `VALUES (…), (…)`: rows of expressions; the columns take the common type of all rows.
    fn values(&mut self, rows: &[Vec<ast::Expr>]) -> Result<Rows> {
        let width = rows[0].len();
        let mut columns: Vec<Vec<Expr>> = vec![Vec::new(); width];
        for row in rows {
            if row.len() != width {
                let span = row.first().map_or(Span::default(), |expr| expr.span);
                self.report(&Problem::ValuesWidth { first: width, found: row.len() }, span);
                continue;
            }
            for (column, expr) in columns.iter_mut().zip(row) {
                let bound = self.expr(expr, At { scope: &Scope::default(), clause: Clause::Values })?;
                if self.has_next_values() && !std::mem::take(&mut self.level.windows).is_empty() {
                    self.report(&Problem::NextValueMisplaced { clause: Clause::Values, inside: false }, expr.span);
                }
                column.push(bound);
            }
        }
        let mut output = Vec::new();
        let mut unified = Vec::new();
        for (position, column) in columns.into_iter().enumerate() {
            let (column, mut sql_type) = self.unify_all(column, "VALUES");
            let untyped = sql_type == SqlType::Null;
            let column: Vec<Expr> = if untyped {
                sql_type = SqlType::TEXT;
                column.into_iter().map(|expr| self.coerce(expr, SqlType::TEXT)).collect()
            } else {
                column
            };
            let name = format!("column_{}", position + 1);
            let id = self.new_column(&name, sql_type);
            if untyped {
                self.untyped.insert(id);
            }
            output.push(OutputColumn { id, name, sql_type });
            unified.push(column);
        }
        let ids = output.iter().map(|column| column.id).collect::<Vec<_>>();
        let height = unified.first().map_or(0, Vec::len);
        let rows: Vec<Vec<Expr>> =
            (0..height).map(|row| unified.iter().map(|column| column[row].clone()).collect()).collect();
        Ok((self.values_plan(ids, rows), output))
    }

    /// Rows without columns and queries are kept as they are; others become one SELECT each.
    pub(super) fn values_plan(&mut self, columns: Vec<crate::logical::ColumnId>, rows: Vec<Vec<Expr>>) -> LogicalPlan {
        let plain = |expr: &Expr| expr.columns().is_empty() && !expr.has_subquery();
        if rows.iter().flatten().all(plain) {
            return LogicalPlan::Values { columns, rows };
        }
        let rows = rows.into_iter().map(|row| (LogicalPlan::OneRow, row)).collect();
        self.rows_plan(columns, rows)
    }

    /// One SELECT for each row, over the single row of a plan of its own.
    pub(super) fn rows_plan(
        &mut self,
        columns: Vec<crate::logical::ColumnId>,
        rows: Vec<(LogicalPlan, Vec<Expr>)>,
    ) -> LogicalPlan {
        let operands = rows.into_iter().map(|(below, row)| {
            let ids: Vec<_> = columns.iter().map(|id| self.columns.copy(*id)).collect();
            let computed = ids.iter().copied().zip(row).collect();
            let plan = self.project_attached(below, computed);
            crate::logical::SetOperand { plan, columns: ids }
        });
        let operands = operands.collect();
        LogicalPlan::SetOperation { op: crate::logical::SetOp::Union, all: true, operands, columns }
    }

    fn ordered(&mut self, mut plan: LogicalPlan, keys: Vec<SortKey>, query: &ast::Query) -> Result<LogicalPlan> {
        let offset = match &query.offset {
            Some(expr) => self.row_count(expr, "OFFSET", SqlState::INVALID_OFFSET_COUNT)?.unwrap_or(0),
            None => 0,
        };
        if let Some(fetch) = &query.fetch
            && (fetch.percent || fetch.with_ties)
        {
            if fetch.with_ties && keys.is_empty() {
                self.report(&Problem::TiesWithoutOrder, fetch.count.span);
            }
            return self.fetch_by_rank(plan, keys, offset, fetch);
        }
        if !keys.is_empty() {
            plan = LogicalPlan::Sort { input: Box::new(plan), keys };
        }
        let fetch = match &query.fetch {
            Some(fetch) => self.row_count(&fetch.count, "FETCH FIRST", SqlState::INVALID_FETCH_COUNT)?,
            None => None,
        };
        if offset > 0 || fetch.is_some() {
            plan = LogicalPlan::Limit { input: Box::new(plan), offset, fetch };
        }
        Ok(plan)
    }

    /// `PERCENT` and `WITH TIES`: rows are numbered in their order and kept by that number, peers together.
    fn fetch_by_rank(
        &mut self,
        plan: LogicalPlan,
        keys: Vec<SortKey>,
        offset: u64,
        fetch: &ast::Fetch,
    ) -> Result<LogicalPlan> {
        let span = fetch.count.span;
        let call = |binder: &mut Self, name: &str, function: WindowFunction| {
            let id = binder.new_column(name, SqlType::BigInt);
            let frame = Frame { end: crate::types::FrameBound::UnboundedFollowing, ..Frame::usual() };
            let (from_last, ignore_nulls, arguments) = (false, false, Vec::new());
            (id, WindowCall { function, arguments, frame, from_last, ignore_nulls, span })
        };
        let number = call(self, "row number", WindowFunction::RowNumber);
        let rank = call(self, "rank", WindowFunction::Rank);
        let count = Aggregate::plain(AggregateFunction::CountRows, None, SqlType::BigInt, span);
        let count = call(self, "rows", WindowFunction::Aggregate(Box::new(count)));
        let whole = |value: u64| {
            let value = i64::try_from(value).unwrap_or(i64::MAX);
            Expr::literal(Value::Integer(value), SqlType::BigInt, span)
        };
        let place = self.column(if fetch.with_ties { rank.0 } else { number.0 }, span);
        let behind_offset = self.compare(CompareOp::Greater, self.column(number.0, span), whole(offset), span);
        let before = self.arithmetic(ArithmeticOp::Subtract, place, whole(offset), span);
        let inside = if fetch.percent {
            let percent = self.expr(&fetch.count, At { scope: &Scope::default(), clause: Clause::Fetch })?;
            let percent = self.coerce(percent, SqlType::numeric(9, 4));
            if matches!(percent.constant(), Some(Value::Numeric(share)) if share.unscaled < 0) {
                self.report(&Problem::BadCount { what: "FETCH FIRST", state: SqlState::INVALID_FETCH_COUNT }, span);
            }
            // The place p is kept while (p - 1) * 100 < percent * rows.
            let passed = self.arithmetic(ArithmeticOp::Subtract, before, whole(1), span);
            let passed = self.arithmetic(ArithmeticOp::Multiply, passed, whole(100), span);
            let share = self.arithmetic(ArithmeticOp::Multiply, percent, self.column(count.0, span), span);
            self.compare(CompareOp::Less, passed, share, span)
        } else {
            match self.row_count(&fetch.count, "FETCH FIRST", SqlState::INVALID_FETCH_COUNT)? {
                // No row is the last of none, so nothing ties with it.
                Some(0) => Expr::truth(false, span),
                Some(rows) => self.compare(CompareOp::LessOrEqual, before, whole(rows), span),
                None => Expr::truth(true, span),
            }
        };
        let window = LogicalPlan::Window {
            input: Box::new(plan),
            partition: Vec::new(),
            order: keys.clone(),
            calls: vec![number, rank, count],
        };
        let kept = window.filter(Expr::and([behind_offset, inside], span).into_conjuncts());
        Ok(if keys.is_empty() { kept } else { LogicalPlan::Sort { input: Box::new(kept), keys } })
    }
}

/// Whether a query gives at most one row, whatever the tables hold.
pub(super) fn at_most_one_row(plan: &LogicalPlan) -> bool {
    match plan {
        LogicalPlan::OneRow | LogicalPlan::Empty(_) => true,
        LogicalPlan::Values { rows, .. } => rows.len() <= 1,
        LogicalPlan::Aggregate { keys, .. } => keys.is_empty(),
        LogicalPlan::Limit { fetch: Some(fetch), .. } if *fetch <= 1 => true,
        LogicalPlan::Limit { input, .. }
        | LogicalPlan::Filter { input, .. }
        | LogicalPlan::Project { input, .. }
        | LogicalPlan::Window { input, .. }
        | LogicalPlan::Distinct { input, .. }
        | LogicalPlan::Sort { input, .. } => at_most_one_row(input),
        LogicalPlan::Join(join) => {
            use crate::logical::JoinKind as K;
            let right = matches!(join.kind, K::Semi | K::Anti | K::Mark | K::Single) || at_most_one_row(&join.right);
            join.kind != K::Full && right && at_most_one_row(&join.left)
        }
        LogicalPlan::InnerJoin { inputs, .. } => inputs.iter().all(at_most_one_row),
        LogicalPlan::Scan(_)
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_) => false,
    }
}
