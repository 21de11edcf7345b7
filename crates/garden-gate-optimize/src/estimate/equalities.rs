//! Columns that joins make equal: none of them has more values than another, nor than the rows that the other comes from.

use super::narrow::met;
use super::{Estimator, table_rows};
use crate::diagnostic::Result;
use crate::logical::ColumnId;
use crate::types::Estimate;

/// Two columns that are the same in the rows of a join.
#[derive(Clone, Copy, Debug)]
pub struct Equality {
    pub columns: [ColumnId; 2],
    /// So many rows were joined on one of the sides, at least: there are no more values.
    pub rows: f64,
}

impl Estimator<'_> {
    /// Takes note that two columns are the same in the rows of a join.
    pub fn equal(&self, equality: Equality) {
        if let Some(behind) = self.behind {
            behind.equal.borrow_mut().push(equality);
        }
    }

    /// How many equalities are known.
    pub fn equalities(&self) -> usize {
        self.behind.map_or(0, |behind| behind.equal.borrow().len())
    }

    /// Forgets all but the first equalities, which held before another plan was tried; gives those that are forgotten.
    pub fn forget_equalities(&self, known: usize) -> Vec<Equality> {
        self.behind.map_or_else(Vec::new, |behind| behind.equal.borrow_mut().split_off(known))
    }

    /// A column and those that are the same, and how many values these have at most.
    fn class(&self, id: ColumnId) -> (Vec<ColumnId>, f64) {
        let (mut class, mut most) = (vec![id], f64::INFINITY);
        let Some(behind) = self.behind else { return (class, most) };
        let mut at = 0;
        while let Some(known) = class.get(at).copied() {
            for Equality { columns: [a, b], rows } in behind.equal.borrow().iter() {
                if *a != known && *b != known {
                    continue;
                }
                most = most.min(*rows);
                let other = if *a == known { *b } else { *a };
                if !class.contains(&other) {
                    class.push(other);
                }
            }
            at += 1;
        }
        (class, most)
    }

    /// Values of a column that are met among so many rows; NULL is one.
    pub(super) fn distinct_of(&self, id: ColumnId, rows: Estimate) -> Result<Option<f64>> {
        let (class, most) = self.class(id);
        let mut fewest: Option<f64> = None;
        for same in class {
            let Some(known) = self.statistics(same)? else { continue };
            let values = known.distinct + if known.nulls > 0 { 1.0 } else { 0.0 };
            let values = if same == id { met(values, rows.0, table_rows(known.rows).0) } else { values };
            fewest = Some(fewest.map_or(values, |fewest| fewest.min(values)));
        }
        Ok(fewest.map(|fewest| fewest.min(most)))
    }
}
