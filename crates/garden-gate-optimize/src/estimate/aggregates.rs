//! What is known of the results of a grouping: its keys are those of its input, each combination once, and counts, sums and averages are
//! spread as those of groups whose rows come by chance are. The number of rows of a group follows Poisson's law, a sum of so many values a
//! compound one; both are assumed to be normal, which they become as groups grow.

use super::Estimator;
use crate::catalog::ColumnStatistics;
use crate::diagnostic::Result;
use crate::logical::{Aggregate, AggregateFunction, ColumnId, Expr, ExprKind};
use crate::types::{Estimate, Value, approximate};
use std::sync::Arc;

/// Buckets of the histogram of a normal spread.
const BUCKETS: u32 = 2048;
/// The share that is taken to lie past either end of it.
const TAIL: f64 = 1e-6;

/// A grouping whose results may be asked about.
#[derive(Debug)]
pub(super) struct Grouping {
    /// Columns that are grouped by, each with the column of the input that it is.
    keys: Vec<(ColumnId, ColumnId)>,
    results: Vec<(ColumnId, AggregateFunction, Option<ColumnId>)>,
    /// All results, those of which nothing is known among them.
    all: Vec<ColumnId>,
    input: f64,
    groups: f64,
}

/// Mean and standard deviation of values, and the least there can be.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Spread {
    mean: f64,
    deviation: f64,
    least: f64,
    /// Whether only integers are met, of which there are few.
    whole: bool,
}

impl Estimator<'_> {
    /// Takes note of a grouping of `input` rows into so many groups.
    pub fn grouped(
        &self,
        keys: &[(ColumnId, Expr)],
        aggregates: &[(ColumnId, Aggregate)],
        (input, groups): (Estimate, Estimate),
    ) {
        let Some(behind) = self.behind else { return };
        let column = |expr: &Expr| if let ExprKind::Column(id) = expr.kind() { Some(*id) } else { None };
        let key = |(id, expr): &(ColumnId, Expr)| column(expr).filter(|of| of != id).map(|of| (*id, of));
        let result = |(id, aggregate): &(ColumnId, Aggregate)| {
            let plain = !aggregate.distinct && aggregate.filter.is_none();
            let argument = aggregate.arguments.first().map(column);
            // Of an expression nothing is known; a column that is a value of itself is known as such.
            (plain && argument != Some(None) && argument != Some(Some(*id)))
                .then(|| (*id, aggregate.function, argument.flatten()))
        };
        let is_new =
            |(id, aggregate): &&(ColumnId, Aggregate)| aggregate.arguments.first().and_then(column) != Some(*id);
        let grouping = Grouping {
            keys: keys.iter().filter_map(key).collect(),
            results: aggregates.iter().filter_map(result).collect(),
            all: aggregates.iter().filter(is_new).map(|(id, _)| *id).collect(),
            input: input.0,
            groups: groups.0.max(1.0),
        };
        behind.groupings.borrow_mut().push(grouping);
    }

    /// Takes note that columns which are grouped by keep their numbers above the grouping: there each of their values comes in few rows.
    ///
    /// # Errors
    /// What reading the statistics of a column meets.
    pub fn grouped_by(&self, keys: &[(ColumnId, Expr)], groups: Estimate) -> Result<()> {
        let Some(behind) = self.behind else { return Ok(()) };
        for (id, key) in keys {
            if !matches!(key.kind(), ExprKind::Column(of) if of == id) {
                continue;
            }
            if let Some(known) = self.statistics(*id)? {
                behind.known.borrow_mut().insert(*id, Arc::new(once_each(&known, groups.0)));
            }
        }
        Ok(())
    }

    /// How many values a result of a grouping has, when nothing else is known of it: one a group.
    pub(super) fn one_each_group(&self, id: ColumnId) -> Option<f64> {
        let behind = self.behind?;
        let id = behind.of_steps.borrow().get(&id).copied().unwrap_or(id);
        let groupings = behind.groupings.borrow();
        groupings.iter().rev().find(|grouping| grouping.all.contains(&id)).map(|grouping| grouping.groups)
    }

    /// The share of rows that hold the least or the greatest value of their group, where one column is that value of the other: at least one
    /// row of each group.
    pub(super) fn holds_extreme(&self, a: ColumnId, b: ColumnId) -> Option<f64> {
        let groupings = self.behind?.groupings.borrow();
        let is_same = |a: ColumnId, b: ColumnId| match (&self.columns.get(a).origin, &self.columns.get(b).origin) {
            (Some((one, at)), Some((other, place))) => Arc::ptr_eq(one, other) && at == place,
            _ => a == b,
        };
        let of = |result: ColumnId, column: ColumnId| {
            let is_extreme = |known: &&(ColumnId, AggregateFunction, Option<ColumnId>)| {
                known.0 == result
                    && known.2.is_some_and(|of| is_same(of, column))
                    && matches!(known.1, AggregateFunction::Min | AggregateFunction::Max)
            };
            let grouping =
                groupings.iter().rev().find(|grouping| grouping.results.iter().any(|known| is_extreme(&known)))?;
            Some((grouping.groups / grouping.input.max(1.0)).min(1.0))
        };
        of(a, b).or_else(|| of(b, a))
    }

    /// Whether a condition compares the result of an aggregate.
    pub fn compares_result(&self, condition: &Expr) -> bool {
        condition.columns().into_iter().any(|id| self.one_each_group(id).is_some())
    }

    /// What is known of a column that a grouping gives; `None` when none does, or nothing is.
    pub(super) fn of_grouping(&self, id: ColumnId, groupings: &[Grouping]) -> Result<Option<ColumnStatistics>> {
        for grouping in groupings.iter().rev() {
            if let Some((_, of)) = grouping.keys.iter().find(|(known, _)| *known == id) {
                let known = self.statistics(*of)?;
                return Ok(known.map(|known| once_each(&known, grouping.groups)));
            }
            let Some((_, function, argument)) = grouping.results.iter().find(|(known, ..)| *known == id) else {
                continue;
            };
            let argument = match argument {
                Some(argument) => self.statistics(*argument)?,
                None => None,
            };
            let each = grouping.input / grouping.groups;
            return Ok(match (function, argument) {
                (AggregateFunction::Min | AggregateFunction::Max, Some(known)) => {
                    Some(once_each(&known, grouping.groups))
                }
                (function, argument) => {
                    spread(*function, argument.as_deref(), each).map(|spread| normal(spread, grouping.groups))
                }
            });
        }
        Ok(None)
    }
}

