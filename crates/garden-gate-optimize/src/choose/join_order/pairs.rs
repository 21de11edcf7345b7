//! How many pairs of rows a join tries.

use super::super::cost;
use super::conditions::Tie;
use crate::types::Estimate;

/// Pairs of two sets of rows, by what leads to them.
pub(super) struct Pairs {
    tie: Tie,
    all: f64,
}

impl Pairs {
    /// Those of two sets of so many rows.
    pub(super) fn of(tie: Tie, left: f64, right: f64) -> Self {
        Self { tie, all: left * right }
    }

    /// What it costs to try those whose keys are equal for what no key tells.
    pub(super) fn tried_by_keys(&self, rows: f64) -> f64 {
        if self.tie.bounds.count + self.tie.others == 0 { 0.0 } else { self.tried(self.tie.keyed, rows) }
    }

    /// What it costs to try those that fulfil the inequalities for what these do not tell.
    pub(super) fn tried_by_ranges(&self, rows: f64) -> f64 {
        if self.tie.others == 0 { 0.0 } else { self.tried(self.tie.ranged, rows) }
    }

    fn tried(&self, share: f64, rows: f64) -> f64 {
        cost::tried(Estimate(self.all * share), Estimate(rows)).0
    }
}
