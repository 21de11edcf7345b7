//! Implicit conversion: bringing operands to one type (clauses 9.1 to 9.5).

use super::{Binder, blank_padding::align_pair, problem::Problem};
use crate::diagnostic::Span;
use crate::logical::{Expr, ExprKind};
use crate::types::{Decimal, ParameterName, SqlType, Value};

impl Binder<'_> {
    /// Brings `expr` to `target`, which must be able to hold all its values. Constants are converted at once.
    pub(super) fn coerce(&mut self, expr: Expr, target: SqlType) -> Expr {
        let expr = if is_unsettled(&expr) { self.settle_parameter(expr, target) } else { expr };
        self.convert(expr, target)
    }

    /// Brings both to their common type, or reports that there is none.
    pub(super) fn unify_pair(&mut self, left: Expr, right: Expr, span: Span) -> Option<(Expr, Expr)> {
        let (left, right) = self.settle_pair(left, right);
        match tight_type(&left, right.sql_type()).common(tight_type(&right, left.sql_type())) {
            Some(common) => Some((self.coerce(left, common), self.coerce(right, common))),
            None => {
                let texts = [&left, &right].map(|side| self.text(side.span()).to_owned());
                self.report(&Problem::NotComparable { left: left.sql_type(), right: right.sql_type(), texts }, span);
                None
            }
        }
    }

    /// [`Binder::unify_pair`] for two sides of a comparison, in which the blanks that fill up a CHAR do not count.
    pub(super) fn unify_compared(&mut self, left: Expr, right: Expr, span: Span) -> Option<(Expr, Expr)> {
        let (left, right) = self.settle_pair(left, right);
        let (left, right) = align_pair(left, right);
        self.unify_pair(left, right, span)
    }

    /// Gives a parameter beside an operand that operand's type.
    pub(super) fn settle_pair(&mut self, left: Expr, right: Expr) -> (Expr, Expr) {
        match (is_unsettled(&left), is_unsettled(&right)) {
            (true, true) => (self.settle_parameter(left, SqlType::TEXT), self.settle_parameter(right, SqlType::TEXT)),
            (true, false) if right.sql_type() != SqlType::Null => {
                let target = right.sql_type();
                (self.settle_parameter(left, target), right)
            }
            (false, true) if left.sql_type() != SqlType::Null => {
                let target = left.sql_type();
                (left, self.settle_parameter(right, target))
            }
            _ => (left, right),
        }
    }

    /// Brings all to one type; `what` names the construct in the error about the odd one.
    pub(super) fn unify_all(&mut self, exprs: Vec<Expr>, what: &'static str) -> (Vec<Expr>, SqlType) {
        let beside = exprs.iter().find(|expr| !expr.is_constant()).map_or(SqlType::Null, Expr::sql_type);
        let mut common = SqlType::Null;
        let mut seen = Span::default();
        for expr in exprs.iter().filter(|expr| !is_unsettled(expr)) {
            match common.common(tight_type(expr, beside)) {
                Some(wider) => {
                    // The help speaks of the first that is not NULL.
                    if common == SqlType::Null {
                        seen = expr.span();
                    }
                    common = wider;
                }
                None => {
                    let texts = [seen, expr.span()].map(|span| self.text(span).to_owned());
                    let problem = Problem::NoCommonType { what, first: common, odd: expr.sql_type(), texts };
                    self.report(&problem, expr.span());
                    return (exprs, SqlType::Null);
                }
            }
        }
        if common == SqlType::Null && exprs.iter().any(is_unsettled) {
            common = SqlType::TEXT;
        }
        let mut result = common;
        let settled: Vec<Expr> = exprs
            .into_iter()
            .map(|expr| {
                let settled = if is_unsettled(&expr) { self.settle_parameter(expr, common) } else { expr };
                result = result.common(tight_type(&settled, beside)).unwrap_or(result);
                settled
            })
            .collect();
        (settled.into_iter().map(|expr| self.convert(expr, result)).collect(), result)
    }

    /// A condition: BOOLEAN, or a stand-in.
    pub(super) fn condition(&mut self, expr: Expr, what: &str) -> Expr {
        let found = expr.sql_type();
        if matches!(found, SqlType::Boolean | SqlType::Null) {
            return self.coerce(expr, SqlType::Boolean);
        }
        let span = expr.span();
        self.report(&Problem::WrongType { what: what.into(), expected: "a condition (TRUE or FALSE)", found }, span)
    }
}

