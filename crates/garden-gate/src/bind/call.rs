//! Function and aggregate calls.

use super::{Binder, problem::Problem, scope::Clause, scope::Scope};
use crate::diagnostic::{Error, Result, Span, nearest};
use crate::logical::{Aggregate, AggregateFunction, ColumnInfo, Expr};
use crate::syntax::ast::{self, Arguments, Ident};
use crate::types::SqlType;

const KNOWN: &[&str] = &["COUNT", "SUM", "AVG", "MIN", "MAX", "COALESCE", "NULLIF"];

/// Functions of the standard that are still to come, so that they are told from misspelt ones.
const LATER: &[&str] = &[
    "ABS",
    "ANY_VALUE",
    "CARDINALITY",
    "CEIL",
    "CEILING",
    "CHAR_LENGTH",
    "CHARACTER_LENGTH",
    "CORR",
    "EVERY",
    "EXP",
    "FLOOR",
    "GREATEST",
    "LEAST",
    "LN",
    "LOG",
    "LOWER",
    "LPAD",
    "MOD",
    "OCTET_LENGTH",
    "POWER",
    "RANK",
    "ROUND",
    "ROW_NUMBER",
    "RPAD",
    "SQRT",
    "STDDEV_POP",
    "STDDEV_SAMP",
    "TRUNCATE",
    "UPPER",
    "VAR_POP",
    "VAR_SAMP",
    "GROUPING",
    "ARRAY_AGG",
    "DENSE_RANK",
];

impl Binder<'_> {
    pub(super) fn call(&mut self, name: &Ident, args: &Arguments, at: (&Scope, Clause), span: Span) -> Result<Expr> {
        if let Some(function) = AggregateFunction::from_name(&name.text) {
            return self.aggregate(function, args, at, span);
        }
        let is = |wanted: &&&str| name.text.eq_ignore_ascii_case(wanted);
        let Some(known) = KNOWN.iter().find(is) else {
            if let Some(later) = LATER.iter().find(is) {
                self.problems.push(Error::not_supported(&format!("the function {later}")).at(span));
                return Ok(super::stand_in(span));
            }
            let near = nearest(&name.text, KNOWN.iter().copied()).and_then(|near| KNOWN.iter().find(|k| **k == near));
            let problem = Problem::NoSuchFunction { name: name.text.to_uppercase(), near: near.copied() };
            return Ok(self.report(&problem, name.span));
        };
        let Arguments::List { distinct: false, values } = args else {
            return Ok(self.report(&Problem::ArgumentForm { name: (*known).into(), what: "* or DISTINCT" }, span));
        };
        let mut bound = values.iter().map(|value| self.expr(value, at.0, at.1)).collect::<Result<Vec<_>>>()?;
        match (*known, bound.len()) {
            ("COALESCE", 1..) => Ok(self.coalesce(bound, span)),
            ("COALESCE", _) => Ok(self.count_problem("COALESCE", "one or more arguments", 0, span)),
            (_, 2) => {
                let second = bound.pop().unwrap_or_else(|| super::stand_in(span));
                let first = bound.pop().unwrap_or_else(|| super::stand_in(span));
                Ok(self.nullif(first, second, span))
            }
            (_, found) => Ok(self.count_problem("NULLIF", "two arguments", found, span)),
        }
    }

    fn count_problem(&mut self, name: &'static str, expected: &'static str, found: usize, span: Span) -> Expr {
        self.report(&Problem::ArgumentCount { name, expected, found }, span)
    }

    fn aggregate(
        &mut self,
        function: AggregateFunction,
        args: &Arguments,
        at: (&Scope, Clause),
        span: Span,
    ) -> Result<Expr> {
        let (scope, clause) = at;
        let name = function.name();
        if clause == Clause::Argument {
            let problem = Problem::NestedAggregate { inner: self.text(span).to_owned(), outer: "function".into() };
            return Ok(self.report(&problem, span));
        }
        if !clause.allows_aggregates() {
            let problem = Problem::AggregateMisplaced { name: self.text(span).to_owned(), clause };
            return Ok(self.report(&problem, span));
        }
        let (function, argument, distinct) = match args {
            Arguments::Star if function == AggregateFunction::Count => (AggregateFunction::CountRows, None, false),
            Arguments::Star => return Ok(self.report(&Problem::ArgumentForm { name: name.into(), what: "*" }, span)),
            Arguments::List { distinct, values } => {
                let [value] = values.as_slice() else {
                    return Ok(self.count_problem(name, "one argument", values.len(), span));
                };
                (function, Some(self.aggregate_argument(value, scope)?), *distinct)
            }
        };
        let argument_type = argument.as_ref().map_or(SqlType::Null, Expr::sql_type);
        let Some(sql_type) = function.result_type(argument_type) else {
            let problem =
                Problem::WrongType { what: name.into(), expected: "numbers or intervals", found: argument_type };
            return Ok(self.report(&problem, span));
        };
        let aggregate = Aggregate { function, argument, distinct, sql_type, span };
        Ok(self.add_aggregate(aggregate, span))
    }

    fn aggregate_argument(&mut self, value: &ast::Expr, scope: &Scope) -> Result<Expr> {
        let bound = self.expr(value, scope, Clause::Argument)?;
        Ok(if super::convert::is_unsettled(&bound) { self.settle_parameter(bound, SqlType::Integer) } else { bound })
    }

    /// The column that holds the aggregate's result; the same aggregate written twice is worked out once.
    fn add_aggregate(&mut self, aggregate: Aggregate, span: Span) -> Expr {
        let sql_type = aggregate.sql_type;
        if let Some((id, _)) = self.aggregates.iter().find(|(_, known)| known.same_as(&aggregate)) {
            return Expr::column(*id, sql_type, span);
        }
        let name = self.text(span).split_whitespace().collect::<Vec<_>>().join(" ");
        let id = self.columns.add(ColumnInfo { qualifier: None, name, sql_type, origin: None });
        self.aggregates.push((id, aggregate));
        Expr::column(id, sql_type, span)
    }
}
