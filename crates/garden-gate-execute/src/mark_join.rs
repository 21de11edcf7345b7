//! Mark joins, and anti joins whose UNKNOWN counts: `operands op ANY (query)` with exact three-valued logic (clause 8.9).
//!
//! TRUE for a left row when some right row that fulfils the plain conditions compares TRUE; else UNKNOWN when some such row compares
//! UNKNOWN; else FALSE. Equalities are looked up. Only rows with a NULL on either side are looked at for UNKNOWN.

use super::filter::Filter;
use super::join::{ColumnSource, Pairs, gather, keys};
use super::pipeline::{Flow, Transform};
use super::range_join::Ranges;
use crate::control::Control;
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::kernel::{Batch, JoinTable, RangeTable, evaluate};
use crate::logical::{Expr, JoinKind};
use crate::physical::NodeMeasure;
use crate::types::index;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, UInt32Array};
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// What is kept of the right side.
pub(super) struct Marked {
    pub(super) batch: Batch,
    /// By the plain keys and the operands of an equality: the rows that make it TRUE.
    pub(super) equal: Option<JoinTable>,
    /// By the plain keys: all rows. Absent when there are no such keys.
    pub(super) all: Option<JoinTable>,
    /// Rows in which an operand is NULL, by their place, and by the plain keys.
    pub(super) null_rows: Vec<u32>,
    pub(super) nulls: Option<JoinTable>,
    /// Of EXISTS by inequalities: the rows that fulfil them.
    pub(super) range: Option<RangeTable>,
    pub(super) _held: MemoryReservation,
}

pub(super) struct Mark<'a> {
    pub(super) kind: JoinKind,
    pub(super) control: &'a Control,
    pub(super) right: Arc<Marked>,
    pub(super) keys: Vec<Expr>,
    /// The left operands of the comparison; none for EXISTS.
    pub(super) operands: Vec<Expr>,
    pub(super) ranges: Option<Ranges>,
    pub(super) pair: Vec<ColumnSource>,
    pub(super) residual: Option<Filter<'a>>,
    /// The comparison over a pair; absent for EXISTS.
    pub(super) test: Option<Expr>,
    /// The left columns of the result, and the place of the mark among the result's columns.
    pub(super) output: Vec<usize>,
    pub(super) mark: Option<usize>,
    pub(super) batch_rows: usize,
    pub(super) measure: Option<&'a NodeMeasure>,
}

/// What is known of a left row.
#[derive(Clone, Copy, PartialEq)]
enum Truth {
    False,
    Unknown,
    True,
}

