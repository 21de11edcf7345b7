//! The history of a versioned table: rows that were changed or deleted, each with the time at which it ended. It lies in parts of its own, in
//! the order in which rows ended, so that a query of current rows reads none of it, and one of a moment finds the parts by their bounds.
//!
//! 1. Rows end in the order of commits: a later row never ends before an earlier one.
//! 2. Whatever ended at or before [`History::from`] may be missing; all that ended after it is there.

use super::append::append;
use super::stored_segment::StoredSegment;
use crate::catalog::{HistoryRule, Roll, SystemTime, WhenFull};
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::types::{MICROS_PER_DAY, add_months, index};
use arrow::array::{Array, ArrayRef, AsArray, TimestampMicrosecondArray};
use arrow::datatypes::TimestampMicrosecondType;
use std::sync::Arc;

#[derive(Clone, Debug, Default)]
pub struct History {
    pub(super) stretches: Vec<HistoryInterval>,
    /// The earliest moment that can be asked for; `None` when nothing was ever taken away.
    pub from: Option<i64>,
}

/// History between two rolls.
#[derive(Clone, Debug)]
pub(super) struct HistoryInterval {
    /// The time of its first change, in microseconds since 1970.
    pub(super) began: i64,
    pub(super) parts: Vec<Arc<StoredSegment>>,
}

/// What is said of a stretch.
#[derive(Clone, Copy, Debug)]
pub struct HistoryIntervalFacts {
    pub rows: u64,
    pub bytes: u64,
    /// The first and the last end of a row.
    pub ends: Option<(i64, i64)>,
}

impl HistoryInterval {
    fn rows(&self) -> u64 {
        self.parts.iter().map(|part| part.count() as u64).sum()
    }
}

impl History {
    /// The history of a table that begins to keep it now.
    pub fn begun(now: i64) -> Self {
        Self { stretches: Vec::new(), from: Some(now) }
    }

    /// The same stretches of other rows, as many as there were.
    pub fn rebuilt(&self, rows: &Batch) -> Result<Self> {
        let (mut stretches, mut first) = (Vec::new(), 0);
        for stretch in &self.stretches {
            let count = stretch.parts.iter().map(|part| part.count()).sum();
            let mut parts = Vec::new();
            append(&mut parts, 0, &rows.slice(first, count))?;
            stretches.push(HistoryInterval { began: stretch.began, parts });
            first += count;
        }
        Ok(Self { stretches, from: self.from })
    }

    /// The parts of all intervals, the oldest first.
    pub(super) fn parts(&self) -> impl Iterator<Item = &Arc<StoredSegment>> {
        self.stretches.iter().flat_map(|stretch| &stretch.parts)
    }

    /// Rows that have ended.
    pub fn rows(&self) -> u64 {
        self.stretches.iter().map(HistoryInterval::rows).sum()
    }

    /// Adds rows that have ended, at `now`.
    pub(super) fn add(&mut self, rows: &Batch, period: &SystemTime, now: i64) -> Result<()> {
        if rows.rows == 0 {
            return Ok(());
        }
        let rolls = self.stretches.last().is_none_or(|last| is_over(last, period.rule.roll, now));
        if rolls && !(period.rule.when_full == WhenFull::Note && self.is_full(&period.rule)) {
            self.stretches.push(HistoryInterval { began: now, parts: Vec::new() });
        }
        if let Some(last) = self.stretches.last_mut() {
            append(&mut last.parts, 0, rows)?;
        }
        self.keep(period)
    }

    fn is_full(&self, rule: &HistoryRule) -> bool {
        rule.keep.is_some_and(|keep| self.stretches.len() >= keep.max(1) as usize)
    }

    /// Whether the last stretch that the rule allows is over, and nothing may go.
    pub fn is_over_full(&self, rule: &HistoryRule, now: i64) -> bool {
        rule.when_full == WhenFull::Note
            && self.is_full(rule)
            && self.stretches.last().is_some_and(|last| is_over(last, rule.roll, now))
    }

    /// Lets go of stretches past those that are kept.
    pub fn keep(&mut self, period: &SystemTime) -> Result<()> {
        let HistoryRule { keep: Some(keep), when_full: WhenFull::DropOldest, .. } = period.rule else { return Ok(()) };
        let surplus = self.stretches.len().saturating_sub(keep.max(1) as usize);
        for gone in self.stretches.drain(..surplus) {
            for part in &gone.parts {
                self.from = self.from.max(part.bounds(period.end)?.map(|(_, last)| last));
            }
        }
        Ok(())
    }

