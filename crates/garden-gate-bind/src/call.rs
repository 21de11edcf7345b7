//! Calls: which kind of function a name means.

use super::convert::is_unsettled;
use super::{
    Binder,
    problem::Problem,
    scope::{At, Clause},
};
use crate::catalog::ProgramFunction;
use crate::diagnostic::{Error, Result, Span, nearest};
use crate::logical::{AggregateFunction, Expr, ExprKind, FUNCTIONS, Function, WindowFunction};
use crate::syntax::ast::Call;
use crate::types::SqlType;
use std::sync::Arc;

/// Functions whose arguments are bound in ways of their own.
pub const SPECIAL_FUNCTIONS: &[&str] = &["COALESCE", "NULLIF", "GROUPING"];

/// Functions of the standard that are still to come, so that they are told from misspelt ones.
const LATER: &[&str] = &[
    "JSON_OBJECT",
    "JSON_ARRAY",
    "JSON_ARRAYAGG",
    "JSON_OBJECTAGG",
    "JSON_VALUE",
    "JSON_QUERY",
    "JSON_EXISTS",
    "JSON_SERIALIZE",
    "JSON_SCALAR",
    "JSON",
    "CLASSIFIER",
    "MATCH_NUMBER",
    "XMLELEMENT",
    "XMLAGG",
    "CONVERT",
    "BIT_XOR_AGG",
    "COLLECT",
    "FUSION",
    "INTERSECTION",
    "ARRAY_MAX_CARDINALITY",
];

/// Whether a name is that of a function of the language, of whatever kind.
pub fn is_known_function(name: &str) -> bool {
    let is = |wanted: &&&str| name.eq_ignore_ascii_case(wanted);
    AggregateFunction::from_name(name).is_some()
        || AggregateFunction::hypothetical(name).is_some()
        || WindowFunction::from_name(name).is_some()
        || Function::from_name(name).is_some()
        || SPECIAL_FUNCTIONS.iter().any(|own| is(&own))
        || LATER.iter().any(|later| is(&later))
}