/// Values of a column, each in so many rows alike.
fn once_each(known: &ColumnStatistics, rows: f64) -> ColumnStatistics {
    ColumnStatistics {
        rows: count(rows),
        nulls: known.nulls.min(1),
        distinct: known.distinct.min(rows),
        most_common: Vec::new(),
        correlation: 0.0,
        exact: false,
        ..known.clone()
    }
}

fn spread(function: AggregateFunction, argument: Option<&ColumnStatistics>, each: f64) -> Option<Spread> {
    match (function, argument) {
        (AggregateFunction::CountRows | AggregateFunction::Count, argument) => {
            let mean = each * argument.map_or(1.0, |known| 1.0 - known.null_share());
            let least = if argument.is_none() { 1.0 } else { 0.0 };
            Some(Spread { mean, deviation: (mean - least).max(0.0).sqrt(), least, whole: true })
        }
        (AggregateFunction::Sum, Some(known)) => {
            let value = moments(known)?;
            let squares = value.deviation.powi(2) + value.mean.powi(2);
            // A group that has one row more or less differs by a value; groups of one row each differ by nothing but its own spread.
            let variance = each * squares - value.mean.powi(2).min(each * squares);
            let least = if value.least >= 0.0 { value.least } else { f64::NEG_INFINITY };
            Some(Spread {
                mean: each * value.mean,
                deviation: variance.max(value.deviation.powi(2)).sqrt(),
                least,
                whole: false,
            })
        }
        (AggregateFunction::Avg, Some(known)) => {
            let value = moments(known)?;
            Some(Spread { deviation: value.deviation / each.max(1.0).sqrt(), ..value })
        }
        _ => None,
    }
}

