//! Times with and without time zone (clauses 6.13 and 6.35): a type without zone holds what clocks of the session's zone show.

use super::Binder;
use super::convert::{convert, settled};
use super::problem::Problem;
use crate::diagnostic::{Error, Span};
use crate::logical::{Expr, ExprKind, Function, ZoneFunction};
use crate::syntax::ast::ArithmeticOp;
use crate::types::{ExtractField, MICROS_PER_DAY, MICROS_PER_SECOND, SqlType as T, Value, Zone};

impl Binder<'_> {
    /// The moment of the statement as clocks of the session's zone show it, in microseconds since 1970.
    pub(super) fn local_now(&self) -> i64 {
        let micros = self.around.moment.micros;
        micros.saturating_add(self.zone.ahead(micros))
    }

    /// `expr` as a value of `target`; between types with and without time zone by the session's zone.
    pub(super) fn convert(&mut self, expr: Expr, target: T) -> Expr {
        let expr = self.across_zones(expr, target);
        convert(expr, target)
    }

    /// What a cast to `target` starts from: where it crosses the line between types with and without time zone, a value on the other side of
    /// it. In UTC both sides hold the same numbers, and nothing is to be done.
    pub(super) fn across_zones(&mut self, expr: Expr, target: T) -> Expr {
        let span = expr.span();
        match (expr.sql_type(), target) {
            _ if self.zone == Zone::UTC => expr,
            (T::TimestampTz, T::Date | T::Time | T::Timestamp) => {
                self.in_zone(Function::Zone(ZoneFunction::LocalAtZone), expr, T::Timestamp)
            }
            (T::TimestampTz, text) if text.is_text() => self.in_zone(Function::TextOfInstant, expr, text),
            (T::Date | T::Timestamp, T::TimestampTz | T::TimeTz) => {
                let local = convert(expr, T::Timestamp);
                self.in_zone(Function::Zone(ZoneFunction::MomentOfLocal), local, T::TimestampTz)
            }
            (T::TimeTz, T::Time) => self.in_zone(Function::Zone(ZoneFunction::LocalAtZone), expr, T::Time),
            (T::Time, T::TimeTz) => self.in_zone(Function::Zone(ZoneFunction::MomentOfLocal), expr, T::TimeTz),
            (text, T::TimestampTz | T::TimeTz) if text.is_text() => {
                let text = convert(expr, T::TEXT);
                self.in_zone(Function::InstantOfText, text, target)
            }
            (from @ (T::Array(_) | T::Row(_)), to) if crosses(from, to) => {
                let what = "a cast of elements or fields between types with and without time zone in a session whose zone is not UTC";
                self.problems.push(Error::not_supported(what).at(span));
                super::stand_in(span)
            }
            _ => expr,
        }
    }

    fn in_zone(&self, function: Function, expr: Expr, sql_type: T) -> Expr {
        let (span, constant) = (expr.span(), expr.is_constant());
        let name = if let ExprKind::Parameter(name, _) = expr.kind() { Some(name.clone()) } else { None };
        // A time of day has no date that an offset could depend on: it is that of the statement's moment.
        let of_day = matches!(sql_type, T::Time | T::TimeTz);
        let zone = if of_day {
            Zone::Fixed(self.zone.ahead(self.around.moment.micros) / MICROS_PER_SECOND)
        } else {
            self.zone
        };
        let zone = Expr::literal(Value::Text(zone.to_string()), T::TEXT, span);
        let call = Expr::new(ExprKind::Call(function, vec![expr, zone]), sql_type, span);
        if constant { settled(call, name) } else { call }
    }

    /// What clocks show at a moment, for EXTRACT and for a CAST to a type without zone: those of z for `x AT TIME ZONE z`, else those of
    /// the session's zone.
    pub(super) fn local_time(&mut self, expr: Expr) -> Expr {
        let target = if let T::TimestampTz = expr.sql_type() {
            T::Timestamp
        } else if let T::TimeTz = expr.sql_type() {
            T::Time
        } else {
            return expr;
        };
        let expr = local_of_zone(expr);
        self.across_zones(expr, target)
    }

    /// The beginning of a unit in which a moment lies, as clocks of its zone count it.
    pub(super) fn truncated(&mut self, unit: ExtractField, operand: Expr, span: Span) -> Expr {
        let zone = if let ExprKind::Call(Function::Zone(ZoneFunction::AtZone), args) = operand.kind() {
            args.get(1).cloned()
        } else if self.zone == Zone::UTC {
            None
        } else {
            Some(Expr::literal(Value::Text(self.zone.to_string()), T::TEXT, span))
        };
        let (T::TimestampTz, Some(zone)) = (operand.sql_type(), zone) else {
            return self.function(Function::TruncateTo(unit), vec![operand], span);
        };
        let local = self.local_time(operand);
        let start = self.function(Function::TruncateTo(unit), vec![local], span);
        Expr::new(ExprKind::Call(Function::Zone(ZoneFunction::MomentOfLocal), vec![start, zone]), T::TimestampTz, span)
    }

    /// Hours or minutes that clocks of a moment's zone are ahead of UTC.
    pub(super) fn zone_field(&mut self, field: ExtractField, operand: Expr, span: Span) -> Expr {
        let zoned =
            self.zone != Zone::UTC || matches!(operand.kind(), ExprKind::Call(Function::Zone(ZoneFunction::AtZone), _));
        if operand.sql_type() != T::TimestampTz || !zoned {
            return self.function(Function::Extract(field), vec![operand], span);
        }
        let there = self.local_time(operand.clone());
        let in_utc = Expr::new(ExprKind::Cast(Box::new(operand)), T::Timestamp, span);
        let ahead = self.arithmetic(ArithmeticOp::Subtract, there, in_utc, span);
        let hours = field == ExtractField::TimezoneHour;
        let unit = if hours { ExtractField::Hour } else { ExtractField::Minute };
        self.function(Function::Extract(unit), vec![ahead], span)
    }

    /// A time of day as a timestamp is that time of the current day (clause 6.13, general rule 16).
    pub(super) fn time_of_today(&mut self, operand: Expr, target: T, span: Span) -> Expr {
        let zero = Expr::literal(Value::Time(0), T::Time, span);
        let operand = self.across_zones(operand, T::Time);
        let time = Expr::new(ExprKind::Cast(Box::new(operand)), T::Time, span);
        let since = self.arithmetic(ArithmeticOp::Subtract, time, zero, span);
        let now = self.local_now();
        let midnight = Value::Timestamp(now - now.rem_euclid(MICROS_PER_DAY));
        let midnight = Expr::literal(midnight, T::Timestamp, span);
        let moment = self.arithmetic(ArithmeticOp::Add, midnight, since, span);
        self.convert(moment, target)
    }

    /// AT TIME ZONE gives the same moment with a zone (clause 6.35): a timestamp without one is an instant in the
    /// session's zone. The zone is not kept with the value; [`Binder::local_time`] is what clocks there show.
    pub(super) fn at_zone(
        &mut self,
        function: Function,
        args: Vec<Expr>,
        types: (T, T),
        span: Span,
    ) -> Option<(Vec<Expr>, T)> {
        let found = types.0;
        let sql_type = if matches!(found, T::Timestamp | T::TimestampTz) {
            T::TimestampTz
        } else if matches!(found, T::Time | T::TimeTz) {
            T::TimeTz
        } else {
            let what = function.name().into();
            self.report(&Problem::WrongType { what, expected: "a time or timestamp", found }, span);
            return None;
        };
        if function == Function::Zone(ZoneFunction::AtZone) && types.1 != T::DayTime && !types.1.is_text() {
            let expected = "an offset, as in INTERVAL '2' HOUR or '+02:00'";
            self.report(&Problem::WrongType { what: "AT TIME ZONE".into(), expected, found: types.1 }, span);
            return None;
        }
        let mut args = args;
        let operand = args.remove(0);
        args.insert(0, self.convert(operand, sql_type));
        Some((args, sql_type))
    }
}

/// `x AT TIME ZONE z` as what clocks of z show; any other expression as it is.
pub(super) fn local_of_zone(expr: Expr) -> Expr {
    let local = if expr.sql_type() == T::TimestampTz { T::Timestamp } else { T::Time };
    if let ExprKind::Call(Function::Zone(ZoneFunction::AtZone), args) = expr.kind() {
        Expr::new(ExprKind::Call(Function::Zone(ZoneFunction::LocalAtZone), args.clone()), local, expr.span())
    } else {
        expr
    }
}

/// Whether a cast crosses the line between types with and without time zone, in elements and fields too.
fn crosses(from: T, to: T) -> bool {
    let zoned = |t: T| matches!(t, T::TimestampTz | T::TimeTz);
    match (from, to) {
        (T::Array(a), T::Array(b)) => crosses(*a, *b),
        (T::Row(a), T::Row(b)) => a.iter().zip(b).any(|(a, b)| crosses(a.sql_type, b.sql_type)),
        (a, b) => (zoned(a) || zoned(b)) && a != b,
    }
}
