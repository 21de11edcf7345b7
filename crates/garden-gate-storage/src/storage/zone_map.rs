//! Parts of a table that a condition omits whole: the minimum and maximum value of each of their columns are known (Moerkotte, small
//! materialized aggregates, VLDB 1998), and where they lie outside what a condition asks for, the part is not read.

use super::stored_table::StoredTable;
use crate::catalog::{ColumnConjunct, ColumnTest, Segment, TableSource};
use crate::diagnostic::Result;
use crate::kernel::{array_of, lane_bounds};
use crate::types::{SqlType, Value};
use std::ops::Bound;

/// The values of a column that a condition may be TRUE for: integers, or what is stored as such (days, times, short decimals).
#[derive(Clone, Copy, Debug)]
pub struct LaneRange {
    pub column: usize,
    pub least: i64,
    pub greatest: i64,
}

impl LaneRange {
    /// The values that a conjunct asks for; `None` when they are not stored as integers.
    pub(super) fn of(conjunct: &ColumnConjunct, sql_type: SqlType) -> Option<Self> {
        let lane = |value: &Value| lane_bounds(&array_of(value, sql_type).ok()?).map(|(lane, _)| lane);
        let (least, greatest) = match &conjunct.test {
            ColumnTest::OneOf(values) => {
                let lanes: Vec<i64> = values.iter().map(lane).collect::<Option<_>>()?;
                (*lanes.iter().min()?, *lanes.iter().max()?)
            }
            ColumnTest::Between(low, high) => {
                let least = match low {
                    Bound::Unbounded => i64::MIN,
                    Bound::Included(low) => lane(low)?,
                    Bound::Excluded(low) => lane(low)?.saturating_add(1),
                };
                let greatest = match high {
                    Bound::Unbounded => i64::MAX,
                    Bound::Included(high) => lane(high)?,
                    Bound::Excluded(high) => lane(high)?.saturating_sub(1),
                };
                (least, greatest)
            }
            _ => return None,
        };
        Some(Self { column: conjunct.column, least, greatest })
    }
}

impl StoredTable {
    /// The rows with these columns, without parts in which no row lies in all the ranges; and how many rows those parts have. A part with a
    /// NULL in a column that is asked is read, so that what a condition is UNKNOWN for can be counted.
    ///
    /// # Errors
    /// As [`TableSource::read`].
    pub fn read_between(&self, columns: &[usize], ranges: &[LaneRange]) -> Result<(Vec<Segment>, u64)> {
        if ranges.is_empty() {
            return Ok((self.read(columns)?, 0));
        }
        let (mut segments, mut passed) = (Vec::new(), 0);
        for (number, part) in self.parts().iter().enumerate() {
            let mut outside = false;
            for range in ranges {
                if let Some((least, greatest)) = part.bounds_without_nulls(range.column)? {
                    outside |= greatest < range.least || least > range.greatest;
                }
            }
            if outside {
                passed += part.count() as u64;
                continue;
            }
            let columns = columns.iter().map(|at| part.column(*at, number)).collect::<Result<_>>()?;
            segments.push(Segment { columns, rows: part.count() });
        }
        Ok((segments, passed))
    }
}