impl Binder<'_> {
    /// A call by name: of a window function, an aggregate, a function of the program, or one of the standard.
    pub(super) fn call(&mut self, call: &Call, at: At<'_>, span: Span) -> Result<Expr> {
        let name = &call.name.text;
        if let Some(over) = &call.over {
            return self.window(call, over, at, span);
        }
        if let Some(function) = self.aggregate_function(name) {
            return self.aggregate(function, call, at, span);
        }
        if let Some(function) = AggregateFunction::hypothetical(name)
            && call.within_group
        {
            return self.aggregate(function, call, at, span);
        }
        if let Some(function) = WindowFunction::from_name(name) {
            return Ok(self.report(&Problem::NeedsOver { name: function.name() }, span));
        }
        let is = |wanted: &&&str| name.eq_ignore_ascii_case(wanted);
        if let Some(own) = SPECIAL_FUNCTIONS.iter().find(is) {
            return self.own_call(own, call, at, span);
        }
        let Some(function) = Function::from_name(name) else {
            return match self.around.catalog.program_function(name).map(Arc::clone) {
                Some(function) => self.program_call(&function, call, at, span),
                None => Ok(self.unknown_function(call, span)),
            };
        };
        if let Some(what) = unexpected(call) {
            return Ok(self.report(&Problem::ArgumentForm { name: function.name().into(), what }, span));
        }
        let args = self.all(&call.args, at)?;
        Ok(self.function(function, args, span))
    }

    fn own_call(&mut self, own: &'static str, call: &Call, at: At<'_>, span: Span) -> Result<Expr> {
        if let Some(what) = unexpected(call) {
            return Ok(self.report(&Problem::ArgumentForm { name: own.into(), what }, span));
        }
        let clause = if own == "GROUPING" { Clause::Argument } else { at.clause };
        let mut bound = self.all(&call.args, At { clause, ..at })?;
        match (own, bound.len()) {
            ("COALESCE", 1..) => Ok(self.coalesce(bound, span)),
            ("GROUPING", 1..) if at.clause.allows_aggregates() => Ok(self.grouping_call(bound, span)),
            ("GROUPING", 1..) => {
                let problem = Problem::AggregateMisplaced { name: self.text(span).to_owned(), clause: at.clause };
                Ok(self.report(&problem, span))
            }
            ("NULLIF", 2) => {
                let second = bound.pop().unwrap_or_else(|| super::stand_in(span));
                let first = bound.pop().unwrap_or_else(|| super::stand_in(span));
                Ok(self.nullif(first, second, span))
            }
            ("NULLIF", found) => {
                Ok(self.report(&Problem::ArgumentCount { name: own, expected: "two arguments", found }, span))
            }
            (_, found) => {
                Ok(self.report(&Problem::ArgumentCount { name: own, expected: "one or more arguments", found }, span))
            }
        }
    }

    /// A call of a program's function: arguments take its types where a common type allows that.
    fn program_call(&mut self, function: &Arc<ProgramFunction>, call: &Call, at: At<'_>, span: Span) -> Result<Expr> {
        if let Some(what) = unexpected(call) {
            return Ok(self.report(&Problem::ArgumentForm { name: function.name.clone(), what }, span));
        }
        let args = self.all(&call.args, at)?;
        let Some(args) = self.program_arguments((&function.name, &function.signature.arguments), args, span) else {
            return Ok(super::stand_in(span));
        };
        Ok(Expr::new(ExprKind::ProgramCall(Arc::clone(function), args), function.signature.result, span))
    }

    /// The arguments of a program's function brought to its types; `None` after a problem.
    pub(super) fn program_arguments(
        &mut self,
        (name, types): (&str, &[SqlType]),
        args: Vec<Expr>,
        span: Span,
    ) -> Option<Vec<Expr>> {
        if args.len() != types.len() {
            let (name, expected) = (name.to_owned(), types.len());
            self.report(&Problem::ProgramArguments { name, expected, found: args.len() }, span);
            return None;
        }
        let mut coerced = Vec::with_capacity(args.len());
        for (number, (arg, target)) in args.into_iter().zip(types).enumerate() {
            let arg = if is_unsettled(&arg) { self.settle_parameter(arg, *target) } else { arg };
            let fits = arg.sql_type() == SqlType::Null || arg.sql_type().common(*target).is_some();
            if !fits {
                let (name, found) = (name.to_owned(), arg.sql_type());
                let problem = Problem::ProgramArgument { name, number: number + 1, expected: *target, found };
                self.report(&problem, arg.span());
                return None;
            }
            coerced.push(self.coerce(arg, *target));
        }
        Some(coerced)
    }

    fn unknown_function(&mut self, call: &Call, span: Span) -> Expr {
        let name = &call.name.text;
        if let Some(later) = LATER.iter().find(|wanted| name.eq_ignore_ascii_case(wanted)) {
            self.problems.push(Error::not_supported(&format!("the function {later}")).at(span));
            return super::stand_in(span);
        }
        let known: Vec<&'static str> = FUNCTIONS
            .iter()
            .map(|(name, _)| *name)
            .filter(|name| !name.contains(' '))
            .chain(SPECIAL_FUNCTIONS.iter().copied())
            .chain(AggregateFunction::names())
            .chain(WindowFunction::NAMED.iter().map(|(name, _)| *name))
            .collect();
        let near = nearest(&name.to_uppercase(), known.iter().copied());
        let near = near.and_then(|near| known.iter().find(|known| **known == near)).copied();
        let mut args: Vec<&str> = call.args.iter().map(|arg| self.text(arg.span)).collect();
        if call.star {
            args.push("*");
        }
        let meant = super::thesaurus::for_call(name, &args);
        self.report(&Problem::NoSuchFunction { name: name.to_uppercase(), near, meant }, call.name.span)
    }
}

/// What appears in or after a call and only aggregates and window functions may have.
fn unexpected(call: &Call) -> Option<&'static str> {
    [
        (call.star, "*"),
        (call.distinct, "DISTINCT"),
        (!call.order.is_empty(), "order"),
        (call.filter.is_some(), "FILTER"),
        (call.nulls.is_some(), "treatment of NULLs"),
    ]
    .into_iter()
    .find(|(present, _)| *present)
    .map(|(_, what)| what)
}
