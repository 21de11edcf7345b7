//! Variance, covariance, correlation and linear regression (clause 10.9), in 64-bit floating point: means and sums of squared
//! deviations are kept up to date row by row (Welford) and put together by the formulas of Chan, Golub and `LeVeque`.

use super::{Accumulator, GroupMap, Groups, present, same};
use crate::diagnostic::{Error, Result};
use crate::logical::MomentFunction as M;
use crate::problem::Problem;
use crate::types::{SqlType, approximate};
use arrow::array::{ArrayRef, AsArray, Float64Array, Int64Array};
use arrow::datatypes::Float64Type;
use std::{any::Any, sync::Arc};

/// Of one group: how many pairs, their means, and the sums of squares and products of their deviations. `y` depends on `x`.
///
/// Both are kept as multiples of a power of two that is near the largest value so far, so that no square leaves the range of the numbers
/// where the result lies in it. Scaling by a power of two is exact.
#[derive(Clone, Copy, Debug, Default)]
struct CentralMoment {
    count: i64,
    /// The powers of two of `y` and `x`; `None` as long as all were zero.
    power_y: Option<i32>,
    power_x: Option<i32>,
    mean_y: f64,
    mean_x: f64,
    syy: f64,
    sxx: f64,
    sxy: f64,
}

/// How many powers of two a value may be larger than the unit it is kept in: the product of four such values is still a number.
const HEADROOM: i32 = 100;

/// `value · 2^power`, which may be out of range.
fn times_power(value: f64, power: i32) -> f64 {
    // No single factor covers the entire range.
    let half = power / 2;
    value * 2_f64.powi(half) * 2_f64.powi(power - half)
}

/// The power of two that a number is at least, 0 having none.
fn power_of(value: f64) -> Option<i32> {
    let bits = i32::try_from(value.abs().to_bits() >> 52).unwrap_or(0);
    (value != 0.0).then_some(bits - 1023)
}

/// The unit for values kept in `known` when one of the power `new` comes.
fn unit(known: Option<i32>, new: Option<i32>) -> Option<i32> {
    match (known, new) {
        (Some(known), Some(new)) if new > known + HEADROOM => Some(new),
        (known, new) => known.or(new),
    }
}

impl CentralMoment {
    /// Brings what is kept to other units, which are not smaller.
    fn rescale(&mut self, power_y: Option<i32>, power_x: Option<i32>) {
        if (self.power_y, self.power_x) == (power_y, power_x) {
            return;
        }
        let by = |known: Option<i32>, new: Option<i32>| known.unwrap_or(0) - new.or(known).unwrap_or(0);
        let (y, x) = (by(self.power_y.or(power_y), power_y), by(self.power_x.or(power_x), power_x));
        self.mean_y = times_power(self.mean_y, y);
        self.mean_x = times_power(self.mean_x, x);
        self.syy = times_power(self.syy, 2 * y);
        self.sxx = times_power(self.sxx, 2 * x);
        self.sxy = times_power(self.sxy, x + y);
        (self.power_y, self.power_x) = (power_y, power_x);
    }

    fn add(&mut self, y: f64, x: f64) {
        self.rescale(unit(self.power_y, power_of(y)), unit(self.power_x, power_of(x)));
        let (y, x) = (times_power(y, -self.power_y.unwrap_or(0)), times_power(x, -self.power_x.unwrap_or(0)));
        self.count += 1;
        let n = approximate(self.count);
        let (dy, dx) = (y - self.mean_y, x - self.mean_x);
        self.mean_y += dy / n;
        self.mean_x += dx / n;
        self.syy += dy * (y - self.mean_y);
        self.sxx += dx * (x - self.mean_x);
        self.sxy += dx * (y - self.mean_y);
    }

