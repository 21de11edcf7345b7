//! Shares of TRUE, FALSE and UNKNOWN of a condition, from statistics.

use super::Estimator;
use super::values::{GUESS_RANGE, equal, less, prefixed};
use crate::catalog::ColumnStatistics;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, Function, Test};
use crate::types::{Selectivity, Value};

/// Without any knowledge an equality holds for one row in ten.
const GUESS_EQUAL: f64 = 0.1;
/// A LIKE pattern, and what is after the text that one begins with.
const GUESS_PATTERN: f64 = 0.1;
const GUESS_REST: f64 = 0.5;

/// The estimated shares of TRUE and UNKNOWN; the rest is FALSE. Keeping both makes NOT exact.
#[derive(Clone, Copy, Debug)]
pub(super) struct Truth {
    holds: f64,
    unknown: f64,
}

impl Truth {
    fn new(holds: f64, unknown: f64) -> Self {
        let unknown = unknown.clamp(0.0, 1.0);
        Self { holds: holds.clamp(0.0, 1.0 - unknown), unknown }
    }

    /// The share of rows for which the condition is TRUE: those that a filter keeps.
    pub(super) fn holds(self) -> Selectivity {
        Selectivity::new(self.holds)
    }

    fn fails(self) -> f64 {
        1.0 - self.holds - self.unknown
    }

    fn not(self) -> Self {
        Self::new(self.fails(), self.unknown)
    }

    /// Under independence: TRUE if both are, FALSE if either is.
    fn and(self, other: Self) -> Self {
        let holds = self.holds * other.holds;
        let fails = 1.0 - (1.0 - self.fails()) * (1.0 - other.fails());
        Self::new(holds, 1.0 - holds - fails)
    }

    fn or(self, other: Self) -> Self {
        self.not().and(other.not()).not()
    }

    /// The shares of TRUE and UNKNOWN of a condition, from its parts, as if these were independent of one another.
    ///
    /// # Errors
    /// What reading statistics meets.
    pub(super) fn of(expr: &Expr, by: &Estimator<'_>) -> Result<Self> {
        Ok(match expr.kind() {
            ExprKind::And(terms) => fold(terms, by, Self::new(1.0, 0.0), Self::and)?,
            ExprKind::Or(terms) => fold(terms, by, Self::new(0.0, 0.0), Self::or)?,
            ExprKind::Not(operand) => Self::of(operand, by)?.not(),
            ExprKind::Literal(value) | ExprKind::Parameter(_, Some(value)) => {
                if let Value::Boolean(true) = value {
                    Self::new(1.0, 0.0)
                } else if let Value::Null = value {
                    Self::new(0.0, 1.0)
                } else {
                    Self::new(0.0, 0.0)
                }
            }
            ExprKind::Compare(op, sides) => compare(*op, &sides[0], &sides[1], by)?,
            ExprKind::Same(sides) => {
                let truth = compare(CompareOp::Equal, &sides[0], &sides[1], by)?;
                Self::new(truth.holds, 0.0)
            }
            ExprKind::Is(operand, test) => is(operand, *test, by)?,
            ExprKind::In(operand, list) => {
                let mut holds = 0.0;
                let mut unknown: f64 = 0.0;
                for item in list {
                    let truth = compare(CompareOp::Equal, operand, item, by)?;
                    holds += truth.holds;
                    unknown = unknown.max(truth.unknown);
                }
                Self::new(holds, unknown)
            }
            ExprKind::Like(parts, escape) => like(&parts[0], &parts[1], escape.is_some(), by)?,
            ExprKind::Call(Function::Sampled { .. }, args) => match args.get(1).and_then(Expr::constant) {
                Some(percent) => Self::new(percent.ordinal().unwrap_or(0.0) / 100.0, 0.0),
                None => Self::new(GUESS_EQUAL, 0.0),
            },
            ExprKind::Column(id) => match by.statistics(*id)? {
                Some(statistics) => Self::new(equal(&statistics, &Value::Boolean(true)), statistics.null_share()),
                None => Self::new(0.5, 0.0),
            },
            ExprKind::Slot(_)
            | ExprKind::Parameter(_, None)
            | ExprKind::Arithmetic(..)
            | ExprKind::Concat(_)
            | ExprKind::Negate(_)
            | ExprKind::Case(..)
            | ExprKind::Coalesce(_)
            | ExprKind::Call(..)
            | ExprKind::ProgramCall(..)
            | ExprKind::Array(_)
            | ExprKind::Row(_)
            | ExprKind::Field(..)
            | ExprKind::Only(_)
            | ExprKind::Subquery(_)
            | ExprKind::Cast(_) => Self::new(0.5, 0.0),
        })
    }
}

fn fold(terms: &[Expr], by: &Estimator<'_>, start: Truth, combine: fn(Truth, Truth) -> Truth) -> Result<Truth> {
    terms.iter().try_fold(start, |sofar, term| Ok(combine(sofar, Truth::of(term, by)?)))
}

fn is(operand: &Expr, test: Test, by: &Estimator<'_>) -> Result<Truth> {
    let holds = match test {
        Test::Null if operand.sql_type() != crate::types::SqlType::Boolean => null_share(operand, by)?,
        Test::Null | Test::Unknown => Truth::of(operand, by)?.unknown,
        Test::True => Truth::of(operand, by)?.holds,
        Test::False => Truth::of(operand, by)?.fails(),
    };
    Ok(Truth::new(holds, 0.0))
}

fn null_share(expr: &Expr, by: &Estimator<'_>) -> Result<f64> {
    let mut present = 1.0;
    for id in expr.columns() {
        present *= 1.0 - by.statistics(id)?.map_or(0.0, |statistics| statistics.null_share());
    }
    Ok(1.0 - present)
}

