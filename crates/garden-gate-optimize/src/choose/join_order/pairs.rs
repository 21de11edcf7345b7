//! How many pairs of rows a join tries.

use super::super::cost;
use crate::types::Estimate;

/// Pairs of two sets of rows, by what leads to them.
pub(super) struct Pairs {
    /// Those whose keys are equal, and those that fulfil the inequalities besides.
    pub(super) keyed: f64,
    pub(super) ranged: f64,
    /// Inequalities that a range join goes by, and conditions that it does not.
    pub(super) bounds: usize,
    pub(super) others: usize,
    pub(super) are_numbers: bool,
}

impl Pairs {
    /// What it costs to try those whose keys are equal for what no key tells.
    pub(super) fn tried_by_keys(&self, rows: f64) -> f64 {
        if self.bounds + self.others == 0 { 0.0 } else { cost::tried(Estimate(self.keyed), Estimate(rows)).0 }
    }

    pub(super) fn tried_by_ranges(&self, rows: f64) -> f64 {
        if self.others == 0 { 0.0 } else { cost::tried(Estimate(self.ranged), Estimate(rows)).0 }
    }
}