/// The type of an operand beside one of type `other`. A constant number counts with the digits it has, not with those of its type,
/// so that `hours > 2` compares NUMERIC(4,2) as it is stored, without a cast of every row.
fn tight_type(expr: &Expr, other: SqlType) -> SqlType {
    if matches!(expr.kind(), ExprKind::Array(elements) if elements.is_empty()) && matches!(other, SqlType::Array(_)) {
        return other;
    }
    let decimal = match expr.constant() {
        _ if !other.is_exact() => return expr.sql_type(),
        Some(Value::Integer(value)) => Decimal { unscaled: (*value).into(), scale: 0 },
        Some(Value::Numeric(value)) => *value,
        _ => return expr.sql_type(),
    };
    let narrow = SqlType::numeric(decimal.precision(), decimal.scale);
    match (other.digits(), decimal.scale) {
        // An integer within the digits of an integer type, which it may exceed only with all of them.
        (Some((digits, _)), 0) if other.is_integer() => {
            if decimal.precision() < digits {
                other
            } else {
                expr.sql_type()
            }
        }
        _ => narrow,
    }
}

/// A parameter whose use has not settled its type yet.
pub(super) fn is_unsettled(expr: &Expr) -> bool {
    matches!(expr.kind(), ExprKind::Parameter(..)) && expr.sql_type() == SqlType::Null
}

/// A cast where one is needed, folded when the operand is constant and fits.
pub(super) fn convert(expr: Expr, target: SqlType) -> Expr {
    if expr.sql_type() == target {
        return expr;
    }
    let span = expr.span();
    let parameter = if let ExprKind::Parameter(name, _) = expr.kind() { Some(name.clone()) } else { None };
    if let (ExprKind::Column(id), SqlType::Varchar(from), SqlType::Varchar(to)) = (expr.kind(), expr.sql_type(), target)
        && to.is_none_or(|to| from.is_some_and(|from| from <= to))
    {
        // A longer text type holds the same values in the same form.
        return Expr::column(*id, target, span);
    }
    let constant = expr.is_constant();
    let cast = Expr::new(ExprKind::Cast(Box::new(expr)), target, span);
    if !constant {
        return cast;
    }
    settled(cast, parameter)
}

/// A cast of a constant as its value: that of the parameter which it casts, if it does.
pub(super) fn settled(cast: Expr, parameter: Option<ParameterName>) -> Expr {
    let (target, span) = (cast.sql_type(), cast.span());
    match (crate::kernel::evaluate_constant(&cast), parameter) {
        (Ok(value), Some(name)) => Expr::new(ExprKind::Parameter(name, Some(value)), target, span),
        (Ok(value), None) if value.is_small() => Expr::literal(value, target, span),
        // A long text stays as its expression. What can't be converted is reported when the row is reached, if one is.
        (Ok(_) | Err(_), _) => cast,
    }
}

/// The literal an expression comes to, when all of it is literal and it does not fail.
pub(super) fn fold(expr: Expr) -> Expr {
    let mut literal = true;
    expr.kind().for_each_child(|child| literal &= matches!(child.kind(), ExprKind::Literal(_)));
    match crate::kernel::evaluate_constant(&expr) {
        Ok(value) if literal && value.is_small() => Expr::literal(value, expr.sql_type(), expr.span()),
        _ => expr,
    }
}
