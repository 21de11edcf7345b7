use super::{IndexUse, OperatorName};
use crate::logical::{Expr, ScanIndex};

/// How rows of a table are found by an index.
#[derive(Clone, Debug)]
pub struct IndexAccess {
    pub index: ScanIndex,
    /// For the leading keys the values that are looked for.
    pub equal: Vec<Probe>,
    /// Bounds of the key after them.
    pub low: Option<Bound>,
    pub high: Option<Bound>,
    /// The conditions that all this comes from, as they are shown.
    pub bounds: Vec<Expr>,
    /// Whether the columns come from the index itself.
    pub only: bool,
    /// Whether rows come in the order of the keys.
    pub order: Option<KeyOrder>,
    /// Other indexes whose rows are put together with those of this one.
    pub others: Option<SecondaryIndexes>,
}

/// Indexes that are read besides a first one.
#[derive(Clone, Debug)]
pub struct SecondaryIndexes {
    /// Whether a row is to be in all of them; else it is enough that it is in one.
    pub all: bool,
    pub of: Vec<IndexAccess>,
}

/// What a key must be.
#[derive(Clone, Debug)]
pub enum Probe {
    /// One of these constants.
    OneOf(Vec<Expr>),
    Null,
}

impl Probe {
    /// How many values are looked up.
    pub fn values(&self) -> usize {
        match self {
            Self::OneOf(values) => values.len(),
            Self::Null => 1,
        }
    }
}

/// An end of a range.
#[derive(Clone, Debug)]
pub struct Bound {
    pub value: Expr,
    pub inclusive: bool,
}

/// The order in which an index is read.
#[derive(Clone, Copy, Debug)]
pub struct KeyOrder {
    /// From its end to its beginning.
    pub backwards: bool,
    /// How many rows are wanted.
    pub first: Option<u64>,
}

impl IndexAccess {
    /// The operator that reads in this way.
    pub fn operator(&self) -> OperatorName {
        match (self.only, self.every().any(Self::is_range)) {
            (true, _) => OperatorName::IndexOnlyScan,
            (false, true) => OperatorName::IndexRangeScan,
            (false, false) => OperatorName::IndexLookup,
        }
    }

    fn is_range(&self) -> bool {
        self.low.is_some() || self.high.is_some() || self.equal.is_empty()
    }

    /// This one and those that are put together with it.
    pub fn every(&self) -> impl Iterator<Item = &Self> {
        std::iter::once(self).chain(self.others.iter().flat_map(|others| &others.of))
    }

    /// Its index, or all that are read together.
    pub fn index_use(&self) -> IndexUse {
        let Some(others) = &self.others else { return IndexUse::One(self.index.name.clone()) };
        let names = self.every().map(|access| access.index.name.clone()).collect();
        if others.all { IndexUse::Intersection(names) } else { IndexUse::Union(names) }
    }
}