    fn merge(&mut self, other: &Self) {
        if other.count == 0 {
            return;
        }
        if self.count == 0 {
            *self = *other;
            return;
        }
        let mut other = *other;
        let larger = |a: Option<i32>, b: Option<i32>| a.max(b);
        let units = (larger(self.power_y, other.power_y), larger(self.power_x, other.power_x));
        self.rescale(units.0, units.1);
        other.rescale(units.0, units.1);
        let (n, m) = (approximate(self.count), approximate(other.count));
        let (dy, dx) = (other.mean_y - self.mean_y, other.mean_x - self.mean_x);
        let weight = n * m / (n + m);
        self.syy += other.syy + dy * dy * weight;
        self.sxx += other.sxx + dx * dx * weight;
        self.sxy += other.sxy + dx * dy * weight;
        self.mean_y += dy * m / (n + m);
        self.mean_x += dx * m / (n + m);
        self.count += other.count;
    }

    fn result(&self, function: M) -> Option<f64> {
        let n = approximate(self.count);
        let sample = n - 1.0;
        if self.count == 0 {
            return None;
        }
        let (y, x) = (self.power_y.unwrap_or(0), self.power_x.unwrap_or(0));
        let slope = (self.sxx > 0.0).then(|| self.sxy / self.sxx);
        let (value, power) = match function {
            M::VarPop => (Some(self.syy / n), 2 * y),
            M::StddevPop => (Some((self.syy / n).sqrt()), y),
            M::VarSamp => ((self.count > 1).then(|| self.syy / sample), 2 * y),
            M::StddevSamp => ((self.count > 1).then(|| (self.syy / sample).sqrt()), y),
            M::CovarPop => (Some(self.sxy / n), x + y),
            M::CovarSamp => ((self.count > 1).then(|| self.sxy / sample), x + y),
            M::Corr => ((self.sxx > 0.0 && self.syy > 0.0).then(|| self.sxy / (self.sxx * self.syy).sqrt()), 0),
            M::RegrSlope => (slope, y - x),
            M::RegrIntercept => (slope.map(|slope| self.mean_y - slope * self.mean_x), y),
            M::RegrR2 if self.sxx <= 0.0 => (None, 0),
            M::RegrR2 => (Some(if self.syy > 0.0 { self.sxy * self.sxy / (self.sxx * self.syy) } else { 1.0 }), 0),
            M::RegrCount => (Some(n), 0),
            M::RegrAvgX => (Some(self.mean_x), x),
            M::RegrAvgY => (Some(self.mean_y), y),
            M::RegrSxx => (Some(self.sxx), 2 * x),
            M::RegrSyy => (Some(self.syy), 2 * y),
            M::RegrSxy => (Some(self.sxy), x + y),
        };
        // A negative zero would be another number than zero.
        value.map(|value| times_power(value, power) + 0.0)
    }
}

/// The functions of one number take it as `y`.
#[derive(Debug)]
pub(super) struct Moments {
    function: M,
    groups: Vec<CentralMoment>,
}

impl Moments {
    /// The states of an aggregate of sums and products.
    pub(super) fn new(function: M) -> Self {
        Self { function, groups: Vec::new() }
    }

    fn resize(&mut self, groups: usize) {
        self.groups.resize(self.groups.len().max(groups), CentralMoment::default());
    }
}

impl Accumulator for Moments {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        self.resize(groups.count());
        let Some(first) = inputs.first() else { return Ok(()) };
        let y = first.as_primitive::<Float64Type>();
        let x = inputs.get(1).unwrap_or(first).as_primitive::<Float64Type>();
        for (row, (y, x)) in y.values().iter().zip(x.values()).enumerate() {
            if present(inputs, row) {
                self.groups[groups.of(row)].add(*y, *x);
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        self.resize(groups);
        for (from, to) in from.iter().zip(to) {
            if let Some(moment) = other.groups.get(*from as usize) {
                self.groups[*to as usize].merge(moment);
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        self.resize(groups);
        if self.function == M::RegrCount {
            return Ok(Arc::new(self.groups.iter().map(|group| Some(group.count)).collect::<Int64Array>()));
        }
        let results: Float64Array = self.groups.iter().map(|group| group.result(self.function)).collect();
        if results.iter().flatten().any(|result| !result.is_finite()) {
            return Err(Error::from_facts(&Problem::Overflow(SqlType::Double)));
        }
        Ok(Arc::new(results))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.groups.capacity() * size_of::<CentralMoment>()
    }
}
