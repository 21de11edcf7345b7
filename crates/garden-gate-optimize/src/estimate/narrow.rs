//! What is known of the columns of a table once its rows have passed the table's own conditions: fewer values, other bounds.

use super::Estimator;
use super::values::{below, equal, less, same};
use crate::catalog::{ColumnStatistics, CommonValue};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind, Test};
use crate::types::{Estimate, Value, approximate};
use std::sync::Arc;

/// What a condition asks of one column.
pub(super) enum Restriction<'e> {
    Compare(CompareOp, &'e Value),
    OneOf(Vec<&'e Value>),
    Present,
}

/// The column that a condition is about, and nothing else, with what it asks of it.
pub(super) fn asked(term: &Expr) -> Option<(ColumnId, Restriction<'_>)> {
    if let ExprKind::Compare(op, sides) = term.kind() {
        if let ExprKind::Column(id) = sides[0].kind() {
            return sides[1].constant().map(|value| (*id, Restriction::Compare(*op, value)));
        }
        let id = column_of(&sides[1])?;
        return sides[0].constant().map(|value| (id, Restriction::Compare(op.flipped(), value)));
    }
    if let ExprKind::In(operand, list) = term.kind() {
        let values = list.iter().map(Expr::constant).collect::<Option<Vec<_>>>()?;
        return Some((column_of(operand)?, Restriction::OneOf(values)));
    }
    let ExprKind::Not(operand) = term.kind() else { return None };
    let ExprKind::Is(column, Test::Null) = operand.kind() else { return None };
    Some((column_of(column)?, Restriction::Present))
}

fn column_of(expr: &Expr) -> Option<ColumnId> {
    if let ExprKind::Column(id) = expr.kind() { Some(*id) } else { None }
}

impl Restriction<'_> {
    fn allows(&self, value: &Value) -> bool {
        match self {
            Self::Present => true,
            Self::OneOf(values) => values.iter().any(|known| same(known, value)),
            Self::Compare(op, bound) => match op {
                CompareOp::Equal => same(value, bound),
                CompareOp::NotEqual => !same(value, bound),
                CompareOp::Less => below(value, bound),
                CompareOp::LessOrEqual => !below(bound, value),
                CompareOp::Greater => below(bound, value),
                CompareOp::GreaterOrEqual => !below(value, bound),
            },
        }
    }
}

/// The share of rows, and the bounds, that all comparisons of one column leave together.
struct Left<'e> {
    asks: Vec<Restriction<'e>>,
}

impl Left<'_> {
    fn allows(&self, value: &Value) -> bool {
        self.asks.iter().all(|ask| ask.allows(value))
    }

    /// The greatest lower and least upper bound among the comparisons.
    fn bounds(&self) -> (Option<&Value>, Option<&Value>) {
        let (mut low, mut high): (Option<&Value>, Option<&Value>) = (None, None);
        for ask in &self.asks {
            match ask {
                Restriction::Compare(CompareOp::Greater | CompareOp::GreaterOrEqual, value) => {
                    low = Some(low.filter(|known| below(value, known)).unwrap_or(value));
                }
                Restriction::Compare(CompareOp::Less | CompareOp::LessOrEqual, value) => {
                    high = Some(high.filter(|known| below(known, value)).unwrap_or(value));
                }
                Restriction::Compare(..) | Restriction::OneOf(_) | Restriction::Present => {}
            }
        }
        (low, high)
    }

    /// The values that are named, where there are such.
    fn named(&self) -> Option<Vec<&Value>> {
        self.asks.iter().find_map(|ask| match ask {
            Restriction::Compare(CompareOp::Equal, value) => Some(vec![*value]),
            Restriction::OneOf(values) => Some(values.clone()),
            Restriction::Compare(..) | Restriction::Present => None,
        })
    }
}

