//! Inequalities between two tables: the share of pairs that fulfil one, or two together, from samples of both sides.
//!
//! The values of one side are taken as a distribution that is linear between those of its sample, so that a band narrower than the
//! distance between two of them has its share too. Two inequalities that bound a value from below and above, and those of two periods
//! that overlap, hold for what the one leaves besides what the other excludes: P(A and B) = P(A) + P(B) - 1, since one of them always holds.

use super::Estimator;
use super::sample::in_slots;
use crate::catalog::TableSource;
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::kernel::{Batch, count_true, evaluate, value_at};
use crate::logical::{ColumnId, CompareOp, Expr};
use crate::types::approximate;
use std::sync::Arc;

/// Rows of a sample.
const SAMPLE_ROWS: usize = 512;
/// Pairs that are tried one by one.
const PAIRED_ROWS: usize = 128;
/// From so many pairs that fulfil both, their share is the answer.
const ENOUGH: f64 = 64.0;

/// An inequality `a op b` between two tables.
pub(super) type RangePair = (CompareOp, Expr, Expr);

impl Estimator<'_> {
    /// The share of pairs for which an inequality between two tables is TRUE; `None` when nothing is known of a side.
    pub(super) fn range(&self, op: CompareOp, a: &Expr, b: &Expr) -> Result<Option<f64>> {
        let (Some(a), Some(b)) = (self.sampled(&[a])?, self.sampled(&[b])?) else { return Ok(None) };
        let (a, b) = with_rows_apart(a, b);
        Ok(holds(op, &a.values[0], &b.values[0]).map(|share| share * a.valid * b.valid))
    }

    /// The share of pairs for which two inequalities between the same two tables are TRUE.
    ///
    /// # Errors
    /// What reading the tables brings.
    pub fn both_ranges(&self, first: &RangePair, second: &RangePair) -> Result<Option<f64>> {
        let (Some(a), Some(b)) = (self.sampled(&[&first.1, &second.1])?, self.sampled(&[&first.2, &second.2])?) else {
            return Ok(None);
        };
        let (a, b) = with_rows_apart(a, b);
        let valid = a.valid * b.valid;
        let (a, b) = (a.values, b.values);
        let met = |op: CompareOp, a: f64, b: f64| match op {
            CompareOp::Less => a < b,
            CompareOp::LessOrEqual => a <= b,
            CompareOp::Greater => a > b,
            CompareOp::GreaterOrEqual => a >= b,
            CompareOp::Equal | CompareOp::NotEqual => true,
        };
        let (some_a, some_b) = (spread(a[0].len(), 0), spread(b[0].len(), 1));
        let mut found = 0_u32;
        let mut neither = 0_u32;
        for x in &some_a {
            for y in &some_b {
                let (one, two) = (met(first.0, a[0][*x], b[0][*y]), met(second.0, a[1][*x], b[1][*y]));
                found += u32::from(one && two);
                neither += u32::from(!one && !two);
            }
        }
        let pairs = approximate(some_a.len()) * approximate(some_b.len());
        if pairs == 0.0 {
            return Ok(Some(0.0));
        }
        let found = f64::from(found);
        if found >= ENOUGH {
            return Ok(Some(found / pairs * valid));
        }
        let (Some(one), Some(two)) = (holds(first.0, &a[0], &b[0]), holds(second.0, &a[1], &b[1])) else {
            return Ok(None);
        };
        let both = if neither == 0 { one + two - 1.0 } else { one * two };
        // More than three standard deviations beyond what was found it is hardly.
        Ok(Some(both.clamp(0.0, (found + 3.0 * found.sqrt() + 9.0) / pairs) * valid))
    }

    /// The values of expressions over one table for the rows of a sample of it that pass its conditions, row by row those of which none is
    /// NULL; `None` when they can't be told.
    fn sampled(&self, exprs: &[&Expr]) -> Result<Option<Sampled>> {
        let mut columns: Vec<ColumnId> = exprs.iter().flat_map(|expr| expr.columns()).collect();
        let filter = self.conditions_on(&columns);
        columns.extend(filter.iter().flat_map(Expr::columns));
        columns.sort_unstable();
        columns.dedup();
        let origin = |id: &ColumnId| self.columns.get(*id).origin.clone();
        let Some(origins) = columns.iter().map(origin).collect::<Option<Vec<_>>>() else { return Ok(None) };
        let Some((source, _)) = origins.first().cloned() else { return Ok(None) };
        if origins.iter().any(|(other, _)| !Arc::ptr_eq(other, &source)) {
            return Ok(None);
        }
        let places: Vec<usize> = origins.iter().map(|(_, place)| *place).collect();
        let Some(sample) = source.sample(&places, SAMPLE_ROWS)? else { return Ok(None) };
        if sample.rows == 0 {
            return Ok(None);
        }
        let slots: HashMap<ColumnId, usize> = columns.into_iter().zip(0..).collect();
        let mut batch = Batch::new(sample.columns, sample.rows);
        for term in filter {
            let truth = in_slots(term, &slots).and_then(|term| evaluate(&term, &batch).ok());
            let Some(truth) = truth else { continue };
            let truth = truth.into_array(batch.rows)?;
            let Some(mask) = arrow::array::AsArray::as_boolean_opt(&truth) else { continue };
            let left = batch.filter(mask, count_true(mask))?;
            // A few rows say less than all of them.
            if left.rows < SAMPLE_ROWS / 32 {
                break;
            }
            batch = left;
        }
        let mut values: Vec<Vec<f64>> = vec![Vec::with_capacity(batch.rows); exprs.len()];
        let mut arrays = Vec::with_capacity(exprs.len());
        for expr in exprs {
            let Some(slotted) = in_slots((*expr).clone(), &slots) else { return Ok(None) };
            let Ok(array) = evaluate(&slotted, &batch).and_then(|lane| lane.into_array(batch.rows)) else {
                return Ok(None);
            };
            arrays.push((array, expr.sql_type()));
        }
        for row in 0..batch.rows {
            let ordinals: Option<Vec<f64>> =
                arrays.iter().map(|(array, sql_type)| value_at(array, *sql_type, row).ordinal()).collect();
            for (at, value) in ordinals.into_iter().flatten().enumerate() {
                values[at].push(value);
            }
        }
        let valid = approximate(values.first().map_or(0, Vec::len)) / approximate(batch.rows.max(1));
        Ok(Some(Sampled { values, valid, source }))
    }

    /// The conditions that the rows of the table of these columns have passed.
    fn conditions_on(&self, columns: &[ColumnId]) -> Vec<Expr> {
        let Some(behind) = self.behind else { return Vec::new() };
        let tables = behind.tables.borrow();
        let table = tables.iter().rev().find(|table| columns.iter().any(|id| table.columns.contains(id)));
        table.map_or_else(Vec::new, |table| {
            table.filter.iter().filter(|term| super::sample::can_try(term)).cloned().collect()
        })
    }
}