/// Mean and deviation of the values of a column, by its frequent values and its histogram.
fn moments(known: &ColumnStatistics) -> Option<Spread> {
    let (mut weight, mut sum, mut squares) = (0.0, 0.0, 0.0);
    let mut add = |share: f64, mean: f64, square: f64| {
        weight += share;
        sum += share * mean;
        squares += share * square;
    };
    for common in &known.most_common {
        let value = common.value.ordinal()?;
        add(common.share, value, value * value);
    }
    let ends = [known.min.clone(), known.max.clone()];
    let bounds = if known.histogram.len() > 1 { known.histogram.as_slice() } else { &ends };
    let each = known.other_share() / approximate(bounds.len() - 1);
    for pair in bounds.windows(2) {
        let (low, high) = (pair[0].ordinal()?, pair[1].ordinal()?);
        add(each, f64::midpoint(low, high), (low * low + low * high + high * high) / 3.0);
    }
    if weight <= 0.0 || !matches!(known.min, Value::Integer(_) | Value::Numeric(_) | Value::Double(_)) {
        return None;
    }
    let mean = sum / weight;
    Some(Spread {
        mean,
        deviation: (squares / weight - mean * mean).max(0.0).sqrt(),
        least: known.min.ordinal()?,
        whole: false,
    })
}

fn normal(spread: Spread, rows: f64) -> ColumnStatistics {
    let value = |p: f64| Value::Double((spread.mean + spread.deviation * quantile(p)).max(spread.least));
    let inner = (1..BUCKETS).map(|at| f64::from(at) / f64::from(BUCKETS));
    let histogram: Vec<Value> = std::iter::once(TAIL).chain(inner).chain([1.0 - TAIL]).map(value).collect();
    ColumnStatistics {
        nulls: 0,
        distinct: if spread.whole { rows.min(spread.deviation * 6.0 + 1.0) } else { rows },
        min: value(TAIL),
        max: value(1.0 - TAIL),
        histogram,
        ..ColumnStatistics::unknown(count(rows))
    }
}

/// The value below which a share of a standard normal distribution lies, to half a thousandth (Abramowitz and Stegun, 26.2.23).
fn quantile(share: f64) -> f64 {
    let tail = share.min(1.0 - share);
    let t = (-2.0 * tail.ln()).sqrt();
    let above = 2.515_517 + t * (0.802_853 + t * 0.010_328);
    let below = 1.0 + t * (1.432_788 + t * (0.189_269 + t * 0.001_308));
    (t - above / below).copysign(share - 0.5)
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate of rows")]
fn count(rows: f64) -> u64 {
    rows.max(1.0).round() as u64
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 0 to 100, evenly.
    fn evenly() -> ColumnStatistics {
        ColumnStatistics {
            distinct: 101.0,
            min: Value::Integer(0),
            max: Value::Integer(100),
            ..ColumnStatistics::unknown(10_000)
        }
    }

    #[test]
    fn spreads_of_aggregates() {
        let value = moments(&evenly()).unwrap();
        // An even spread has a variance of a twelfth of its width squared.
        assert!((value.mean - 50.0).abs() < 1e-9 && (value.deviation - 100.0 / 12.0_f64.sqrt()).abs() < 1e-9);
        for (function, each, mean, deviation) in [
            (AggregateFunction::CountRows, 17.0, 17.0, 4.0),
            (AggregateFunction::Avg, 25.0, 50.0, value.deviation / 5.0),
            // 4 · (833.3 + 2500) less 2500.
            (AggregateFunction::Sum, 4.0, 200.0, (4.0_f64 * (10_000.0 / 12.0 + 2500.0) - 2500.0).sqrt()),
            (AggregateFunction::Sum, 1.0, 50.0, value.deviation),
        ] {
            let known = evenly();
            let argument = (function != AggregateFunction::CountRows).then_some(&known);
            let found = spread(function, argument, each).unwrap();
            assert!(
                (found.mean - mean).abs() < 1e-6 && (found.deviation - deviation).abs() < 1e-6,
                "{function:?}: {found:?}"
            );
        }
    }

    #[test]
    fn quantiles_of_the_normal_distribution() {
        for (share, value) in [(0.5, 0.0), (0.841_345, 1.0), (0.158_655, -1.0), (0.998_65, 3.0), (0.975, 1.96)] {
            assert!((quantile(share) - value).abs() < 1e-3, "{share}");
        }
        let spread = Spread { mean: 100.0, deviation: 10.0, least: 0.0, whole: false };
        let known = normal(spread, 5000.0);
        for (at, share) in [(100.0, 0.5), (110.0, 0.841_345), (130.0, 0.998_65)] {
            let found = super::super::values::less(&known, &Value::Double(at), false);
            assert!((found - share).abs() < 1e-3, "{at}: {found}");
        }
    }
}
