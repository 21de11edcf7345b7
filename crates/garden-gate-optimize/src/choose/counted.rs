//! Rows that an index is asked for while a plan is made: where the constants are at hand, it knows what statistics guess.

use super::access::bounded;
use super::build::{Builder, with_columns};
use super::sampled::{MatchedRows, SampledRows, used_columns};
use crate::catalog::Segment;
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{ColumnId, Expr, ExprKind, Scan, ScanIndex};
use crate::physical::{IndexAccess, Probe};
use crate::types::{Estimate, approximate};
use arrow::array::ArrayRef;
use std::cell::{Cell, RefCell};

/// Searches in indexes, at most, for one plan.
const MOST_SEARCHES: usize = 64;
/// Rows that an index leads to and that are read, at most, to see which of them pass the other conditions: of a table, and for one plan.
const MOST_READ: f64 = 512.0;
const MOST_READ_IN_ALL: f64 = 2_048.0;

/// Looks values up in the indexes of tables while a plan is made.
pub trait IndexLookups: std::fmt::Debug {
    /// Rows that an access leads to; `None` where telling takes more than so many searches, or the index is not at hand.
    ///
    /// # Errors
    /// What reading the index brings.
    fn count(&self, scan: &Scan, access: &IndexAccess, searches: usize) -> Result<Option<u64>>;

    /// The rows that an access leads to, with columns by their places in the table.
    ///
    /// # Errors
    /// What reading the rows brings.
    fn read(&self, scan: &Scan, access: &IndexAccess, columns: &[usize]) -> Result<Vec<Segment>>;

    /// The rows whose leading keys are those of a batch; `None` where the index is not at hand.
    ///
    /// # Errors
    /// What reading the index and the rows brings.
    fn matches(
        &self,
        scan: &Scan,
        index: &ScanIndex,
        keys: &[ArrayRef],
        columns: &[usize],
    ) -> Result<Option<MatchedRows>>;
}

/// What was counted for a plan so far.
pub(super) struct Counted<'a> {
    by: &'a dyn IndexLookups,
    left: Cell<usize>,
    known: RefCell<HashMap<(ColumnId, String, usize), Option<u64>>>,
    /// Whether the query reads several tables, so that the values of one are asked for.
    is_join: bool,
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
    /// Asks `by`, for this plan alone. Of joins only those estimates are asked for that a wrong order would be paid with.
    pub(super) fn by(by: &'a dyn IndexLookups, is_join: bool) -> Self {
        let (left, to_read) = (Cell::new(MOST_SEARCHES), Cell::new(MOST_READ_IN_ALL));
        Self { by, left, known: RefCell::default(), is_join, to_read, passed: RefCell::default() }
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
    pub(super) fn rows_left(
        &self,
        scan: &Scan,
        counts: &[CountedAccess<'_>],
        required: &[ColumnId],
    ) -> Result<Estimate> {
        let all = crate::estimate::table_rows(scan.source.rows()).0;
        if let Some(exact) = counts.iter().find(|count| count.rest.is_empty()) {
            if self.counted.is_join {
                self.passed(scan, std::slice::from_ref(exact), required)?;
            }
            return Ok(exact.rows);
        }
        if let Some(rows) = self.passed(scan, counts, required)? {
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
    fn passed(&self, scan: &Scan, counts: &[CountedAccess<'_>], required: &[ColumnId]) -> Result<Option<Estimate>> {
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
        let used = with_columns(if self.counted.is_join { required } else { &[] }, few.rest);
        let (columns, places) = used_columns(scan, &used);
        let rows = match self.read_by(scan, few.access, &places)? {
            None => Estimate(0.0),
            Some(batch) => {
                let Some(passing) = (SampledRows { columns, batch, weight: 1.0 }).filtered(few.rest)? else {
                    return Ok(None);
                };
                self.estimator.saw(passing.columns.iter().copied().zip(passing.batch.columns.iter().cloned()));
                Estimate(passing.estimate())
            }
        };
        self.counted.passed.borrow_mut().insert(*first, rows);
        Ok(Some(rows))
    }

    /// The rows that an access leads to, where there are any.
    fn read_by(&self, scan: &Scan, access: &IndexAccess, places: &[usize]) -> Result<Option<Batch>> {
        let access = IndexAccess { only: false, order: None, ..access.clone() };
        let batch = |segment: Segment| Batch::new(segment.columns, segment.rows);
        let read: Vec<Batch> = self.counted.by.read(scan, &access, places)?.into_iter().map(batch).collect();
        if read.is_empty() { Ok(None) } else { Batch::concat(&read, None).map(Some) }
    }

    /// The rows that an index leads to for conditions of a table, where it is known that they are few; the conditions are yet to be tested.
    pub(super) fn few_rows(&self, scan: &Scan, places: &[usize]) -> Result<Option<Batch>> {
        let mut least: Option<(Estimate, IndexAccess)> = None;
        for index in &scan.indexes {
            let (access, _) = bounded(scan, index);
            if let Some(rows) = self.counted(scan, &access)?
                && least.as_ref().is_none_or(|(known, _)| rows.0 < known.0)
            {
                least = Some((rows, access));
            }
        }
        match least.filter(|(rows, _)| rows.0 >= 1.0 && rows.0 <= MOST_READ) {
            Some((_, access)) => self.read_by(scan, &access, places),
            None => Ok(None),
        }
    }

    /// The rows of a table whose leading keys in an index are these.
    pub(super) fn matches(
        &self,
        scan: &Scan,
        index: &ScanIndex,
        keys: &[ArrayRef],
        places: &[usize],
    ) -> Result<Option<MatchedRows>> {
        self.counted.by.matches(scan, index, keys, places)
    }
}

/// Whether all parameters of a condition have values.
fn has_values(term: &Expr) -> bool {
    let mut has = true;
    term.walk(&mut |expr| has &= !matches!(expr.kind(), ExprKind::Parameter(_, None)));
    has
}