    /// Takes away what ended at or before a moment; gives how many rows went.
    pub fn trim(&mut self, period: &SystemTime, before: i64) -> Result<u64> {
        let rows = self.rows();
        for stretch in &mut self.stretches {
            let mut kept = Vec::with_capacity(stretch.parts.len());
            for part in &stretch.parts {
                crate::control::checkpoint()?;
                match part.bounds(period.end)? {
                    Some((first, _)) if first > before => kept.push(Arc::clone(part)),
                    Some((_, last)) if last <= before => {}
                    _ => {
                        let ends = part.whole(period.end)?;
                        let ends = lanes(&ends);
                        let gone: Vec<u32> =
                            (0..index(ends.len())).filter(|row| ends[*row as usize] <= before).collect();
                        kept.extend(part.without(&gone).map(Arc::new));
                    }
                }
            }
            stretch.parts = kept;
        }
        self.stretches.retain(|stretch| !stretch.parts.is_empty());
        self.from = self.from.max(Some(before));
        Ok(rows - self.rows())
    }

    /// The same with the times of a transaction that has been given its own: those of ends, and of stretches that it began.
    pub(super) fn restamped(&self, times: &Restamp<'_>, period: &SystemTime) -> Result<Self> {
        let mut restamped = self.clone();
        if restamped.from == Some(times.from) {
            restamped.from = Some(times.to);
        }
        for stretch in &mut restamped.stretches {
            if stretch.began == times.from {
                stretch.began = times.to;
            }
            for part in &mut stretch.parts {
                if let Some(new) = times.part(part, period.end)? {
                    *part = Arc::new(new);
                }
            }
        }
        Ok(restamped)
    }

    /// What is said of each stretch, the oldest first.
    /// O(rows), as it looks at all columns, `width` of them.
    pub fn facts(&self, period: &SystemTime, width: usize) -> Result<Vec<HistoryIntervalFacts>> {
        let facts = |stretch: &HistoryInterval| {
            let (mut bytes, mut ends) = (0, None);
            for part in &stretch.parts {
                for at in 0..width {
                    bytes += part.whole(at)?.get_array_memory_size() as u64;
                }
                if let Some((first, last)) = part.bounds(period.end)? {
                    let (least, most) = ends.unwrap_or((first, last));
                    ends = Some((first.min(least), last.max(most)));
                }
            }
            Ok(HistoryIntervalFacts { rows: stretch.rows(), bytes, ends })
        };
        self.stretches.iter().map(facts).collect()
    }
}

/// The times of a transaction's rows that become the time of its commit.
pub(super) struct Restamp<'a> {
    pub(super) from: i64,
    pub(super) to: i64,
    /// Whether a part was there before the transaction: it holds no such time.
    pub(super) is_old: &'a dyn Fn(&StoredSegment) -> bool,
}

impl Restamp<'_> {
    /// The part with its times changed; `None` when it holds none of them.
    pub(super) fn part(&self, part: &StoredSegment, column: usize) -> Result<Option<StoredSegment>> {
        if (self.is_old)(part) || part.bounds(column)?.is_none_or(|(least, most)| !(least..=most).contains(&self.from))
        {
            return Ok(None);
        }
        let times = part.whole(column)?;
        let replaced = lanes(&times).iter().map(|time| if *time == self.from { self.to } else { *time });
        let replaced: TimestampMicrosecondArray = replaced.collect::<Vec<i64>>().into();
        let zone = match times.data_type() {
            arrow::datatypes::DataType::Timestamp(_, zone) => zone.clone(),
            _ => None,
        };
        let replaced: ArrayRef = Arc::new(replaced.with_timezone_opt(zone));
        Ok(Some(part.with_column(column, replaced)))
    }
}

/// Microseconds of times.
pub(super) fn lanes(times: &ArrayRef) -> &[i64] {
    times.as_primitive::<TimestampMicrosecondType>().values()
}

/// Whether the next change begins another stretch.
fn is_over(stretch: &HistoryInterval, roll: Option<Roll>, now: i64) -> bool {
    match roll {
        None => false,
        Some(Roll::Rows(most)) => stretch.rows() >= most,
        Some(Roll::Micros(micros)) => now >= stretch.began.saturating_add(micros),
        Some(Roll::Months(months)) => {
            let (day, time) = (stretch.began.div_euclid(MICROS_PER_DAY), stretch.began.rem_euclid(MICROS_PER_DAY));
            let next = i32::try_from(day).ok().and_then(|day| add_months(day, months));
            next.is_some_and(|next| now >= i64::from(next) * MICROS_PER_DAY + time)
        }
    }
}
