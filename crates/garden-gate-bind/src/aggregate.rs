//! Aggregate calls (clause 10.9): which query they belong to, their types, and the column that holds their result.

use super::problem::Problem;
use super::scope::{At, Clause, Scope};
use super::{Binder, convert::is_unsettled};
use crate::diagnostic::{Result, Span};
use crate::logical::{Aggregate, AggregateFunction, Expr, Overflow, SortKey};
use crate::syntax::ast::{self, Call};
use crate::types::{SqlType, Value};
use std::sync::Arc;

impl Binder<'_> {
    /// An aggregate over the groups of this query, or of one around it when all its columns are from there.
    pub(super) fn aggregate(
        &mut self,
        function: AggregateFunction,
        call: &Call,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let At { scope, clause } = at;
        if clause == Clause::Argument {
            let problem = Problem::NestedAggregate { inner: self.text(span).to_owned(), outer: "function".into() };
            return Ok(self.report(&problem, span));
        }
        let Some(aggregate) = self.aggregate_parts(function, call, At { scope, clause: Clause::Argument }, span)?
        else {
            return Ok(super::stand_in(span));
        };
        if let Some(outside) = self.owner(&aggregate, scope) {
            if !self.outer[outside].clause.allows_aggregates() {
                let problem = Problem::AggregateMisplaced {
                    name: self.text(span).to_owned(),
                    clause: self.outer[outside].clause,
                };
                return Ok(self.report(&problem, span));
            }
            return Ok(self.add_aggregate(aggregate, Some(outside), span));
        }
        if !clause.allows_aggregates() {
            let problem = Problem::AggregateMisplaced { name: self.text(span).to_owned(), clause };
            return Ok(self.report(&problem, span));
        }
        Ok(self.add_aggregate(aggregate, None, span))
    }

    /// The query around this one whose columns alone the aggregate uses.
    fn owner(&self, aggregate: &Aggregate, scope: &Scope) -> Option<usize> {
        let used: Vec<_> = aggregate.exprs().flat_map(Expr::columns).collect();
        let knows = |scope: &Scope, id| {
            scope.relations.iter().any(|r| r.columns.iter().any(|column| column.id == id))
                || scope.star.iter().any(|column| column.id == id)
        };
        if used.is_empty() || used.iter().any(|id| knows(scope, *id)) {
            return None;
        }
        self.outer.iter().rposition(|outer| used.iter().any(|id| knows(&outer.scope, *id)))
    }

    /// The aggregate with its parts bound in `at`, checked and brought to their types; `None` after a problem.
    pub(super) fn aggregate_parts(
        &mut self,
        function: AggregateFunction,
        call: &Call,
        at: At<'_>,
        span: Span,
    ) -> Result<Option<Aggregate>> {
        if function == AggregateFunction::Program {
            return self.program_aggregate(call, at, span);
        }
        let name = function.name();
        if call.star && function == AggregateFunction::Count {
            let filter = self.filter(call, at)?;
            let plain = Aggregate::plain(AggregateFunction::CountRows, None, SqlType::BigInt, span);
            return Ok(Some(Aggregate { filter, ..plain }));
        }
        if call.star {
            self.report(&Problem::ArgumentForm { name: name.into(), what: "*" }, span);
            return Ok(None);
        }
        let mut arguments = self.all(&call.args, at)?;
        arguments = arguments
            .into_iter()
            .map(
                |argument| {
                    if is_unsettled(&argument) { self.settle_parameter(argument, SqlType::Integer) } else { argument }
                },
            )
            .collect();
        let mut order = Vec::new();
        for item in &call.order {
            let expr = self.expr(&item.expr, at)?;
            order.push(SortKey { expr: self.settled(expr), direction: item.direction, nulls: item.nulls });
        }
        if !self.check_form(function, call, arguments.len(), span) {
            return Ok(None);
        }
        let measured = if function.is_ordered_set() { order.first().map(|key| &key.expr) } else { arguments.first() };
        let argument_type = measured.map_or(SqlType::Null, Expr::sql_type);
        let second_fits = arguments
            .get(1)
            .is_none_or(|y| !function.is_of_pairs() || y.sql_type().is_number() || y.sql_type() == SqlType::Null);
        let Some(sql_type) = function.result_type(argument_type).filter(|_| second_fits) else {
            let expected = expected_argument(function);
            self.report(&Problem::WrongType { what: name.into(), expected, found: argument_type }, span);
            return Ok(None);
        };
        let arguments = self.aggregate_arguments(function, arguments, &mut order, span);
        let filter = self.filter(call, at)?;
        let overflow = match &call.overflow {
            Some(ast::Overflow::Truncate { filler, with_count }) => {
                Overflow::Truncate { filler: filler.clone().unwrap_or_else(|| "...".into()), with_count: *with_count }
            }
            _ => Overflow::Error,
        };
        let distinct = call.distinct && !function.ignores_duplicates();
        let program = None;
        Ok(Some(Aggregate { function, arguments, distinct, filter, order, overflow, program, sql_type, span }))
    }

    /// The aggregate function that a name means, a program's among them.
    pub(super) fn aggregate_function(&self, name: &str) -> Option<AggregateFunction> {
        let of_program = || self.around.catalog.program_aggregate(name).map(|_| AggregateFunction::Program);
        AggregateFunction::from_name(name).or_else(of_program)
    }

    /// A call of a program's aggregate function; `None` after a problem.
    fn program_aggregate(&mut self, call: &Call, at: At<'_>, span: Span) -> Result<Option<Aggregate>> {
        let Some(program) = self.around.catalog.program_aggregate(&call.name.text).map(Arc::clone) else {
            return Ok(None);
        };
        let form = [(call.star, "*"), (!call.order.is_empty(), "order"), (call.nulls.is_some(), "treatment of NULLs")];
        if let Some((_, what)) = form.into_iter().find(|(present, _)| *present) {
            self.report(&Problem::ArgumentForm { name: program.name.clone(), what }, span);
            return Ok(None);
        }
        let arguments = self.all(&call.args, at)?;
        let Some(arguments) = self.program_arguments((&program.name, &program.signature.arguments), arguments, span)
        else {
            return Ok(None);
        };
        let filter = self.filter(call, at)?;
        let plain = Aggregate::plain(AggregateFunction::Program, None, program.signature.result, span);
        Ok(Some(Aggregate { arguments, distinct: call.distinct, filter, program: Some(program), ..plain }))
    }

    fn filter(&mut self, call: &Call, at: At<'_>) -> Result<Option<Expr>> {
        let Some(filter) = &call.filter else { return Ok(None) };
        let bound = self.expr(filter, at)?;
        Ok(Some(self.condition(bound, "FILTER")))
    }

    /// Brings the arguments to the types that the function is computed in.
    fn aggregate_arguments(
        &mut self,
        function: AggregateFunction,
        mut arguments: Vec<Expr>,
        order: &mut [SortKey],
        span: Span,
    ) -> Vec<Expr> {
        use AggregateFunction as A;
        match function {
            A::ListAgg => {
                if arguments.len() == 1 {
                    arguments.push(Expr::literal(Value::Text(String::new()), SqlType::TEXT, span));
                }
                arguments.into_iter().map(|argument| self.text_operand(argument, "LISTAGG")).collect()
            }
            A::PercentileCont | A::PercentileDisc => {
                if let Some(key) = order.first_mut()
                    && function == A::PercentileCont
                    && key.expr.sql_type().is_number()
                {
                    key.expr = super::convert::convert(key.expr.clone(), SqlType::Double);
                }
                arguments.into_iter().map(|share| self.coerce(share, SqlType::Double)).collect()
            }
            A::Hypothetical(_) => {
                let pairs = arguments.into_iter().zip(order);
                pairs
                    .map(|(argument, key)| match self.unify_pair(argument, key.expr.clone(), span) {
                        Some((argument, expr)) => {
                            key.expr = expr;
                            argument
                        }
                        None => super::stand_in(span),
                    })
                    .collect()
            }
            A::Sum | A::Avg | A::Min | A::Max | A::Count | A::AnyValue | A::ArrayAgg | A::BitAnd | A::BitOr => {
                arguments.into_iter().map(|argument| self.settled(argument)).collect()
            }
            A::Every | A::Any => arguments.into_iter().map(|a| self.coerce(a, SqlType::Boolean)).collect(),
            A::Moment(_) => arguments.into_iter().map(|argument| self.coerce(argument, SqlType::Double)).collect(),
            // The order is its argument, and a program's function has its own types.
            A::CountRows | A::Mode | A::Program => arguments,
        }
    }

    /// Whether the number of arguments and the clauses after them are those of the function; reports what is not.
    fn check_form(&mut self, function: AggregateFunction, call: &Call, found: usize, span: Span) -> bool {
        use AggregateFunction as A;
        let name = function.name();
        let (fits, expected) = match function {
            A::Mode => (found == 0, "no argument"),
            A::ListAgg => ((1..=2).contains(&found), "one or two arguments"),
            A::Hypothetical(_) => (found == call.order.len(), "as many arguments as WITHIN GROUP has"),
            A::Moment(function) if function.is_of_pairs() => (found == 2, "two arguments"),
            A::CountRows
            | A::Count
            | A::Sum
            | A::Avg
            | A::Min
            | A::Max
            | A::Every
            | A::Any
            | A::AnyValue
            | A::Moment(_)
            | A::BitAnd
            | A::BitOr
            | A::ArrayAgg
            | A::PercentileCont
            | A::PercentileDisc
            | A::Program => (found == 1, "one argument"),
        };
        if !fits {
            self.report(&Problem::ArgumentCount { name, expected, found }, span);
            return false;
        }
        if function.is_ordered_set() && !call.within_group || call.order.is_empty() && function.is_ordered_set() {
            self.report(&Problem::NeedsWithinGroup { name }, span);
            return false;
        }
        let takes_order = function.is_ordered_set() || matches!(function, A::ListAgg | A::ArrayAgg);
        if !call.order.is_empty() && !takes_order {
            self.report(&Problem::ArgumentForm { name: name.into(), what: "order" }, span);
            return false;
        }
        if call.distinct && function.is_ordered_set() {
            self.report(&Problem::ArgumentForm { name: name.into(), what: "DISTINCT" }, span);
            return false;
        }
        true
    }

    /// The column that holds the aggregate's result; the same aggregate written twice is computed once.
    fn add_aggregate(&mut self, aggregate: Aggregate, outside: Option<usize>, span: Span) -> Expr {
        let sql_type = aggregate.sql_type;
        let level = match outside {
            Some(outside) => &self.outer[outside].level,
            None => &self.level,
        };
        if let Some((id, _)) = level.aggregates.iter().find(|(_, known)| known.same_as(&aggregate)) {
            return Expr::column(*id, sql_type, span);
        }
        let id = self.new_column(self.text(span), sql_type);
        let level = match outside {
            Some(outside) => &mut self.outer[outside].level,
            None => &mut self.level,
        };
        level.aggregates.push((id, aggregate));
        Expr::column(id, sql_type, span)
    }
}

fn expected_argument(function: AggregateFunction) -> &'static str {
    use AggregateFunction as A;
    match function {
        A::Every | A::Any => "a condition (TRUE or FALSE)",
        A::BitAnd | A::BitOr => "integers",
        A::ListAgg => "text",
        A::Min | A::Max => "values that have an order",
        A::AnyValue | A::ArrayAgg | A::CountRows | A::Count | A::Program => "values",
        A::Sum | A::Avg | A::Moment(_) | A::PercentileCont | A::PercentileDisc | A::Mode | A::Hypothetical(_) => {
            "numbers or intervals"
        }
    }
}
