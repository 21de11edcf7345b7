//! Intervals of some of their fields: casts to them, numbers from them, and which of them a DATE takes (ISO/IEC 9075-2, clauses 6.13 and
//! 6.41). A value does not know its fields: they are those that the expression writes.

use super::Binder;
use super::problem::Problem;
use super::scope::{At, Scope};
use crate::diagnostic::{Result, Span};
use crate::logical::{ColumnId, Expr, ExprKind, Function};
use crate::syntax::ast;
use crate::types::{Field, Fields, Interval, SqlType, TypeLimit, Value, parse_interval};

/// The call that a cast to fewer digits of seconds is read as.
/// The functions whose result has the fields of their arguments.
const KEEPS_FIELDS: [&str; 4] = ["MIN", "MAX", "ABS", "COALESCE"];

impl Binder<'_> {
    /// `CAST(operand AS INTERVAL fields)`: what is smaller than the last field is dropped; a number counts the only field.
    pub(super) fn cast_to_fields(
        &mut self,
        operand: &ast::Expr,
        fields: Fields,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let operand = self.expr(operand, at)?;
        let from = operand.sql_type();
        let read = match operand.constant() {
            Some(Value::Text(text)) => parse_interval(text.trim(), fields.first(), fields.last()),
            _ => None,
        };
        if let Some(interval) = read {
            return Ok(Expr::literal(value_of(interval), fields.sql_type(), span));
        }
        let interval = match fields.single() {
            Some(field) if from.is_exact() => {
                let one = Expr::literal(value_of(field.one()), fields.sql_type(), span);
                self.arithmetic(ast::ArithmeticOp::Multiply, operand, one, span)
            }
            _ if from == fields.sql_type() => operand,
            _ => self.cast(operand, fields.sql_type(), span),
        };
        Ok(held_to(interval, fields, span))
    }

    /// `CAST(interval AS number)`, which an interval of one field alone becomes.
    pub(super) fn number_of_interval(
        &mut self,
        (written, operand): (&ast::Expr, Expr),
        to: SqlType,
        (scope, span): (&Scope, Span),
    ) -> Expr {
        let from = operand.sql_type();
        let Some(field) = self.fields_of(written, scope).and_then(Fields::single) else {
            return self.report(&Problem::NoCast { from, to }, span);
        };
        let unit = match field.one() {
            Interval::Months(months) => i64::from(months),
            Interval::Micros(_) if field == Field::Second => 1,
            Interval::Micros(micros) => micros,
        };
        let unit = Expr::literal(Value::Integer(unit), SqlType::BigInt, span);
        let mut count = Expr::new(ExprKind::Call(Function::FieldCount, vec![operand, unit]), SqlType::BigInt, span);
        if field == Field::Second {
            // Seconds have a fraction.
            let million = Expr::literal(Value::Integer(1_000_000), SqlType::Integer, span);
            let micros = self.cast(count, SqlType::numeric(19, 0), span);
            count = self.arithmetic(ast::ArithmeticOp::Divide, micros, million, span);
        }
        self.cast(count, to, span)
    }

    /// A difference `(end - start)` in these fields.
    pub(super) fn difference(&mut self, operand: &ast::Expr, fields: Fields, at: At<'_>, span: Span) -> Result<Expr> {
        let ast::ExprKind::Arithmetic(_, pair) = &operand.kind else { return Ok(super::stand_in(span)) };
        let (left, right) = (self.expr(&pair.left, at)?, self.expr(&pair.right, at)?);
        let target = fields.sql_type();
        if target == SqlType::YearMonth && left.sql_type().is_datetime() {
            let months = self.function(Function::MonthsBetween, vec![left, right], span);
            return Ok(held_to(months, fields, span));
        }
        let result = self.arithmetic(ast::ArithmeticOp::Subtract, left, right, span);
        let found = result.sql_type();
        if found != target && found != SqlType::Null {
            let (what, expected) = ("a difference in these fields".into(), "two days or times");
            return Ok(self.report(&Problem::WrongType { what, expected, found }, span));
        }
        Ok(held_to(result, fields, span))
    }

    /// Reports a day plus or minus an interval of hours, minutes or seconds, which a DATE has no room for.
    pub(super) fn check_days(
        &mut self,
        written: &ast::Operands,
        sides: (&Expr, &Expr),
        (scope, span): (&Scope, Span),
    ) -> bool {
        let added = match (sides.0.sql_type(), sides.1.sql_type()) {
            (SqlType::Date, SqlType::DayTime) => &written.right,
            (SqlType::DayTime, SqlType::Date) => &written.left,
            _ => return true,
        };
        match self.fields_of(added, scope).filter(|fields| !fields.go_to_days()) {
            Some(fields) => {
                self.report(&Problem::DayAndTime { fields: fields.to_string() }, span);
                false
            }
            None => true,
        }
    }

    /// What the values of an expression are held to besides their type, where it says so or a column of it does.
    pub(super) fn limit_of(&self, expr: &ast::Expr, scope: &Scope) -> Option<TypeLimit> {
        use ast::ExprKind as K;
        if let K::Name(name) = &expr.kind {
            return self.columns.get(scope.resolve(name).ok()?).limit;
        }
        if let K::Form(ast::Form::SecondDigits, args) = &expr.kind {
            let [_, ast::Expr { kind: K::Literal(Value::Integer(digits), _), .. }] = args.as_slice() else {
                return None;
            };
            return u8::try_from(*digits).ok().map(TypeLimit::SecondDigits);
        }
        if may_be_part(expr) { None } else { self.fields_of(expr, scope).map(TypeLimit::Fields) }
    }

    /// The fields of an interval, where the expression writes them or its columns have them.
    fn fields_of(&self, expr: &ast::Expr, scope: &Scope) -> Option<Fields> {
        use ast::ArithmeticOp as Op;
        use ast::ExprKind as K;
        if let K::CastToFields(_, fields) | K::Difference(_, fields) = &expr.kind {
            Some(*fields)
        } else if let K::Name(_) = &expr.kind {
            match self.limit_of(expr, scope)? {
                TypeLimit::Fields(fields) => Some(fields),
                TypeLimit::SecondDigits(_) | TypeLimit::Elements(_) => None,
            }
        } else if let K::Negate(operand) = &expr.kind {
            self.fields_of(operand, scope)
        } else if let K::Arithmetic(op, pair) = &expr.kind {
            let first = self.fields_of(&pair.left, scope);
            let second = || self.fields_of(&pair.right, scope);
            match op {
                Op::Add | Op::Subtract => first?.with(second()?),
                Op::Multiply => first.or_else(second),
                Op::Divide => first,
            }
        } else if let K::Call(call) = &expr.kind
            && KEEPS_FIELDS.iter().any(|name| call.name.text.eq_ignore_ascii_case(name))
        {
            self.common_fields(&call.args, scope)
        } else if let K::Form(ast::Form::Greatest | ast::Form::Least, args) = &expr.kind {
            self.common_fields(args, scope)
        } else {
            None
        }
    }

    fn common_fields(&self, exprs: &[ast::Expr], scope: &Scope) -> Option<Fields> {
        exprs.iter().map(|expr| self.fields_of(expr, scope)).reduce(|a, b| a?.with(b?)).flatten()
    }

    /// What the values of all these columns are held to.
    pub(super) fn common_limit(&self, columns: impl Iterator<Item = ColumnId>) -> Option<TypeLimit> {
        let both = |a: Option<TypeLimit>, b: Option<TypeLimit>| a?.with(b?);
        columns.map(|id| self.columns.get(id).limit).reduce(both).flatten()
    }
}