/// The statistics of a column among rows that pass what is asked of it, and what share of all rows these are.
fn restricted(known: &ColumnStatistics, asks: Vec<Restriction<'_>>) -> (ColumnStatistics, f64) {
    let left = Left { asks };
    if let Some(values) = left.named() {
        let allowed: Vec<&Value> = values.into_iter().filter(|value| left.allows(value)).collect();
        let shares: Vec<f64> = allowed.iter().map(|value| equal(known, value)).collect();
        let total: f64 = shares.iter().sum();
        let common = |(value, share): (&&Value, &f64)| CommonValue {
            value: (**value).clone(),
            share: if total > 0.0 { share / total } else { 1.0 / approximate(shares.len()) },
        };
        let least =
            |a: &&Value, b: &&Value| if below(b, a) { std::cmp::Ordering::Greater } else { std::cmp::Ordering::Less };
        let narrowed = ColumnStatistics {
            nulls: 0,
            distinct: approximate(allowed.len()).max(1.0),
            min: allowed.iter().copied().min_by(least).cloned().unwrap_or(Value::Null),
            max: allowed.iter().copied().max_by(least).cloned().unwrap_or(Value::Null),
            most_common: allowed.iter().zip(&shares).map(common).collect(),
            histogram: Vec::new(),
            ..known.clone()
        };
        return (narrowed, total.min(1.0));
    }
    let (low, high) = left.bounds();
    let from = low.map_or(0.0, |value| less(known, value, false));
    let to = high.map_or(1.0 - known.null_share(), |value| less(known, value, true));
    let kept: Vec<&CommonValue> = known.most_common.iter().filter(|common| left.allows(&common.value)).collect();
    let in_range =
        |value: &Value| low.is_none_or(|low| !below(value, low)) && high.is_none_or(|high| !below(high, value));
    let common: f64 = kept.iter().map(|common| common.share).sum();
    let common_in_range: f64 = known.most_common.iter().filter(|one| in_range(&one.value)).map(|one| one.share).sum();
    let others = (to - from - common_in_range).clamp(0.0, known.other_share());
    let share = common + others;
    let part = if known.other_share() > 0.0 { others / known.other_share() } else { 0.0 };
    let mut histogram: Vec<Value> = known.histogram.iter().filter(|bound| in_range(bound)).cloned().collect();
    if !known.histogram.is_empty() {
        histogram
            .splice(0..0, low.filter(|low| known.histogram.first().is_some_and(|first| below(first, low))).cloned());
        histogram.extend(high.filter(|high| known.histogram.last().is_some_and(|last| below(high, last))).cloned());
    }
    let scaled = |one: &&CommonValue| CommonValue {
        value: one.value.clone(),
        share: if share > 0.0 { one.share / share } else { 0.0 },
    };
    let narrowed = ColumnStatistics {
        nulls: 0,
        distinct: (approximate(kept.len()) + known.other_values() * part).max(1.0),
        min: low.filter(|low| below(&known.min, low)).unwrap_or(&known.min).clone(),
        max: high.filter(|high| below(high, &known.max)).unwrap_or(&known.max).clone(),
        most_common: kept.iter().map(scaled).collect(),
        histogram: if histogram.len() > 1 { histogram } else { Vec::new() },
        ..known.clone()
    };
    (narrowed, share)
}

/// How many of `distinct` values are met among `rows` rows of `all`, each value in equally many (Cardenas, CACM 1975).
pub(super) fn met(distinct: f64, rows: f64, all: f64) -> f64 {
    if rows >= all || distinct <= 1.0 {
        return distinct.min(rows.max(1.0));
    }
    let each = (all / distinct).max(1.0);
    (distinct * (1.0 - (1.0 - rows / all).powf(each))).clamp(1.0, rows.max(1.0))
}

impl Estimator<'_> {
    /// The statistics of a column of a table whose conditions leave `rows` of `all` rows.
    pub(super) fn narrowed(
        &self,
        id: ColumnId,
        filter: &[Expr],
        (rows, all): (Estimate, Estimate),
    ) -> Result<Option<Arc<ColumnStatistics>>> {
        let Some(known) = self.columns.statistics(id)? else { return Ok(None) };
        let asks: Vec<Restriction<'_>> =
            filter.iter().filter_map(asked).filter(|(of, _)| *of == id).map(|(_, ask)| ask).collect();
        if asks.is_empty() && rows.0 >= all.0 {
            return Ok(None);
        }
        let (mut narrowed, share) =
            if asks.is_empty() { (ColumnStatistics::clone(&known), 1.0) } else { restricted(&known, asks) };
        let own_rows = (all.0 * share).max(rows.0);
        narrowed.distinct = met(narrowed.distinct, rows.0, own_rows).max(1.0);
        // Shares of what is left stay as they were, and so does NULL among them.
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate of rows")]
        let count = |rows: f64| rows.max(0.0).round() as u64;
        let null_share = narrowed.null_share();
        narrowed.rows = count(rows.0.max(1.0));
        narrowed.nulls = count(rows.0 * null_share);
        narrowed.exact = false;
        self.correct_by_sample(id, filter, &mut narrowed)?;
        Ok(Some(Arc::new(narrowed)))
    }

    /// The share of rows for which all comparisons of a column with constants are TRUE.
    pub(super) fn all_asked(&self, known: &ColumnStatistics, asks: Vec<Restriction<'_>>) -> f64 {
        restricted(known, asks).1
    }
}