fn compare(op: CompareOp, left: &Expr, right: &Expr, by: &Estimator<'_>) -> Result<Truth> {
    if let (ExprKind::Column(a), ExprKind::Column(b)) = (left.kind(), right.kind()) {
        return compare_columns(op, *a, *b, by);
    }
    let (op, column, other) = match (left.kind(), right.kind()) {
        (ExprKind::Column(id), _) => (op, *id, right),
        (_, ExprKind::Column(id)) => (op.flipped(), *id, left),
        _ => {
            let unknown = 1.0 - (1.0 - null_share(left, by)?) * (1.0 - null_share(right, by)?);
            return Ok(Truth::new((1.0 - unknown) * guess(op), unknown));
        }
    };
    let Some(statistics) = by.statistics(column)? else { return Ok(Truth::new(guess(op), 0.0)) };
    let nulls = statistics.null_share();
    let Some(value) = other.constant() else {
        let unknown = 1.0 - (1.0 - nulls) * (1.0 - null_share(other, by)?);
        let holds = match op {
            // A parameter without a value: an average value.
            CompareOp::Equal => 1.0 / statistics.distinct.max(1.0),
            CompareOp::NotEqual => 1.0 - 1.0 / statistics.distinct.max(1.0),
            CompareOp::Less | CompareOp::LessOrEqual | CompareOp::Greater | CompareOp::GreaterOrEqual => GUESS_RANGE,
        };
        return Ok(Truth::new((1.0 - unknown) * holds, unknown));
    };
    if value.is_null() {
        return Ok(Truth::new(0.0, 1.0));
    }
    let holds = within(op, &statistics, value, nulls).max(by.unseen(column, op, value)?);
    Ok(Truth::new(holds, nulls))
}

/// Two columns of one row: values are contained in each other.
fn compare_columns(op: CompareOp, a: ColumnId, b: ColumnId, by: &Estimator<'_>) -> Result<Truth> {
    let sides = [by.statistics(a)?, by.statistics(b)?];
    let known = || sides.iter().flatten();
    let unknown = 1.0 - known().map(|side| 1.0 - side.null_share()).product::<f64>();
    let distinct = known().map(|side| side.distinct).reduce(f64::max);
    let equal = distinct.map_or(GUESS_EQUAL, |distinct| 1.0 / distinct.max(1.0));
    let equal = equal.max(by.holds_extreme(a, b).unwrap_or(0.0));
    let holds = match op {
        CompareOp::Equal => equal,
        CompareOp::NotEqual => 1.0 - equal,
        CompareOp::Less | CompareOp::LessOrEqual | CompareOp::Greater | CompareOp::GreaterOrEqual => GUESS_RANGE,
    };
    Ok(Truth::new((1.0 - unknown) * holds, unknown))
}

/// The share of rows for which a comparison with a constant is TRUE, by what is known of the column.
fn within(op: CompareOp, statistics: &ColumnStatistics, value: &Value, nulls: f64) -> f64 {
    match op {
        CompareOp::Equal => equal(statistics, value),
        CompareOp::NotEqual => 1.0 - nulls - equal(statistics, value),
        CompareOp::Less => less(statistics, value, false),
        CompareOp::LessOrEqual => less(statistics, value, true),
        CompareOp::Greater => 1.0 - nulls - less(statistics, value, true),
        CompareOp::GreaterOrEqual => 1.0 - nulls - less(statistics, value, false),
    }
}

/// A pattern that begins with text holds for values that begin so, and is then a matter of the rest.
fn like(operand: &Expr, pattern: &Expr, escaped: bool, by: &Estimator<'_>) -> Result<Truth> {
    let nulls = null_share(operand, by)?;
    let (ExprKind::Column(id), Some(Value::Text(text)), false) = (operand.kind(), pattern.constant(), escaped) else {
        return Ok(Truth::new((1.0 - nulls) * GUESS_PATTERN, nulls));
    };
    let Some(statistics) = by.statistics(*id)? else {
        return Ok(Truth::new((1.0 - nulls) * GUESS_PATTERN, nulls));
    };
    let holds = match text.find(['%', '_']) {
        None => equal(&statistics, &Value::Text(text.clone())),
        Some(0) => (1.0 - nulls) * if text.chars().all(|c| c == '%') { 1.0 } else { GUESS_PATTERN },
        Some(at) => {
            prefixed(&statistics, &text[..at]) * if text[at..].chars().all(|c| c == '%') { 1.0 } else { GUESS_REST }
        }
    };
    Ok(Truth::new(holds, nulls))
}

fn guess(op: CompareOp) -> f64 {
    match op {
        CompareOp::Equal => GUESS_EQUAL,
        CompareOp::NotEqual => 1.0 - GUESS_EQUAL,
        CompareOp::Less | CompareOp::LessOrEqual | CompareOp::Greater | CompareOp::GreaterOrEqual => GUESS_RANGE,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn combinations_follow_three_valued_logic() {
        let (half, third) = (Truth::new(0.5, 0.1), Truth::new(0.3, 0.2));
        // FALSE: 0.4 and 0.5. AND is FALSE when either is, TRUE when both are.
        let and = half.and(third);
        assert!((and.holds - 0.15).abs() < 1e-9 && (and.fails() - (1.0 - 0.6 * 0.5)).abs() < 1e-9, "{and:?}");
        let or = half.or(third);
        assert!((or.holds - (1.0 - 0.5 * 0.7)).abs() < 1e-9 && (or.fails() - 0.2).abs() < 1e-9, "{or:?}");
        let back = half.not().not();
        assert!((back.holds - half.holds).abs() < 1e-9 && (back.unknown - half.unknown).abs() < 1e-9);
    }
}
