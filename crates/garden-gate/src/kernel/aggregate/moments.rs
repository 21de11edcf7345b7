//! Variance, covariance, correlation and linear regression (clause 10.9), in 64-bit floating point: means and sums of squared
//! deviations are kept up to date row by row (Welford) and put together by the formulas of Chan, Golub and `LeVeque`.

use super::{Accumulator, Groups, present, same};
use crate::diagnostic::Result;
use crate::logical::{Aggregate, AggregateFunction as A};
use crate::types::approximate;
use arrow::array::{ArrayRef, AsArray, Float64Array, Int64Array};
use arrow::datatypes::Float64Type;
use std::{any::Any, sync::Arc};

/// Of one group: how many pairs, their means, and the sums of squares and products of their deviations. `y` depends on `x`.
#[derive(Clone, Copy, Debug, Default)]
struct Moment {
    count: i64,
    mean_y: f64,
    mean_x: f64,
    syy: f64,
    sxx: f64,
    sxy: f64,
}

impl Moment {
    fn add(&mut self, y: f64, x: f64) {
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

    fn result(&self, function: A) -> Option<f64> {
        let n = approximate(self.count);
        let sample = n - 1.0;
        if self.count == 0 {
            return None;
        }
        let slope = (self.sxx > 0.0).then(|| self.sxy / self.sxx);
        match function {
            A::VarPop => Some(self.syy / n),
            A::StddevPop => Some((self.syy / n).sqrt()),
            A::VarSamp => (self.count > 1).then(|| self.syy / sample),
            A::StddevSamp => (self.count > 1).then(|| (self.syy / sample).sqrt()),
            A::CovarPop => Some(self.sxy / n),
            A::CovarSamp => (self.count > 1).then(|| self.sxy / sample),
            A::Corr => (self.sxx > 0.0 && self.syy > 0.0).then(|| self.sxy / (self.sxx * self.syy).sqrt()),
            A::RegrSlope => slope,
            A::RegrIntercept => slope.map(|slope| self.mean_y - slope * self.mean_x),
            A::RegrR2 if self.sxx > 0.0 => {
                Some(if self.syy > 0.0 { self.sxy * self.sxy / (self.sxx * self.syy) } else { 1.0 })
            }
            A::RegrAvgX => Some(self.mean_x),
            A::RegrAvgY => Some(self.mean_y),
            A::RegrSxx => Some(self.sxx),
            A::RegrSyy => Some(self.syy),
            A::RegrSxy => Some(self.sxy),
            _ => None,
        }
    }
}

/// The functions of one number take it as `y`.
#[derive(Debug)]
pub(super) struct Moments {
    function: A,
    groups: Vec<Moment>,
}

impl Moments {
    pub(super) fn new(aggregate: &Aggregate) -> Self {
        Self { function: aggregate.function, groups: Vec::new() }
    }

    fn resize(&mut self, groups: usize) {
        self.groups.resize(self.groups.len().max(groups), Moment::default());
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

    fn merge(&mut self, other: &dyn Accumulator, (from, to): (&[u32], &[u32]), groups: usize) -> Result<()> {
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
        if self.function == A::RegrCount {
            return Ok(Arc::new(self.groups.iter().map(|group| Some(group.count)).collect::<Int64Array>()));
        }
        Ok(Arc::new(self.groups.iter().map(|group| group.result(self.function)).collect::<Float64Array>()))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.groups.capacity() * size_of::<Moment>()
    }
}
