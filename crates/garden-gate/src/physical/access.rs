use crate::logical::{Expr, ScanIndex};

/// How rows of a table are found by an index.
#[derive(Clone, Debug)]
pub(crate) struct IndexAccess {
    pub(crate) index: ScanIndex,
    /// For the leading keys the values that are looked for.
    pub(crate) equal: Vec<Probe>,
    /// Bounds of the key behind them.
    pub(crate) low: Option<Bound>,
    pub(crate) high: Option<Bound>,
    /// The conditions that all this comes from, as they are shown.
    pub(crate) bounds: Vec<Expr>,
    /// Whether the columns come from the index itself.
    pub(crate) only: bool,
    /// Whether rows come in the order of the keys.
    pub(crate) order: Option<KeyOrder>,
}

/// What a key must be.
#[derive(Clone, Debug)]
pub(crate) enum Probe {
    /// One of these constants.
    OneOf(Vec<Expr>),
    Null,
}

/// An end of a range.
#[derive(Clone, Debug)]
pub(crate) struct Bound {
    pub(crate) value: Expr,
    pub(crate) inclusive: bool,
}

/// The order in which an index is read.
#[derive(Clone, Copy, Debug)]
pub(crate) struct KeyOrder {
    /// From its end to its beginning.
    pub(crate) backwards: bool,
    /// How many rows are wanted.
    pub(crate) first: Option<u64>,
}

impl IndexAccess {
    /// Its name among the operators.
    pub(crate) fn name(&self) -> &'static str {
        match (self.only, self.low.is_some() || self.high.is_some() || self.equal.is_empty()) {
            (true, _) => "index-only scan",
            (false, true) => "index range scan",
            (false, false) => "index lookup",
        }
    }
}
