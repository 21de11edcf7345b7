//! How many pairs of rows a join condition leaves.

use super::Estimator;
use super::narrow::met;
use super::truth::Truth;
use super::values::{below, others_below, same};
use crate::catalog::{ColumnStatistics, CommonValue};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind};
use crate::types::{Estimate, Selectivity, Value, approximate};
use std::sync::Arc;

/// Without any knowledge an equality between tables holds for one pair in ten.
const GUESS_PAIR: f64 = 0.1;

impl Estimator<'_> {
    /// The share of pairs of rows for which a join condition is TRUE.
    ///
    /// For an equality: frequent values of one side are matched with those of the other, and what is left of one side with the other
    /// values of the other, as far as their ranges overlap; values are assumed to be contained in each other (Selinger et al., SIGMOD 1979).
    pub fn join(&self, condition: &Expr) -> Result<Selectivity> {
        if let ExprKind::Compare(op, sides) = condition.kind()
            && !matches!(op, CompareOp::Equal | CompareOp::NotEqual)
            && let Some(share) = self.range(*op, &sides[0], &sides[1])?
        {
            return Ok(Selectivity::new(share));
        }
        let (ExprKind::Compare(CompareOp::Equal, sides) | ExprKind::Same(sides)) = condition.kind() else {
            return Ok(Truth::of(condition, self)?.holds());
        };
        let (ExprKind::Column(a), ExprKind::Column(b)) = (sides[0].kind(), sides[1].kind()) else {
            return self.join_of_values(&sides[0], &sides[1]);
        };
        // Besides a comparison of the groups themselves: some row of each group has its extreme value.
        if let Some(share) = self.holds_extreme(*a, *b) {
            let by_values = self.join_of_values(&sides[0], &sides[1])?.share();
            return Ok(Selectivity::new(by_values.max(share)));
        }
        match (self.statistics(*a)?, self.statistics(*b)?) {
            (Some(a), Some(b)) => Ok(Selectivity::new(matched(&a, &b))),
            _ => self.join_of_values(&sides[0], &sides[1]),
        }
    }

    /// An equality of expressions, of which at most the number of values is known.
    fn join_of_values(&self, a: &Expr, b: &Expr) -> Result<Selectivity> {
        let of_column = |id: ColumnId| -> Result<Option<f64>> {
            Ok(self.statistics(id)?.map(|known| known.distinct).or_else(|| self.one_each_group(id)))
        };
        let known = |expr: &Expr| -> Result<Option<f64>> {
            if let ExprKind::Column(id) = expr.kind() {
                of_column(*id)
            } else if let ExprKind::Cast(inner) = expr.kind() {
                if let ExprKind::Column(id) = inner.kind() { of_column(*id) } else { Ok(None) }
            } else {
                Ok(None)
            }
        };
        let most = match (known(a)?, known(b)?) {
            (Some(a), Some(b)) => a.max(b),
            (Some(one), None) | (None, Some(one)) => one,
            (None, None) => return Ok(Selectivity::new(GUESS_PAIR)),
        };
        Ok(Selectivity::new(1.0 / most.max(1.0)))
    }

    /// The share of rows of one side that have a match among `other` rows, for a condition between the sides; the first expression of
    /// an equality lies on the side that is asked.
    pub fn partnered(&self, mine: &Expr, theirs: &Expr, other: Estimate) -> Result<f64> {
        let (ExprKind::Column(mine_id), ExprKind::Column(b)) = (mine.kind(), theirs.kind()) else {
            return Ok(0.5);
        };
        let (Some(a), Some(b), whole_b) =
            (self.statistics(*mine_id)?, self.statistics(*b)?, self.stored().statistics(*b)?)
        else {
            return Ok(0.5);
        };
        let there = met(b.distinct, other.0, other.0.max(super::table_rows(b.rows).0));
        // Conditions on other columns leave fewer values, but of those none more likely to be there.
        let whole = self.stored().statistics(*mine_id)?.filter(|whole| same_bounds(whole, &a));
        let values = whole.map_or(a.distinct, |whole| whole.distinct.max(a.distinct));
        let left = Left { whole: whole_b.filter(|whole| same_bounds(whole, &b)), rows: other.0, there };
        let mut share = 0.0;
        for common in &a.most_common {
            let known = match b.most_common.iter().find(|other| same(&other.value, &common.value)) {
                Some(other) => left.holds(other, &b),
                None => contained(b.other_values(), values, &b, &common.value),
            };
            share += common.share * known;
        }
        let overlap = overlaps(&a, &b).0;
        Ok((share + a.other_share() * overlap * (there / (values * overlap).max(1.0)).min(1.0)).clamp(0.0, 1.0))
    }
}

/// What conditions on other columns have left of a side.
struct Left {
    /// The column before them, where they asked nothing of the column itself.
    whole: Option<Arc<ColumnStatistics>>,
    rows: f64,
    /// Values that are left.
    there: f64,
}

impl Left {
    /// How likely a frequent value is still there: none of its rows is taken away for what it is, so one of many rows stays longer.
    fn holds(&self, common: &CommonValue, side: &ColumnStatistics) -> f64 {
        let Some(whole) = &self.whole else {
            return (self.there / side.distinct.max(approximate(side.most_common.len())).max(1.0)).min(1.0);
        };
        let all = super::table_rows(whole.rows).0.max(1.0);
        let gone = (1.0 - self.rows / all).clamp(0.0, 1.0);
        1.0 - gone.powf((common.share * all).max(1.0))
    }
}

