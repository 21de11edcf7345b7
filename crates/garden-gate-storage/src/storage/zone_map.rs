//! Parts of a table that a condition omits whole: the minimum and maximum value of each of their columns are known (Moerkotte, small
//! materialized aggregates, VLDB 1998), and where they lie outside what a condition asks for, the part is not read.

use super::stored_table::StoredTable;
use crate::catalog::{Segment, TableSource};
use crate::diagnostic::Result;

/// The values of a column that a condition may be TRUE for: integers, or what is stored as such (days, times, short decimals).
#[derive(Clone, Copy, Debug)]
pub struct LaneRange {
    pub column: usize,
    pub least: i64,
    pub greatest: i64,
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
