//! Queries inside expressions (clauses 7.19, 8.4, 8.8 to 8.11): bound where they stand, then taken up by the plan around them.

use super::problem::Problem;
use super::scope::{At, Clause};
use super::style_notes::only_column;
use super::{Binder, OutputColumn};
use crate::diagnostic::{Error, Result, Span};
use crate::logical::{
    Aggregate, AggregateFunction, AnyTest, BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan,
    Subquery, SubqueryTest, Test,
};
use crate::syntax::ast;
use crate::types::{SqlType, Value};

/// Characters of a query that its truth value is called by in a plan.
const MARK_CHARACTERS: usize = 40;

impl Binder<'_> {
    /// Whether a column belongs to a query around this one.
    pub(super) fn is_outer(&self, id: ColumnId) -> bool {
        self.outer.iter().any(|outer| {
            outer.scope.star.iter().any(|column| column.id == id)
                || outer.scope.relations.iter().any(|relation| relation.columns.iter().any(|column| column.id == id))
                || outer.level.aggregates.iter().any(|(aggregate, _)| *aggregate == id)
        })
    }

    fn subquery(&mut self, test: SubqueryTest, plan: LogicalPlan, sql_type: SqlType, span: Span) -> Expr {
        self.subqueries += 1;
        let number = self.subqueries;
        Expr::new(ExprKind::Subquery(Box::new(Subquery { number, test, plan })), sql_type, span)
    }

    fn inner_query(&mut self, query: &ast::Query, at: At<'_>) -> Result<super::query::Rows> {
        if matches!(at.clause, Clause::Fetch | Clause::Value) {
            return Err(Error::not_supported(&format!("a query in {}", at.clause)).at(query.span));
        }
        self.inner(at, |binder| binder.query(query))
    }

    /// `(SELECT …)` instead of a value: one column, or several as a row where it is compared (clause 7.1).
    pub(super) fn scalar_subquery(
        &mut self,
        (query, is_operand): (&ast::Query, bool),
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let (plan, output) = self.inner_query(query, at)?;
        if output.len() > 1 && !is_operand {
            return Ok(self.report(&Problem::ScalarWidth { found: output.len() }, query.span));
        }
        let (plan, column) = match output.as_slice() {
            [one] => (plan, one.clone()),
            several => self.as_row(plan, several, span),
        };
        let sql_type = if column.sql_type == SqlType::Null { SqlType::TEXT } else { column.sql_type };
        Ok(self.subquery(SubqueryTest::Scalar(column.id), plan, sql_type, span))
    }

    /// The columns as one column of rows.
    fn as_row(&mut self, plan: LogicalPlan, columns: &[OutputColumn], span: Span) -> (LogicalPlan, OutputColumn) {
        let fields = columns
            .iter()
            .map(|column| crate::types::RowField { name: column.name.clone(), sql_type: column.sql_type });
        let sql_type = SqlType::row_of(fields.collect());
        let parts = columns.iter().map(|column| Expr::column(column.id, column.sql_type, span)).collect();
        let id = self.new_column("row", sql_type);
        let plan = plan.project(vec![(id, Expr::new(ExprKind::Row(parts), sql_type, span))]);
        (plan, OutputColumn { name: "row".into(), id, sql_type })
    }

    /// `EXISTS (query)`.
    pub(super) fn exists(&mut self, query: &ast::Query, at: At<'_>, span: Span) -> Result<Expr> {
        let (plan, _) = self.inner_query(query, at)?;
        if at.clause == Clause::Where && plan.free().is_empty() {
            self.note_independent_exists(query, span);
        }
        Ok(self.subquery(SubqueryTest::Exists, plan, SqlType::Boolean, span))
    }

    /// `UNIQUE (query)`: no two rows are equal; rows with a NULL equal none, unless NULLS NOT DISTINCT says otherwise.
    pub(super) fn unique(&mut self, query: &ast::Query, nulls_equal: bool, at: At<'_>, span: Span) -> Result<Expr> {
        let (mut plan, output) = self.inner_query(query, at)?;
        if !nulls_equal {
            let present = |column: &OutputColumn| {
                let column = Expr::column(column.id, column.sql_type, span);
                Expr::new(ExprKind::Is(Box::new(column), Test::Null), SqlType::Boolean, span).negated(true)
            };
            plan = plan.filter(output.iter().map(present).collect());
        }
        let keys = output.iter().map(|column| (column.id, Expr::column(column.id, column.sql_type, span))).collect();
        let count = self.new_column("COUNT(*)", SqlType::BigInt);
        let aggregate = Aggregate::plain(AggregateFunction::CountRows, None, SqlType::BigInt, span);
        let one = Expr::literal(Value::Integer(1), SqlType::BigInt, span);
        let several = Expr::compare(CompareOp::Greater, self.column(count, span), one, span);
        let plan = LogicalPlan::Aggregate { input: Box::new(plan), keys, aggregates: vec![(count, aggregate)] }
            .filter(vec![several]);
        Ok(self.subquery(SubqueryTest::Exists, plan, SqlType::Boolean, span).negated(true))
    }

    /// `ARRAY(query)`: the values of its one column, in its order.
    pub(super) fn array_subquery(&mut self, query: &ast::Query, at: At<'_>, span: Span) -> Result<Expr> {
        let (plan, output) = self.inner_query(query, at)?;
        let [column] = output.as_slice() else {
            return Ok(self.report(&Problem::SubqueryWidth { expected: 1, found: output.len() }, query.span));
        };
        let (plan, order) =
            if let LogicalPlan::Sort { input, keys } = plan { (*input, keys) } else { (plan, Vec::new()) };
        let sql_type = SqlType::array_of(column.sql_type);
        let argument = Expr::column(column.id, column.sql_type, span);
        let aggregate =
            Aggregate { order, ..Aggregate::plain(AggregateFunction::ArrayAgg, Some(argument), sql_type, span) };
        let id = self.new_column("ARRAY", sql_type);
        let plan =
            LogicalPlan::Aggregate { input: Box::new(plan), keys: Vec::new(), aggregates: vec![(id, aggregate)] };
        let value = self.subquery(SubqueryTest::Scalar(id), plan, sql_type, span);
        let empty = Expr::new(ExprKind::Array(Vec::new()), sql_type, span);
        Ok(Expr::new(ExprKind::Coalesce(vec![value, empty]), sql_type, span))
    }

    /// `operand IN (query)` is `operand = ANY (query)`.
    pub(super) fn in_query(
        &mut self,
        operand: &ast::Expr,
        (query, negated): (&ast::Query, bool),
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        self.any((CompareOp::Equal, negated), operand, query, (at, span))
    }

    /// `operand op ALL (query)` holds when `operand (not op) ANY (query)` does not.
    pub(super) fn quantified(
        &mut self,
        (op, all): (CompareOp, bool),
        operand: &ast::Expr,
        query: &ast::Query,
        at: (At<'_>, Span),
    ) -> Result<Expr> {
        let op = if all { op.inverse() } else { op };
        Ok(self.any((op, all && op == CompareOp::Equal), operand, query, at)?.negated(all))
    }

    fn any(
        &mut self,
        (op, not_in): (CompareOp, bool),
        operand: &ast::Expr,
        query: &ast::Query,
        (at, span): (At<'_>, Span),
    ) -> Result<Expr> {
        let operands = if let ast::ExprKind::Row(fields) = &operand.kind {
            fields.iter().map(|field| self.expr(field, at)).collect::<Result<Vec<_>>>()?
        } else {
            vec![self.expr(operand, at)?]
        };
        let rows = self.inner_query(query, at)?;
        self.note_outer_name(query, &rows, at.scope);
        if not_in {
            self.note_not_in_nulls(query, only_column(&rows));
        }
        let (mut plan, output) = rows;
        if operands.len() != output.len() {
            let problem = Problem::SubqueryWidth { expected: operands.len(), found: output.len() };
            return Ok(self.report(&problem, query.span));
        }
        let mut left = Vec::new();
        let mut columns = Vec::new();
        let mut computed = Vec::new();
        for (operand, column) in operands.into_iter().zip(&output) {
            let right = Expr::column(column.id, column.sql_type, query.span);
            let Some((operand, right)) = self.unify_compared(operand, right, span) else {
                return Ok(super::stand_in(span));
            };
            left.push(operand);
            if let ExprKind::Column(id) = right.kind() {
                columns.push(*id)
            } else {
                let id = self.new_column(&column.name, right.sql_type());
                columns.push(id);
                computed.push((id, right));
            }
        }
        plan = plan.project(computed);
        Ok(self.subquery(SubqueryTest::Any { op, operands: left, columns }, plan, SqlType::Boolean, span))
    }

    /// Lets `plan` take up the queries in `expr`: each becomes a join, and a column appears in its place.
    pub(super) fn attach(&mut self, plan: LogicalPlan, expr: Expr) -> (LogicalPlan, Expr) {
        if !expr.has_subquery() {
            return (plan, expr);
        }
        let mut work = Attach { binder: self, plan, guard: Vec::new(), taken: Vec::new() };
        let expr = work.expr(expr);
        (work.plan, expr)
    }

    /// [`Binder::attach`] for several expressions; a query that appears in several of them is taken up once.
    pub(super) fn attach_all(&mut self, plan: LogicalPlan, exprs: Vec<Expr>) -> (LogicalPlan, Vec<Expr>) {
        let mut work = Attach { binder: self, plan, guard: Vec::new(), taken: Vec::new() };
        let attached = exprs.into_iter().map(|expr| work.expr(expr)).collect();
        (work.plan, attached)
    }

    /// Computes columns whose expressions may hold queries.
    pub(super) fn project_attached(&mut self, plan: LogicalPlan, computed: Vec<(ColumnId, Expr)>) -> LogicalPlan {
        let (ids, exprs): (Vec<_>, Vec<_>) = computed.into_iter().unzip();
        let (plan, exprs) = self.attach_all(plan, exprs);
        plan.project(ids.into_iter().zip(exprs).collect())
    }

    /// Keeps rows by a condition that may hold queries; its parts without one come first.
    pub(super) fn filter_attached(&mut self, plan: LogicalPlan, condition: Expr) -> LogicalPlan {
        let (with, without): (Vec<Expr>, Vec<Expr>) =
            condition.into_conjuncts().into_iter().partition(Expr::has_subquery);
        let plan = plan.filter(without);
        let (plan, with) = self.attach_all(plan, with);
        plan.filter(with.into_iter().flat_map(Expr::into_conjuncts).collect())
    }
}

/// An operand that can fail, computed only for rows that the conditions around it let through; the others' truth value is not looked at.
fn where_reached(operand: Expr, guard: &[Expr]) -> Expr {
    if guard.is_empty() || !operand.can_raise() {
        return operand;
    }
    let (sql_type, span) = (operand.sql_type(), operand.span());
    let null = Expr::literal(Value::Null, sql_type, span);
    Expr::new(ExprKind::Case(vec![(Expr::and(guard.to_vec(), span), operand)], Box::new(null)), sql_type, span)
}

struct Attach<'b, 'a> {
    binder: &'b mut Binder<'a>,
    plan: LogicalPlan,
    /// What is TRUE for the rows that reach the expression at hand: the conditions of the branches around it.
    guard: Vec<Expr>,
    /// The values of queries that were taken up, by their numbers, and for which rows: those that fulfil these conditions.
    taken: Vec<(usize, Vec<Expr>, Expr)>,
}

impl Attach<'_, '_> {
    fn expr(&mut self, expr: Expr) -> Expr {
        if !expr.has_subquery() {
            return expr;
        }
        let (sql_type, span) = (expr.sql_type(), expr.span());
        if let ExprKind::Case(branches, otherwise) = expr.kind() {
            return self.case(branches.clone(), (**otherwise).clone(), (sql_type, span));
        }
        if let ExprKind::And(terms) = expr.kind() {
            return self.terms(terms.clone(), Test::False, span, |terms| Expr::and(terms, span));
        }
        if let ExprKind::Or(terms) = expr.kind() {
            return self.terms(terms.clone(), Test::True, span, |terms| Expr::or(terms, span));
        }
        if let ExprKind::Coalesce(terms) = expr.kind() {
            let coalesce = |terms| Expr::new(ExprKind::Coalesce(terms), sql_type, span);
            return self.terms(terms.clone(), Test::Null, span, coalesce);
        }
        let Ok(expr) = expr.map_children(&mut |child| Ok::<_, std::convert::Infallible>(self.expr(child)));
        if let ExprKind::Subquery(subquery) = expr.kind() {
            self.take_up((**subquery).clone(), sql_type, span)
        } else {
            expr
        }
    }

    /// A branch is reached when the conditions before it are not TRUE and its own is.
    fn case(&mut self, branches: Vec<(Expr, Expr)>, otherwise: Expr, (sql_type, span): (SqlType, Span)) -> Expr {
        let depth = self.guard.len();
        let mut done = Vec::with_capacity(branches.len());
        for (when, then) in branches {
            let when = self.expr(when);
            let is_true = Expr::new(ExprKind::Is(Box::new(when.clone()), Test::True), SqlType::Boolean, span);
            self.guard.push(when.clone());
            done.push((when, self.expr(then)));
            self.guard.pop();
            self.guard.push(is_true.negated(true));
        }
        let otherwise = self.expr(otherwise);
        self.guard.truncate(depth);
        Expr::new(ExprKind::Case(done, Box::new(otherwise)), sql_type, span)
    }

    /// A term of AND is reached while none before it is FALSE, of OR while none is TRUE, of COALESCE while all are NULL.
    fn terms(&mut self, terms: Vec<Expr>, stops: Test, span: Span, make: impl FnOnce(Vec<Expr>) -> Expr) -> Expr {
        let depth = self.guard.len();
        let mut done = Vec::with_capacity(terms.len());
        for term in terms {
            let term = self.expr(term);
            let stopped = Expr::new(ExprKind::Is(Box::new(term.clone()), stops), SqlType::Boolean, span);
            self.guard.push(stopped.negated(stops != Test::Null));
            done.push(term);
        }
        self.guard.truncate(depth);
        make(done)
    }

    fn take_up(&mut self, subquery: Subquery, sql_type: SqlType, span: Span) -> Expr {
        let number = subquery.number;
        let here = |term: &Expr| self.guard.iter().any(|guard| guard.same_as(term));
        let mut same = self.taken.iter().filter(|(known, ..)| *known == number);
        if let Some((_, _, known)) = same.find(|(_, guard, _)| guard.iter().all(here)) {
            return known.clone();
        }
        // Taken up before for other rows: this time it makes columns of its own.
        let again = self.taken.iter().any(|(known, ..)| *known == number);
        let Subquery { test, plan: right, .. } = if again { self.copied(subquery) } else { subquery };
        let left = std::mem::replace(&mut self.plan, LogicalPlan::OneRow);
        let guard = if right.can_raise() { self.usable_guard(&left) } else { Vec::new() };
        let mut join =
            BinaryJoin { dependent: true, guard, ..BinaryJoin::new(JoinKind::Mark, left, right, Vec::new()) };
        let value = match test {
            SubqueryTest::Scalar(column) => {
                let value = Expr::column(column, sql_type, span);
                if super::query::at_most_one_row(&join.right) {
                    join.kind = JoinKind::Left;
                    value
                } else {
                    join.kind = JoinKind::Single;
                    let several = self.binder.new_column("more than one row", SqlType::Boolean);
                    join.mark = Some(several);
                    let several = Expr::column(several, SqlType::Boolean, span);
                    Expr::new(ExprKind::Only(Box::new([value, several])), sql_type, span)
                }
            }
            SubqueryTest::Exists => self.mark(&mut join, span),
            SubqueryTest::Any { op, operands, columns } => {
                let right = columns.iter().map(|id| self.binder.column(*id, span)).collect();
                let guard = self.usable_guard(&join.left);
                let left = operands.into_iter().map(|operand| where_reached(operand, &guard)).collect();
                join.any = Some(AnyTest { op, left, right });
                self.mark(&mut join, span)
            }
        };
        self.taken.push((number, join.guard.clone(), value.clone()));
        self.plan = join.into_plan();
        value
    }

    fn copied(&mut self, subquery: Subquery) -> Subquery {
        let (plan, map) = subquery.plan.copy(&mut self.binder.columns);
        let moved = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
        let test = match subquery.test {
            SubqueryTest::Scalar(id) => SubqueryTest::Scalar(moved(id)),
            SubqueryTest::Exists => SubqueryTest::Exists,
            SubqueryTest::Any { op, operands, columns } => {
                SubqueryTest::Any { op, operands, columns: columns.into_iter().map(moved).collect() }
            }
        };
        Subquery { test, plan, ..subquery }
    }

    /// The conditions around that the rows at hand can tell.
    fn usable_guard(&self, rows: &LogicalPlan) -> Vec<Expr> {
        let output = rows.output();
        let tells = |term: &&Expr| term.columns().iter().all(|id| output.contains(id) || self.binder.is_outer(*id));
        self.guard.iter().filter(tells).cloned().collect()
    }

    /// The truth value of the join, called by the text it stands for.
    fn mark(&mut self, join: &mut BinaryJoin, span: Span) -> Expr {
        let mut text = self.binder.text(span).split_whitespace().collect::<Vec<_>>().join(" ");
        // The join tells whether it is IN; a NOT appears before its column.
        if let Some(at) = text.to_ascii_uppercase().find(" NOT IN ") {
            text.replace_range(at..at + 8, " IN ");
        }
        let name = if text.chars().count() > MARK_CHARACTERS {
            format!("{}…", text.chars().take(MARK_CHARACTERS).collect::<String>())
        } else {
            text
        };
        let mark = self.binder.new_column(&format!("({name})"), SqlType::Boolean);
        join.mark = Some(mark);
        Expr::column(mark, SqlType::Boolean, span)
    }
}