impl Mark<'_> {
    /// Tallies the negation of the comparison, for which an anti join keeps its rows.
    fn count(&self, truths: &[Truth]) {
        let Some(tally) = self.measure.map(|measure| &measure.membership) else { return };
        let many = |wanted: Truth| truths.iter().filter(|truth| **truth == wanted).count() as u64;
        tally.holds.fetch_add(many(Truth::False), Ordering::Relaxed);
        tally.fails.fetch_add(many(Truth::True), Ordering::Relaxed);
        tally.unknown.fetch_add(many(Truth::Unknown), Ordering::Relaxed);
    }

    fn truths(&self, batch: &Batch) -> Result<Vec<Truth>> {
        let mut truths = vec![Truth::False; batch.rows];
        let plain = keys(&self.keys, batch)?;
        let operands = keys(&self.operands, batch)?;
        if let (Some(table), Some(ranges)) = (&self.right.range, &self.ranges) {
            let values = ranges.values(batch)?;
            let mut pairs = Pairs::default();
            let sides = (&values.first, values.second.as_ref());
            table.probe(&plain, sides, (batch.rows, &values.open), |left, right| {
                self.add(batch, (left, right), &mut pairs, &mut truths)?;
                // Without another condition the first match tells.
                Ok(self.residual.is_some() && truths[left as usize] != Truth::True)
            })?;
            self.judge(batch, pairs, &mut truths)?;
        } else if let Some(equal) = &self.right.equal {
            let all: Vec<ArrayRef> = plain.iter().chain(&operands).cloned().collect();
            if self.residual.is_none() {
                let mut found = vec![false; batch.rows];
                equal.contains(&all, &mut found)?;
                found.iter().zip(&mut truths).for_each(|(found, truth)| {
                    if *found {
                        *truth = Truth::True;
                    }
                });
            } else {
                let mut pairs = Pairs::default();
                equal.probe(&all, batch.rows, |left, right| self.add(batch, (left, right), &mut pairs, &mut truths))?;
                self.judge(batch, pairs, &mut truths)?;
            }
            self.look_for_unknown(batch, &plain, &operands, &mut truths)?;
        } else {
            let mut pairs = Pairs::default();
            let rows = (0..index(batch.rows)).collect::<Vec<_>>();
            self.pair_all(batch, (&rows, &plain), &mut pairs, &mut truths)?;
            self.judge(batch, pairs, &mut truths)?;
        }
        Ok(truths)
    }

    /// An equality that is TRUE for no row may be UNKNOWN: a row with a NULL operand meets all rows of its keys, any other only those
    /// with a NULL.
    fn look_for_unknown(
        &self,
        batch: &Batch,
        plain: &[ArrayRef],
        operands: &[ArrayRef],
        truths: &mut [Truth],
    ) -> Result<()> {
        let open = |row: &u32, truths: &[Truth]| truths[*row as usize] != Truth::True;
        let has_null = |row: &u32| operands.iter().any(|operand| operand.is_null(*row as usize));
        let rows: Vec<u32> = (0..index(batch.rows)).filter(|row| open(row, truths)).collect();
        let (with_null, without): (Vec<u32>, Vec<u32>) = rows.into_iter().partition(has_null);
        let mut pairs = Pairs::default();
        if !with_null.is_empty() && self.right.batch.rows > 0 {
            self.pair_all(batch, (&with_null, plain), &mut pairs, truths)?;
        }
        if !without.is_empty() && !self.right.null_rows.is_empty() {
            match &self.right.nulls {
                Some(table) => {
                    let part = taken(plain, &without)?;
                    table.probe(&part, without.len(), |left, right| {
                        let pair = (without[left as usize], self.right.null_rows[right as usize]);
                        self.add(batch, pair, &mut pairs, truths)
                    })?;
                }
                None => {
                    for left in &without {
                        for right in &self.right.null_rows {
                            self.add(batch, (*left, *right), &mut pairs, truths)?;
                        }
                    }
                }
            }
        }
        self.judge(batch, pairs, truths)
    }

    /// Pairs these left rows with all right rows of their plain keys.
    fn pair_all(
        &self,
        batch: &Batch,
        (rows, plain): (&[u32], &[ArrayRef]),
        pairs: &mut Pairs,
        truths: &mut [Truth],
    ) -> Result<()> {
        match &self.right.all {
            Some(table) => {
                let part = taken(plain, rows)?;
                table.probe(&part, rows.len(), |left, right| {
                    self.add(batch, (rows[left as usize], right), pairs, truths)
                })
            }
            None => {
                for left in rows {
                    for right in 0..index(self.right.batch.rows) {
                        if truths[*left as usize] == Truth::True {
                            break;
                        }
                        self.add(batch, (*left, right), pairs, truths)?;
                    }
                }
                Ok(())
            }
        }
    }

    fn add(&self, batch: &Batch, (left, right): (u32, u32), pairs: &mut Pairs, truths: &mut [Truth]) -> Result<()> {
        if truths[left as usize] == Truth::True {
            return Ok(());
        }
        pairs.probe.push(left);
        pairs.build.push(right);
        if pairs.probe.len() == self.batch_rows {
            self.control.check()?;
            return self.judge(batch, std::mem::take(pairs), truths);
        }
        Ok(())
    }

    /// Tests pairs, and raises what is known of their left rows.
    fn judge(&self, batch: &Batch, mut pairs: Pairs, truths: &mut [Truth]) -> Result<()> {
        if pairs.probe.is_empty() {
            return Ok(());
        }
        let mut rows = gather(&self.pair, batch, &self.right.batch, &pairs)?;
        if let Some(residual) = &self.residual {
            let mask = residual.mask(&rows)?;
            let count = mask.values().count_set_bits();
            pairs.probe = mask.values().set_indices().map(|at| pairs.probe[at]).collect();
            rows = rows.filter(&mask, count)?;
        }
        let Some(test) = &self.test else {
            pairs.probe.iter().for_each(|left| truths[*left as usize] = Truth::True);
            return Ok(());
        };
        if rows.rows == 0 {
            return Ok(());
        }
        let outcome = evaluate(test, &rows)?.into_array(rows.rows)?;
        for (left, outcome) in pairs.probe.iter().zip(outcome.as_boolean()) {
            let truth = &mut truths[*left as usize];
            match outcome {
                Some(true) => *truth = Truth::True,
                None if *truth == Truth::False => *truth = Truth::Unknown,
                _ => {}
            }
        }
        Ok(())
    }
}

fn taken(columns: &[ArrayRef], rows: &[u32]) -> Result<Vec<ArrayRef>> {
    let rows = UInt32Array::from(rows.to_vec());
    Ok(columns.iter().map(|column| arrow::compute::take(column, &rows, None)).collect::<Result<_, _>>()?)
}

impl Transform for Mark<'_> {
    fn apply(&self, batch: Batch, emit: &mut dyn FnMut(Batch) -> Result<Flow>) -> Result<Flow> {
        let truths = self.truths(&batch)?;
        let mut columns: Vec<ArrayRef> = self.output.iter().map(|at| Arc::clone(&batch.columns[*at])).collect();
        if self.kind == JoinKind::Anti {
            self.count(&truths);
            let mask: BooleanArray = truths.iter().map(|truth| Some(*truth == Truth::False)).collect();
            let count = mask.values().count_set_bits();
            return if count == 0 {
                Ok(Flow::More)
            } else {
                emit(Batch::new(columns, batch.rows).filter(&mask, count)?)
            };
        }
        let marks: BooleanArray = truths
            .iter()
            .map(|truth| match truth {
                Truth::True => Some(true),
                Truth::Unknown => None,
                Truth::False => Some(false),
            })
            .collect();
        if let Some(place) = self.mark {
            columns.insert(place, Arc::new(marks));
        }
        emit(Batch::new(columns, batch.rows))
    }
}
