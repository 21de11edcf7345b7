use crate::catalog::ColumnStatistics;
use crate::diagnostic::Result;
use crate::logical::{Columns, CompareOp, Expr, ExprKind, Function, Test};
use crate::types::{Selectivity, Value, approximate};

/// Without any knowledge: an equality holds for one row in ten, another comparison for one in three.
const GUESS_EQUAL: f64 = 0.1;
const GUESS_RANGE: f64 = 1.0 / 3.0;
/// A LIKE pattern that begins with text, and one that does not.
const GUESS_PREFIX: f64 = 0.05;
const GUESS_PATTERN: f64 = 0.1;

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

    pub(super) fn of(expr: &Expr, columns: &Columns) -> Result<Self> {
        Ok(match expr.kind() {
            ExprKind::And(terms) => fold(terms, columns, Self::new(1.0, 0.0), Self::and)?,
            ExprKind::Or(terms) => fold(terms, columns, Self::new(0.0, 0.0), Self::or)?,
            ExprKind::Not(operand) => Self::of(operand, columns)?.not(),
            ExprKind::Literal(value) | ExprKind::Parameter(_, Some(value)) => match value {
                Value::Boolean(true) => Self::new(1.0, 0.0),
                Value::Null => Self::new(0.0, 1.0),
                _ => Self::new(0.0, 0.0),
            },
            ExprKind::Compare(op, sides) => compare(*op, &sides[0], &sides[1], columns)?,
            ExprKind::Same(sides) => {
                let truth = compare(CompareOp::Equal, &sides[0], &sides[1], columns)?;
                Self::new(truth.holds, 0.0)
            }
            ExprKind::Is(operand, test) => is(operand, *test, columns)?,
            ExprKind::In(operand, list) => {
                let mut holds = 0.0;
                let mut unknown: f64 = 0.0;
                for item in list {
                    let truth = compare(CompareOp::Equal, operand, item, columns)?;
                    holds += truth.holds;
                    unknown = unknown.max(truth.unknown);
                }
                Self::new(holds, unknown)
            }
            ExprKind::Like(parts, _) => {
                let nulls = null_share(&parts[0], columns)?;
                let prefix = matches!(parts[1].constant(), Some(Value::Text(text)) if !text.starts_with(['%', '_']));
                Self::new((1.0 - nulls) * if prefix { GUESS_PREFIX } else { GUESS_PATTERN }, nulls)
            }
            ExprKind::Call(Function::Sampled { .. }, args) => match args.get(1).and_then(Expr::constant) {
                Some(percent) => Self::new(percent.ordinal().unwrap_or(0.0) / 100.0, 0.0),
                None => Self::new(GUESS_EQUAL, 0.0),
            },
            ExprKind::Column(id) => match columns.statistics(*id)? {
                Some(statistics) => equals(&statistics, &Value::Boolean(true)),
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
            | ExprKind::Array(_)
            | ExprKind::Row(_)
            | ExprKind::Field(..)
            | ExprKind::Only(_)
            | ExprKind::Subquery(_)
            | ExprKind::Cast(_) => Self::new(0.5, 0.0),
        })
    }
}

fn fold(terms: &[Expr], columns: &Columns, start: Truth, combine: fn(Truth, Truth) -> Truth) -> Result<Truth> {
    terms.iter().try_fold(start, |sofar, term| Ok(combine(sofar, Truth::of(term, columns)?)))
}

fn is(operand: &Expr, test: Test, columns: &Columns) -> Result<Truth> {
    let holds = match test {
        Test::Null if operand.sql_type() != crate::types::SqlType::Boolean => null_share(operand, columns)?,
        Test::Null | Test::Unknown => Truth::of(operand, columns)?.unknown,
        Test::True => Truth::of(operand, columns)?.holds,
        Test::False => Truth::of(operand, columns)?.fails(),
    };
    Ok(Truth::new(holds, 0.0))
}

fn null_share(expr: &Expr, columns: &Columns) -> Result<f64> {
    let mut present = 1.0;
    for id in expr.columns() {
        present *= 1.0 - columns.statistics(id)?.map_or(0.0, |statistics| statistics.null_share());
    }
    Ok(1.0 - present)
}

fn compare(op: CompareOp, left: &Expr, right: &Expr, columns: &Columns) -> Result<Truth> {
    let (op, column, other) = match (left.kind(), right.kind()) {
        (ExprKind::Column(id), _) => (op, *id, right),
        (_, ExprKind::Column(id)) => (op.flipped(), *id, left),
        _ => {
            let unknown = 1.0 - (1.0 - null_share(left, columns)?) * (1.0 - null_share(right, columns)?);
            return Ok(Truth::new((1.0 - unknown) * guess(op), unknown));
        }
    };
    let Some(statistics) = columns.statistics(column)? else { return Ok(Truth::new(guess(op), 0.0)) };
    let nulls = statistics.null_share();
    let Some(value) = other.constant() else {
        let unknown = 1.0 - (1.0 - nulls) * (1.0 - null_share(other, columns)?);
        let holds = match op {
            // A parameter without a value, or another column: an average value.
            CompareOp::Equal => 1.0 / statistics.distinct.max(1.0),
            CompareOp::NotEqual => 1.0 - 1.0 / statistics.distinct.max(1.0),
            _ => GUESS_RANGE,
        };
        return Ok(Truth::new((1.0 - unknown) * holds, unknown));
    };
    if value.is_null() {
        return Ok(Truth::new(0.0, 1.0));
    }
    Ok(match op {
        CompareOp::Equal => equals(&statistics, value),
        CompareOp::NotEqual => equals(&statistics, value).not(),
        CompareOp::Less => range(&statistics, value, Bound::Below),
        CompareOp::LessOrEqual => range(&statistics, value, Bound::Above).not(),
        CompareOp::Greater => range(&statistics, value, Bound::Above),
        CompareOp::GreaterOrEqual => range(&statistics, value, Bound::Below).not(),
    })
}

