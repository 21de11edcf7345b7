//! Rows that an index is asked for while a plan is made: where the constants are at hand, it knows what statistics guess.

use super::build::Builder;
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Expr, ExprKind, Scan};
use crate::physical::{IndexAccess, Probe};
use crate::types::{Estimate, approximate};
use std::cell::{Cell, RefCell};

/// Searches in indexes, at most, for one plan.
const MOST_SEARCHES: usize = 64;

/// Tells how many rows an index has for constants.
pub trait CountRows: std::fmt::Debug {
    /// Rows that an access leads to; `None` where telling takes more than so many searches, or the index is not at hand.
    ///
    /// # Errors
    /// What reading the index brings.
    fn count(&self, scan: &Scan, access: &IndexAccess, searches: usize) -> Result<Option<u64>>;
}

/// What was counted for a plan so far.
pub(super) struct Counted<'a> {
    by: &'a dyn CountRows,
    left: Cell<usize>,
    known: RefCell<HashMap<(ColumnId, String, usize), Option<u64>>>,
}

impl<'a> Counted<'a> {
    pub(super) fn by(by: &'a dyn CountRows) -> Self {
        Self { by, left: Cell::new(MOST_SEARCHES), known: RefCell::default() }
    }
}

impl Builder<'_> {
    /// The rows that an access leads to, counted.
    pub(super) fn counted(&self, scan: &Scan, access: &IndexAccess) -> Result<Option<Estimate>> {
        let has_values = |term: &Expr| {
            let mut has = true;
            term.walk(&mut |expr| has &= !matches!(expr.kind(), ExprKind::Parameter(_, None)));
            has
        };
        let Some((first, _)) = scan.columns.first() else { return Ok(None) };
        if access.bounds.is_empty() || access.others.is_some() || !access.bounds.iter().all(has_values) {
            return Ok(None);
        }
        let key = (*first, access.index.name.clone(), access.bounds.len());
        if let Some(known) = self.counted.known.borrow().get(&key) {
            return Ok(known.map(|rows| Estimate(approximate(rows))));
        }
        let searches: usize = access.equal.iter().map(Probe::values).product();
        let left = self.counted.left.get();
        if searches > left {
            return Ok(None);
        }
        let found = self.counted.by.count(scan, access, left)?;
        self.counted.left.set(left - searches);
        self.counted.known.borrow_mut().insert(key, found);
        Ok(found.map(|rows| Estimate(approximate(rows))))
    }

    /// How many rows of a table pass all of its conditions: what indexes count for some of them bounds what is reckoned for all.
    pub(super) fn rows_left(&self, scan: &Scan, counts: &[(Estimate, &[Expr])]) -> Result<Estimate> {
        let all = crate::estimate::table_rows(scan.source.rows()).0;
        if let Some((rows, _)) = counts.iter().find(|(_, rest)| rest.is_empty()) {
            return Ok(*rows);
        }
        let mut left = all * self.estimator.stored().scan(scan)?;
        for (rows, rest) in counts {
            let reckoned = rows.0 * self.estimator.stored().conjunction(rest)?.share();
            // Conditions on other columns go together in a way that only a sample tells; but not more rows are left than were counted.
            left = left.clamp((reckoned / 10.0).min(rows.0), rows.0);
        }
        Ok(Estimate(left))
    }
}
