//! Periods in expressions and changes: the period predicates (clause 8.20), and FOR PORTION OF (clauses 14.9 and 14.14).

use super::change::Target;
use super::change_problem::ChangeProblem;
use super::problem::Problem;
use super::scope::{At, Clause, Scope, ScopeColumn, ScopePeriod};
use super::{Binder, convert};
use crate::catalog::{SYSTEM_TIME, TableDefinition};
use crate::diagnostic::{Error, Result, Span, SqlState};
use crate::kernel::evaluate_constant;
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan};
use crate::syntax::ast::{self, CompareOp, Ident, PeriodOp};
use crate::types::Value;

/// The portion of a period that a change is about, with the places of the period's columns.
#[derive(Clone, Debug, PartialEq)]
pub struct Portion {
    pub start: usize,
    pub end: usize,
    pub from: Value,
    pub to: Value,
}

/// The periods of a table over its columns; `id` gives the one at a place.
pub(super) fn scope_periods(definition: &TableDefinition, id: impl Fn(usize) -> ColumnId) -> Vec<ScopePeriod> {
    let own = definition.periods.iter().map(|period| (period.name.as_str(), period.start, period.end));
    let system = definition.system_time.iter().map(|period| (SYSTEM_TIME, period.start, period.end));
    let period = |(name, start, end): (&str, usize, usize)| ScopePeriod {
        name: name.to_owned(),
        start: id(start),
        end: id(end),
    };
    own.chain(system).map(period).collect()
}

/// A side of a period predicate.
enum Side {
    Period(Expr, Expr),
    Point(Expr),
}

impl<'a> Binder<'a> {
    /// A period predicate, as comparisons of starts and ends.
    pub(super) fn period_test(
        &mut self,
        op: PeriodOp,
        operands: &ast::Operands,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let (left, right) = (self.side(&operands.left, at)?, self.side(&operands.right, at)?);
        let (s1, e1) = match left {
            Side::Period(start, end) => (start, end),
            Side::Point(_) => return Ok(self.report(&Problem::NoPeriod { op: op.words(), side: "before it" }, span)),
        };
        let (s2, e2) = match right {
            Side::Period(start, end) => (start, end),
            Side::Point(point) if op == PeriodOp::Contains => {
                let from = self.compare(CompareOp::LessOrEqual, s1, point.clone(), span);
                let until = self.compare(CompareOp::Greater, e1, point, span);
                return Ok(Expr::and([from, until], span));
            }
            Side::Point(_) => return Ok(self.report(&Problem::NoPeriod { op: op.words(), side: "after it" }, span)),
        };
        let mut compare = |op, a: Expr, b: Expr| self.compare(op, a, b, span);
        Ok(match op {
            PeriodOp::Overlaps => {
                let first = compare(CompareOp::Less, s1, e2);
                Expr::and([first, compare(CompareOp::Greater, e1, s2)], span)
            }
            PeriodOp::Equals => {
                let first = compare(CompareOp::Equal, s1, s2);
                Expr::and([first, compare(CompareOp::Equal, e1, e2)], span)
            }
            PeriodOp::Contains => {
                let first = compare(CompareOp::LessOrEqual, s1, s2);
                Expr::and([first, compare(CompareOp::GreaterOrEqual, e1, e2)], span)
            }
            PeriodOp::Precedes => compare(CompareOp::LessOrEqual, e1, s2),
            PeriodOp::Succeeds => compare(CompareOp::GreaterOrEqual, s1, e2),
            PeriodOp::ImmediatelyPrecedes => compare(CompareOp::Equal, e1, s2),
            PeriodOp::ImmediatelySucceeds => compare(CompareOp::Equal, s1, e2),
        })
    }

    fn side(&mut self, side: &ast::Expr, at: At<'_>) -> Result<Side> {
        if let ast::ExprKind::Period(ends) = &side.kind {
            let (start, end) = (self.expr(&ends.left, at)?, self.expr(&ends.right, at)?);
            let Some((start, end)) = self.unify_pair(start, end, side.span) else {
                let nothing = || super::stand_in(side.span);
                return Ok(Side::Period(nothing(), nothing()));
            };
            if !start.sql_type().is_datetime() && start.sql_type() != crate::types::SqlType::Null {
                let (what, expected, found) = ("PERIOD".into(), "dates or timestamps", start.sql_type());
                self.report(&Problem::WrongType { what, expected, found }, side.span);
            }
            if let (Some(first), Some(last)) = (start.constant(), end.constant())
                && let (Some(from), Some(to)) = (first.ordinal(), last.ordinal())
                && from >= to
            {
                let error = backwards("the period", first, last);
                self.problems.push(error.at(side.span));
            }
            Ok(Side::Period(start, end))
        } else if let ast::ExprKind::Name(name) = &side.kind {
            match self.find_period(name, at.scope) {
                Some(period) => {
                    let (start, end) = (self.column(period.start, side.span), self.column(period.end, side.span));
                    Ok(Side::Period(start, end))
                }
                None => self.expr(side, at).map(Side::Point),
            }
        } else {
            self.expr(side, at).map(Side::Point)
        }
    }

    /// The period that a name means here or in a query around; a column of that name comes first.
    pub(super) fn find_period(&self, name: &[Ident], scope: &Scope) -> Option<ScopePeriod> {
        if scope.resolve(name).is_ok() {
            return None;
        }
        let inside = |scope: &Scope| {
            let (period, qualifier) = name.split_last()?;
            let relations: Vec<_> = match qualifier {
                [] => scope.relations.iter().collect(),
                qualifier => scope.relation(qualifier).into_iter().collect(),
            };
            let mut found = relations.iter().flat_map(|relation| &relation.periods);
            found.find(|known| period.matches(&known.name)).cloned()
        };
        inside(scope).or_else(|| self.outer.iter().rev().find_map(|outer| inside(&outer.scope)))
    }