fn guess(op: CompareOp) -> f64 {
    match op {
        CompareOp::Equal => GUESS_EQUAL,
        CompareOp::NotEqual => 1.0 - GUESS_EQUAL,
        _ => GUESS_RANGE,
    }
}

fn same(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Text(a), Value::Text(b)) => a == b,
        _ => matches!((a.ordinal(), b.ordinal()), (Some(a), Some(b)) if (a - b).abs() < f64::EPSILON),
    }
}

fn below(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Text(a), Value::Text(b)) => a < b,
        _ => matches!((a.ordinal(), b.ordinal()), (Some(a), Some(b)) if a < b),
    }
}

/// A frequent value has its own share; the others divide what is left evenly; outside of min and max there is nothing.
fn equals(statistics: &ColumnStatistics, value: &Value) -> Truth {
    let nulls = statistics.null_share();
    if let Some(common) = statistics.most_common.iter().find(|common| same(&common.value, value)) {
        return Truth::new(common.share, nulls);
    }
    if statistics.exact && (below(value, &statistics.min) || below(&statistics.max, value)) {
        return Truth::new(0.0, nulls);
    }
    let common: f64 = statistics.most_common.iter().map(|common| common.share).sum();
    let others = statistics.distinct - approximate(statistics.most_common.len());
    if others < 0.5 {
        return Truth::new(0.0, nulls);
    }
    Truth::new((1.0 - nulls - common).max(0.0) / others.max(1.0), nulls)
}

#[derive(Clone, Copy, PartialEq)]
enum Bound {
    /// Values less than the bound.
    Below,
    /// Values greater than the bound.
    Above,
}

/// Frequent values are counted one by one; the others are taken as spread evenly between min and max.
fn range(statistics: &ColumnStatistics, bound: &Value, side: Bound) -> Truth {
    let nulls = statistics.null_share();
    let inside = |value: &Value| match side {
        Bound::Below => below(value, bound),
        Bound::Above => below(bound, value),
    };
    let common: f64 = statistics.most_common.iter().map(|common| common.share).sum();
    let common_inside: f64 =
        statistics.most_common.iter().filter(|common| inside(&common.value)).map(|common| common.share).sum();
    let spread = match (statistics.min.ordinal(), statistics.max.ordinal(), bound.ordinal()) {
        (Some(min), Some(max), Some(at)) if max > min => {
            let part = ((at - min) / (max - min)).clamp(0.0, 1.0);
            if side == Bound::Below { part } else { 1.0 - part }
        }
        (Some(min), ..) if min.is_finite() => f64::from(u8::from(inside(&statistics.min))),
        _ => GUESS_RANGE,
    };
    Truth::new(common_inside + (1.0 - nulls - common).max(0.0) * spread, nulls)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::CommonValue;

    /// 1,000 rows: 100 NULLs, 7 in 470 of them, 430 others spread over 43 values from 0 to 100.
    fn statistics() -> ColumnStatistics {
        ColumnStatistics {
            rows: 1_000,
            nulls: 100,
            distinct: 44.0,
            min: Value::Integer(0),
            max: Value::Integer(100),
            most_common: vec![CommonValue { value: Value::Integer(7), share: 0.47 }],
            exact: true,
        }
    }

    #[test]
    fn shares_of_equalities_and_ranges() {
        let statistics = statistics();
        let at = |value: i64| Value::Integer(value);
        for (truth, holds) in [
            (equals(&statistics, &at(7)), 0.47),
            (equals(&statistics, &at(8)), 0.01),
            (equals(&statistics, &at(101)), 0.0),
            (equals(&statistics, &at(7)).not(), 0.43),
            (range(&statistics, &at(50), Bound::Below), 0.47 + 0.43 * 0.5),
            (range(&statistics, &at(50), Bound::Above), 0.43 * 0.5),
            (range(&statistics, &at(0), Bound::Below), 0.0),
            (range(&statistics, &at(100), Bound::Above), 0.0),
            (range(&statistics, &at(1_000), Bound::Below), 0.9),
        ] {
            assert!((truth.holds - holds).abs() < 1e-9, "{truth:?} is not {holds}");
            assert!((truth.unknown - 0.1).abs() < 1e-9, "NULL stays UNKNOWN: {truth:?}");
            assert!((truth.holds + truth.fails() + truth.unknown - 1.0).abs() < 1e-9);
        }
    }

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
