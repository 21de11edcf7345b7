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
/// Rows that an index leads to and that are read, at most, to see which of them pass the other conditions: of a table, and for one plan.
const MOST_READ: f64 = 512.0;
const MOST_READ_IN_ALL: f64 = 2_048.0;

/// Tells how many rows an index has for constants.
pub trait CountRows: std::fmt::Debug {
    /// Rows that an access leads to; `None` where telling takes more than so many searches, or the index is not at hand.
    ///
    /// # Errors
    /// What reading the index brings.
    fn count(&self, scan: &Scan, access: &IndexAccess, searches: usize) -> Result<Option<u64>>;

    /// Of the rows that an access leads to, those that pass further conditions, which have values for all parameters.
    ///
    /// # Errors
    /// What reading the rows brings.
    fn passing(&self, scan: &Scan, access: &IndexAccess, conditions: &[Expr]) -> Result<u64>;
}

/// What was counted for a plan so far.
pub(super) struct Counted<'a> {
    by: &'a dyn CountRows,
    left: Cell<usize>,
    known: RefCell<HashMap<(ColumnId, String, usize), Option<u64>>>,
    /// Rows that may still be read.
    to_read: Cell<f64>,
    /// What was read for each table, by its first column.
    passed: RefCell<HashMap<ColumnId, Estimate>>,
}

/// What an index has for the conditions of a table.
pub(super) struct CountedAccess<'p> {
    pub(super) access: &'p IndexAccess,
    pub(super) rows: Estimate,
    /// The conditions that it says nothing of.
    pub(super) rest: &'p [Expr],
}

impl<'a> Counted<'a> {
    pub(super) fn by(by: &'a dyn CountRows) -> Self {
        let (left, to_read) = (Cell::new(MOST_SEARCHES), Cell::new(MOST_READ_IN_ALL));
        Self { by, left, known: RefCell::default(), to_read, passed: RefCell::default() }
    }
}

impl Builder<'_> {
    /// The rows that an access leads to, counted.
    pub(super) fn counted(&self, scan: &Scan, access: &IndexAccess) -> Result<Option<Estimate>> {
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

    /// How many rows of a table pass all of its conditions: what indexes count for some of them bounds what is reckoned for all. The rows
    /// themselves are looked at where they are few: columns may be correlated in a way that no statistics say.
    pub(super) fn rows_left(&self, scan: &Scan, counts: &[CountedAccess<'_>]) -> Result<Estimate> {
        let all = crate::estimate::table_rows(scan.source.rows()).0;
        if let Some(exact) = counts.iter().find(|count| count.rest.is_empty()) {
            return Ok(exact.rows);
        }
        if let Some(rows) = self.passed(scan, counts)? {
            return Ok(rows);
        }
        let mut left = all * self.estimator.stored().scan(scan)?;
        for CountedAccess { rows, rest, .. } in counts {
            let reckoned = rows.0 * self.estimator.stored().conjunction(rest)?.share();
            // Conditions on other columns go together in a way that only a sample tells; but not more rows are left than were counted.
            left = left.clamp((reckoned / 10.0).min(rows.0), rows.0);
        }
        Ok(Estimate(left))
    }

    /// The rows that pass all conditions, where an index leads to few that have to be read for it.
    fn passed(&self, scan: &Scan, counts: &[CountedAccess<'_>]) -> Result<Option<Estimate>> {
        let Some((first, _)) = scan.columns.first() else { return Ok(None) };
        if let Some(known) = self.counted.passed.borrow().get(first) {
            return Ok(Some(*known));
        }
        let Some(few) = counts.iter().min_by(|a, b| a.rows.0.total_cmp(&b.rows.0)) else { return Ok(None) };
        let to_read = self.counted.to_read.get();
        let can_be_tested = |term: &Expr| has_values(term) && !term.can_raise() && !term.has_subquery();
        if few.rows.0 > MOST_READ.min(to_read) || !few.rest.iter().all(can_be_tested) {
            return Ok(None);
        }
        self.counted.to_read.set(to_read - few.rows.0);
        let rows = Estimate(approximate(self.counted.by.passing(scan, few.access, few.rest)?));
        self.counted.passed.borrow_mut().insert(*first, rows);
        Ok(Some(rows))
    }
}

/// Whether all parameters of a condition have values.
fn has_values(term: &Expr) -> bool {
    let mut has = true;
    term.walk(&mut |expr| has &= !matches!(expr.kind(), ExprKind::Parameter(_, None)));
    has
}