/// What expressions over one table come to for some of its rows.
struct Sampled {
    /// For each expression its values.
    values: Vec<Vec<f64>>,
    /// The share of rows for which none of them is NULL.
    valid: f64,
    source: Arc<dyn TableSource>,
}

/// Two samples without a row in common: of a table that meets itself each value would else stand right beside one of the distribution, where
/// the next is nearer than it is on the average.
fn with_rows_apart(mut a: Sampled, mut b: Sampled) -> (Sampled, Sampled) {
    if Arc::ptr_eq(&a.source, &b.source) && a.values.iter().chain(&b.values).all(|values| values.len() > 1) {
        let keep = |sampled: &mut Sampled, turn: usize| {
            for values in &mut sampled.values {
                *values = values.iter().copied().skip(turn).step_by(2).collect();
            }
        };
        keep(&mut a, 0);
        keep(&mut b, 1);
    }
    (a, b)
}

/// Places of some of so many rows; those of another turn are others where there are enough, since of a table that meets itself a row would
/// be beside itself in the samples of both sides far too often.
fn spread(rows: usize, turn: usize) -> Vec<usize> {
    let step = (rows / PAIRED_ROWS).max(1);
    (turn * (step / 2)..rows).step_by(step).take(PAIRED_ROWS).collect()
}