    /// Leaves the rows whose period meets the portion of a change.
    pub(super) fn narrowed(
        &mut self,
        portion: Option<&ast::Portion>,
        (plan, own): (&mut LogicalPlan, &[ScopeColumn]),
        target: &Target<'a>,
    ) -> Result<Option<Portion>> {
        let Some(written) = portion else { return Ok(None) };
        let portion = self.portion(written, target)?;
        let ids: Vec<ColumnId> = own.iter().map(|column| column.id).collect();
        let meets = self.meets(&portion, &ids, written.span);
        *plan = self.filter_attached(std::mem::replace(plan, LogicalPlan::OneRow), meets);
        Ok(Some(portion))
    }

    /// TRUNCATE would leave nothing, and a versioned table keeps what was.
    pub(super) fn refuse_truncate(&mut self, target: &Target<'a>, span: Span) -> Result<()> {
        if target.definition.versioning().is_none() {
            return Ok(());
        }
        let message = format!("table {:?} keeps its history, which TRUNCATE would erase", target.shown_name());
        let help = format!("DELETE FROM {} keeps what was; TRIM HISTORY takes old history away", target.shown_name());
        Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help(help).at(span))
    }

    /// FOR PORTION OF: the period's columns, and the ends of the portion.
    fn portion(&mut self, portion: &ast::Portion, target: &Target<'a>) -> Result<Portion> {
        target.refuse_view("FOR PORTION OF", portion.span)?;
        let definition = target.definition;
        if portion.period.matches(SYSTEM_TIME) {
            let problem = ChangeProblem::SystemTimePortion;
            return Err(Error::from_facts(&problem).at(portion.period.span));
        }
        let Some(period) = definition.periods.iter().find(|known| portion.period.matches(&known.name)) else {
            let known = definition.periods.iter().map(|period| period.name.clone()).collect();
            let tables = vec![target.shown_name()];
            let problem = Problem::NoSuchPeriod { name: portion.period.text.clone(), tables, known };
            return Err(Error::from_facts(&problem).at(portion.period.span));
        };
        let (from, to) =
            (self.end_of(&portion.from, (target, period.start))?, self.end_of(&portion.to, (target, period.end))?);
        if let (Some(first), Some(last)) = (from.ordinal(), to.ordinal())
            && first >= last
        {
            return Err(backwards("the portion", &from, &to).at(portion.span));
        }
        Ok(Portion { start: period.start, end: period.end, from, to })
    }

    fn end_of(&mut self, end: &ast::Expr, (target, column): (&Target<'a>, usize)) -> Result<Value> {
        let column = &target.definition.columns[column];
        let bound = self.expr(end, At { scope: &Scope::default(), clause: Clause::SystemTime })?;
        let bound = if convert::is_unsettled(&bound) { self.settle_parameter(bound, column.sql_type) } else { bound };
        let bound = self.assign(bound, column);
        let span = bound.span();
        if let Some(error) = self.problems.first() {
            return Err(error.clone());
        }
        if matches!(bound.kind(), ExprKind::Parameter(_, None)) {
            // Only a plan is asked for; its rows do not matter.
            return Ok(Value::Null);
        }
        if bound.has_subquery() {
            return Err(
                Error::not_supported("a query as an end of FOR PORTION OF; LET a variable be its value").at(span)
            );
        }
        let value =
            evaluate_constant(&bound).map_err(|error| if error.span().is_none() { error.at(span) } else { error })?;
        if value.is_null() {
            return Err(Error::new(SqlState::NULL_NOT_ALLOWED, "an end of FOR PORTION OF is NULL").at(span));
        }
        Ok(value)
    }

    /// The rows whose period meets a portion.
    fn meets(&mut self, portion: &Portion, ids: &[ColumnId], span: Span) -> Expr {
        let literal = |binder: &Self, at: usize, value: &Value| {
            Expr::literal(value.clone(), binder.columns.get(ids[at]).sql_type, span)
        };
        let (from, to) = (literal(self, portion.end, &portion.from), literal(self, portion.start, &portion.to));
        let (start, end) = (self.column(ids[portion.start], span), self.column(ids[portion.end], span));
        let before = self.compare(CompareOp::Less, start, to, span);
        Expr::and([before, self.compare(CompareOp::Greater, end, from, span)], span)
    }

    /// The period of a row cut to a portion: its start and its end.
    pub(super) fn cut(&mut self, portion: &Portion, ids: &[ColumnId], span: Span) -> [(usize, Expr); 2] {
        let mut one = |at: usize, op, bound: &Value| {
            let column = self.column(ids[at], span);
            let bound = Expr::literal(bound.clone(), column.sql_type(), span);
            let outside = self.compare(op, column.clone(), bound.clone(), span);
            let sql_type = column.sql_type();
            (at, Expr::new(ExprKind::Case(vec![(outside, bound)], Box::new(column)), sql_type, span))
        };
        [one(portion.start, CompareOp::Less, &portion.from), one(portion.end, CompareOp::Greater, &portion.to)]
    }
}

/// An error for ends that are not in order.
fn backwards(what: &str, from: &Value, to: &Value) -> Error {
    Error::new(SqlState::INVALID_PERIOD, format!("{what} starts at {from} and ends at {to}"))
        .with_help("its start comes before its end, which does not belong to it")
}
