//! Quantities of the planner, each a type of its own so that one cannot be passed for another.

/// Rows as estimated; never a measured count.
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd)]
pub struct Estimate(pub f64);

impl Estimate {
    /// The estimate as a count of rows.
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "what does not fit is the greatest count"
    )]
    /// The whole number below.
    pub fn count(self) -> usize {
        self.0.max(0.0) as usize
    }
}

/// Planner cost, in the one unit of `choose::cost`: reading one row of one column in order.
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd)]
pub struct Cost(pub f64);

impl std::ops::Add for Cost {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0 + other.0)
    }
}

/// Share of rows for which a predicate is TRUE, between 0 and 1.
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd)]
pub struct Selectivity(f64);

impl Selectivity {
    pub const ALL: Self = Self(1.0);

    /// Clamps into [0, 1]; a share that is not a number counts as all.
    pub fn new(share: f64) -> Self {
        if share.is_nan() { Self::ALL } else { Self(share.clamp(0.0, 1.0)) }
    }

    /// As a number from 0 to 1.
    pub fn share(self) -> f64 {
        self.0
    }

    /// The share that two independent conditions keep.
    pub fn and(self, other: Self) -> Self {
        Self(self.0 * other.0)
    }
}
