//! Result types of arithmetic (clause 6.29; for dates and intervals clauses 6.41 and 6.43).

use super::{Binder, problem::Problem};
use crate::diagnostic::Span;
use crate::logical::{Expr, ExprKind};
use crate::syntax::ast::ArithmeticOp as Op;
use crate::types::SqlType as T;

/// The largest precision of a decimal number.
const MOST_DIGITS: u16 = 38;

impl Binder<'_> {
    /// `left op right`, after NULLs and parameters have taken the type of the other side.
    pub(super) fn arithmetic(&mut self, op: Op, left: Expr, right: Expr, span: Span) -> Expr {
        let (left, right) = self.settle_operands(op, left, right);
        let (a, b) = (left.sql_type(), right.sql_type());
        let result = match (a, b) {
            (T::Null, T::Null) => return Expr::literal(crate::types::Value::Null, T::Integer, span),
            (T::Null, other) | (other, T::Null) => self.number_type(op, (other, other), (&left, &right), span),
            _ => self.number_type(op, (a, b), (&left, &right), span),
        };
        let Some(result) = result else { return super::stand_in(span) };
        if op == Op::Divide && a.is_integer() && b.is_integer() {
            self.note_integer_division(span);
        }
        let (left, right) = self.bring_to(result, left, right);
        Expr::new(ExprKind::Arithmetic(op, Box::new([left, right])), result, span)
    }

    /// A parameter beside an interval under `*` or `/` is a factor; elsewhere it has the other operand's type.
    fn settle_operands(&mut self, op: Op, left: Expr, right: Expr) -> (Expr, Expr) {
        let scales = matches!(op, Op::Multiply | Op::Divide);
        let factor = |other: &Expr| if scales && other.sql_type().is_interval() { Some(T::Integer) } else { None };
        match (super::convert::is_unsettled(&left), super::convert::is_unsettled(&right)) {
            (true, true) => (self.settle_parameter(left, T::Integer), self.settle_parameter(right, T::Integer)),
            (true, false) if factor(&right).is_some() => (self.settle_parameter(left, T::Integer), right),
            (false, true) if factor(&left).is_some() => (left, self.settle_parameter(right, T::Integer)),
            _ => self.settle_pair(left, right),
        }
    }

    /// Converts operands of numbers to what the kernels take: both of the result's integer or floating type, or both decimals.
    fn bring_to(&mut self, result: T, left: Expr, right: Expr) -> (Expr, Expr) {
        let mut bring = |expr: Expr| match (result, expr.sql_type()) {
            (T::Numeric { .. }, T::Numeric { .. }) => expr,
            (T::Numeric { .. }, T::Null) => self.coerce(expr, T::numeric(1, 0)),
            (T::Numeric { .. }, from) if from.is_integer() => {
                let (precision, scale) = from.digits().unwrap_or((19, 0));
                self.coerce(expr, T::numeric(precision, scale))
            }
            (result, from) if result.is_number() && (from.is_number() || from == T::Null) => self.coerce(expr, result),
            (result, T::Null) => self.coerce(expr, result),
            _ => expr,
        };
        (bring(left), bring(right))
    }

    fn number_type(&mut self, op: Op, (a, b): (T, T), sides: (&Expr, &Expr), span: Span) -> Option<T> {
        if a.is_exact() && b.is_exact() && !(a.is_integer() && b.is_integer()) {
            return self.decimal_type(op, a, b, span);
        }
        let result = if a.is_number() && b.is_number() { a.common(b) } else { temporal_type(op, a, b) };
        if result.is_none() {
            let texts = [sides.0, sides.1].map(|side| self.text(side.span()).to_owned());
            self.report(&Problem::NoOperator { symbol: op.symbol(), left: a, right: b, texts }, span);
        }
        result
    }

    /// `+` and `-` keep the larger scale, `*` adds scales, `/` has scale max(6, s1 + p2 + 1) as far as 38 digits reach, though at least 10.
    fn decimal_type(&mut self, op: Op, a: T, b: T, span: Span) -> Option<T> {
        let ((p1, s1), (p2, s2)) = (a.digits()?, b.digits()?);
        let [p1, s1, p2, s2] = [p1, s1, p2, s2].map(u16::from);
        let (precision, scale) = match op {
            Op::Add | Op::Subtract => {
                let scale = s1.max(s2);
                ((p1 - s1).max(p2 - s2) + 1 + scale, scale)
            }
            Op::Multiply => (p1 + p2, s1 + s2),
            Op::Divide => {
                let whole = p1 - s1 + s2;
                let scale = 6.max(s1 + p2 + 1);
                // Where the operands leave no room, as sums of 38 digits do, quotients keep ten digits after the point all the same.
                let fitting = scale.min(MOST_DIGITS.saturating_sub(whole)).max(scale.min(10));
                (whole + fitting, fitting)
            }
        };
        if scale > MOST_DIGITS {
            self.report(&Problem::ScaleTooLarge { symbol: op.symbol(), digits: scale }, span);
            return None;
        }
        let digits = |value: u16| u8::try_from(value.min(MOST_DIGITS)).unwrap_or(38);
        Some(T::numeric(digits(precision), digits(scale)))
    }

    /// `-operand`.
    pub(super) fn negate(&mut self, operand: Expr, span: Span) -> Expr {
        let operand =
            if super::convert::is_unsettled(&operand) { self.settle_parameter(operand, T::Integer) } else { operand };
        let found = operand.sql_type();
        if found == T::Null {
            return super::stand_in(span);
        }
        if !found.is_number() && !found.is_interval() {
            return self
                .report(&Problem::WrongType { what: "-".into(), expected: "a number or an interval", found }, span);
        }
        super::convert::fold(Expr::new(ExprKind::Negate(Box::new(operand)), found, span))
    }

    /// `left || right`: of texts, binary strings or arrays.
    pub(super) fn concat(&mut self, left: Expr, right: Expr, span: Span) -> Expr {
        let (a, b) = (left.sql_type(), right.sql_type());
        let composite = matches!(a, T::Array(_)) || matches!(b, T::Array(_));
        if composite || a.is_binary() || b.is_binary() {
            let Some((left, right)) = self.unify_pair(left, right, span) else { return super::stand_in(span) };
            let result = if composite { left.sql_type() } else { T::Varbinary(None) };
            return Expr::new(ExprKind::Concat(Box::new([left, right])), result, span);
        }
        let left = self.text_operand(left, "||");
        let right = self.text_operand(right, "||");
        Expr::new(ExprKind::Concat(Box::new([left, right])), T::TEXT, span)
    }
}