/// Whether nothing was asked of the column itself.
fn same_bounds(whole: &ColumnStatistics, narrowed: &ColumnStatistics) -> bool {
    same(&whole.min, &narrowed.min)
        && same(&whole.max, &narrowed.max)
        && whole.most_common.len() == narrowed.most_common.len()
}

/// How likely a value is among the other values of a side.
fn contained(others: f64, of: f64, side: &ColumnStatistics, value: &Value) -> f64 {
    if below(value, &side.min) || below(&side.max, value) { 0.0 } else { (others / of.max(1.0)).min(1.0) }
}

/// The share of pairs with equal values.
fn matched(a: &ColumnStatistics, b: &ColumnStatistics) -> f64 {
    let (mut both, mut of_a, mut of_b) = (0.0, 0.0, 0.0);
    for common in &a.most_common {
        if let Some(other) = b.most_common.iter().find(|other| same(&other.value, &common.value)) {
            both += common.share * other.share;
            of_a += common.share;
            of_b += other.share;
        }
    }
    // A frequent value of one side only is met if it is one of the other values of the other; which those are is chance.
    let alone_a = (a.common_share() - of_a).max(0.0);
    let alone_b = (b.common_share() - of_b).max(0.0);
    let (others_a, others_b) = (a.other_values(), b.other_values());
    let each = |share: f64, values: f64| if values < 0.5 { 0.0 } else { share / values.max(1.0) };
    let (overlap_a, overlap_b) = overlaps(a, b);
    let most = (others_a * overlap_a).max(others_b * overlap_b).max(1.0);
    let rest = a.other_share() * overlap_a * b.other_share() * overlap_b / most;
    both + alone_a * each(b.other_share(), others_b.max(a.distinct))
        + alone_b * each(a.other_share(), others_a.max(b.distinct))
        + rest
}

/// The shares of the other rows of each side that lie where those of the other side lie.
fn overlaps(a: &ColumnStatistics, b: &ColumnStatistics) -> (f64, f64) {
    if a.histogram.is_empty() || b.histogram.is_empty() {
        return (1.0, 1.0);
    }
    let ends = |side: &ColumnStatistics| Some((side.histogram.first()?.clone(), side.histogram.last()?.clone()));
    let (Some(of_a), Some(of_b)) = (ends(a), ends(b)) else { return (1.0, 1.0) };
    let low = if below(&of_a.0, &of_b.0) { of_b.0 } else { of_a.0 };
    let high = if below(&of_a.1, &of_b.1) { of_a.1 } else { of_b.1 };
    if below(&high, &low) {
        return (0.0, 0.0);
    }
    let share = |side: &ColumnStatistics| {
        let one = 1.0 / side.other_values().max(1.0);
        (others_below(side, &high) + one - others_below(side, &low)).clamp(one, 1.0)
    };
    (share(a), share(b))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(rows: u64, distinct: f64, (from, to): (i64, i64), common: &[(i64, f64)]) -> ColumnStatistics {
        let bound = |part: i64| Value::Integer(from + (to - from) * part / 10);
        ColumnStatistics {
            distinct,
            min: Value::Integer(from),
            max: Value::Integer(to),
            most_common: common
                .iter()
                .map(|(v, share)| CommonValue { value: Value::Integer(*v), share: *share })
                .collect(),
            histogram: (0..=10).map(bound).collect(),
            ..ColumnStatistics::unknown(rows)
        }
    }

    #[test]
    fn pairs_of_an_equality() {
        let key = column(1_000, 1_000.0, (1, 1_000), &[]);
        // Each row of the other side finds its one row.
        let many = column(50_000, 1_000.0, (1, 1_000), &[]);
        assert!((matched(&many, &key) * 50_000.0 * 1_000.0 - 50_000.0).abs() < 500.0);
        // Nearly half of the rows have one value: each of them still has one match.
        let skewed = column(50_000, 1_000.0, (1, 1_000), &[(7, 0.47)]);
        let pairs = matched(&skewed, &key) * 50_000.0 * 1_000.0;
        assert!((45_000.0..55_000.0).contains(&pairs), "{pairs}");
        // Five keys that are left by chance have a 200th of the rows.
        let few = ColumnStatistics { rows: 5, distinct: 5.0, ..key.clone() };
        let pairs = matched(&skewed, &few) * 50_000.0 * 5.0;
        assert!((200.0..300.0).contains(&pairs), "{pairs}");
        // Both sides have the frequent value: 0.47 * 0.47 of all pairs and more.
        let share = matched(&skewed, &skewed);
        assert!((0.2209..0.2220).contains(&share), "{share}");
        // Ranges that do not meet.
        assert!(matched(&column(10, 10.0, (1, 10), &[]), &column(10, 10.0, (20, 30), &[])) < 1e-9);
        // Half of the one range lies in the other: half of the rows have a match.
        let half = column(1_000, 1_000.0, (501, 1_500), &[]);
        let pairs = matched(&key, &half) * 1e6;
        assert!((450.0..550.0).contains(&pairs), "{pairs}");
    }
}