/// The share of pairs of values for which `a op b`.
fn holds(op: CompareOp, a: &[f64], b: &[f64]) -> Option<f64> {
    let known = Distribution::of(a.to_vec())?;
    let mut sum = 0.0;
    for value in b {
        let (below, up_to) = (known.below(*value), known.up_to(*value));
        sum += match op {
            CompareOp::Less => below,
            CompareOp::LessOrEqual => up_to,
            CompareOp::Greater => 1.0 - up_to,
            CompareOp::GreaterOrEqual => 1.0 - below,
            CompareOp::Equal | CompareOp::NotEqual => return None,
        };
    }
    (!b.is_empty()).then(|| (sum / approximate(b.len())).clamp(0.0, 1.0))
}

/// Values of a sample, sorted: each stands for the rows about it, so that its own share lies half before and half after it, and shares grow
/// evenly between two of them. A value that the sample has several times is a step.
struct Distribution(Vec<f64>);

impl Distribution {
    fn of(mut values: Vec<f64>) -> Option<Self> {
        values.sort_unstable_by(f64::total_cmp);
        (!values.is_empty()).then_some(Self(values))
    }

    /// The share of values below one.
    fn below(&self, value: f64) -> f64 {
        let (less, up_to) = self.counts(value);
        if up_to > less { self.at_value(less, up_to).0 } else { self.between(less, value) }
    }

    /// The share of values not above one.
    fn up_to(&self, value: f64) -> f64 {
        let (less, up_to) = self.counts(value);
        if up_to > less { self.at_value(less, up_to).1 } else { self.between(less, value) }
    }

    /// How many values are below one, and not above it.
    fn counts(&self, value: f64) -> (usize, usize) {
        (self.0.partition_point(|known| *known < value), self.0.partition_point(|known| *known <= value))
    }

    /// The shares before and after a value that appears at these places.
    fn at_value(&self, less: usize, up_to: usize) -> (f64, f64) {
        let all = approximate(self.0.len());
        if up_to - less == 1 {
            let half = (approximate(less) + 0.5) / all;
            return (half, half);
        }
        (approximate(less) / all, approximate(up_to) / all)
    }

    /// The share before a value that the sample does not have, with `at` values before it.
    fn between(&self, at: usize, value: f64) -> f64 {
        let (Some(before), Some(after)) = (at.checked_sub(1).map(|at| self.0[at]), self.0.get(at).copied()) else {
            return approximate(at) / approximate(self.0.len());
        };
        let share = |value: f64| {
            let (less, up_to) = self.counts(value);
            self.at_value(less, up_to)
        };
        let (from, to) = (share(before).1, share(after).0);
        from + (to - from) * ((value - before) / (after - before)).clamp(0.0, 1.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_of_pairs_are_those_of_the_distributions() {
        let hundred: Vec<f64> = (0..100).map(f64::from).collect();
        let near = |found: Option<f64>, wanted: f64| {
            assert!((found.unwrap() - wanted).abs() < 0.02, "{found:?} for {wanted}");
        };
        near(holds(CompareOp::Less, &hundred, &hundred), 0.495);
        near(holds(CompareOp::GreaterOrEqual, &hundred, &hundred), 0.505);
        near(holds(CompareOp::Less, &hundred, &[25.0]), 0.25);
        near(holds(CompareOp::Greater, &hundred, &[1_000.0]), 0.0);
        near(holds(CompareOp::Less, &[7.0; 10], &[7.0]), 0.0);
        near(holds(CompareOp::LessOrEqual, &[7.0; 10], &[7.0]), 1.0);
        assert!(holds(CompareOp::Less, &[], &hundred).is_none() && holds(CompareOp::Less, &hundred, &[]).is_none());
        // A band much narrower than the distance between two values of the sample.
        let wide: Vec<f64> = (0..100).map(|at| f64::from(at) * 1_000.0).collect();
        let (from, to) = ([50_100.0], [50_110.0]);
        let band =
            holds(CompareOp::GreaterOrEqual, &wide, &from).unwrap() + holds(CompareOp::Less, &wide, &to).unwrap() - 1.0;
        assert!((band - 0.0001).abs() < 0.00002, "{band}");
    }
}