fn value_of(interval: Interval) -> Value {
    match interval {
        Interval::Months(months) => Value::Months(months),
        Interval::Micros(micros) => Value::Micros(micros),
    }
}

/// An interval without what is smaller than the last field.
fn held_to(interval: Expr, fields: Fields, span: Span) -> Expr {
    let whole = match interval.constant() {
        Some(Value::Months(months)) => i64::from(*months) % fields.unit() == 0,
        Some(Value::Micros(micros)) => micros % fields.unit() == 0,
        _ => fields.unit() == 1,
    };
    if whole || !interval.sql_type().is_interval() {
        return interval;
    }
    let unit = Expr::literal(Value::Integer(fields.unit()), SqlType::BigInt, span);
    let sql_type = interval.sql_type();
    Expr::new(ExprKind::Call(Function::IntervalFields, vec![interval, unit]), sql_type, span)
}

/// Whether an interval may have a part of its last field: a product or quotient of one.
fn may_be_part(expr: &ast::Expr) -> bool {
    use ast::ArithmeticOp as Op;
    if let ast::ExprKind::Negate(operand) = &expr.kind {
        may_be_part(operand)
    } else if let ast::ExprKind::Arithmetic(op, pair) = &expr.kind {
        matches!(op, Op::Multiply | Op::Divide) || may_be_part(&pair.left) || may_be_part(&pair.right)
    } else if let ast::ExprKind::Call(call) = &expr.kind {
        call.args.iter().any(may_be_part)
    } else if let ast::ExprKind::Form(_, args) = &expr.kind {
        args.iter().any(may_be_part)
    } else {
        false
    }
}