/// Dates, times and intervals: what may be added to, taken from or multiplied with what.
fn temporal_type(op: Op, a: T, b: T) -> Option<T> {
    match (op, a, b) {
        (Op::Add | Op::Subtract, T::Date, T::YearMonth | T::DayTime) => Some(T::Date),
        (Op::Add, T::YearMonth | T::DayTime, T::Date) => Some(T::Date),
        (Op::Add | Op::Subtract, T::Timestamp | T::TimestampTz, T::YearMonth | T::DayTime) => Some(a),
        (Op::Add, T::YearMonth | T::DayTime, T::Timestamp | T::TimestampTz) => Some(b),
        (Op::Add | Op::Subtract, T::Time | T::TimeTz, T::DayTime) => Some(a),
        (Op::Add, T::DayTime, T::Time | T::TimeTz) => Some(b),
        (Op::Subtract, T::Date, T::Date)
        | (Op::Subtract, T::Timestamp, T::Timestamp)
        | (Op::Subtract, T::TimestampTz, T::TimestampTz)
        | (Op::Subtract, T::Time, T::Time)
        | (Op::Subtract, T::TimeTz, T::TimeTz) => Some(T::DayTime),
        (Op::Add | Op::Subtract, T::YearMonth, T::YearMonth) => Some(T::YearMonth),
        (Op::Add | Op::Subtract, T::DayTime, T::DayTime) => Some(T::DayTime),
        (Op::Multiply | Op::Divide, T::YearMonth | T::DayTime, number) if number.is_number() => Some(a),
        (Op::Multiply, number, T::YearMonth | T::DayTime) if number.is_number() => Some(b),
        _ => None,
    }
}
