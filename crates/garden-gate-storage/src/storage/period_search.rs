//! Rows of a key by their periods. In each part the rows are sorted by key and start (an index that a key WITHOUT OVERLAPS is by its nature); as
//! periods of one key do not overlap, their ends are sorted too, and the last row that starts before a moment is the only one that may reach it.

use super::index::{PartIndex, converter};
use super::stored_segment::StoredSegment;
use super::stored_table::{Place, StoredTable};
use crate::diagnostic::Result;
use crate::kernel::integer_lanes;
use crate::logical::ScanIndex;
use crate::types::index as row_number;
use arrow::array::{Array, ArrayRef, AsArray};
use arrow::datatypes::{Date32Type, TimestampMicrosecondType};

/// Which rows are looked for.
#[derive(Debug)]
pub struct PeriodSearch<'s> {
    /// Sorted by the columns of the key, then by the start of the period.
    pub index: &'s ScanIndex,
    /// The columns of the table in which a period starts and ends.
    pub period: (usize, usize),
}

/// Keys and periods, one a row.
#[derive(Debug)]
pub struct Wanted<'s> {
    pub keys: &'s [ArrayRef],
    pub starts: &'s ArrayRef,
    pub ends: &'s ArrayRef,
}

impl StoredTable {
    /// Calls `found` with a wanted row and the place of each row of its key whose period overlaps its own, with where that starts and ends, as
    /// numbers. Rows with a NULL in their key have none. O(parts · log rows) for each wanted row, and O(1) for each found one.
    pub fn overlapping(
        &self,
        search: &PeriodSearch<'_>,
        wanted: &Wanted<'_>,
        mut found: impl FnMut(u32, Place, (i64, i64)) -> Result<()>,
    ) -> Result<()> {
        let rows = wanted.starts.len();
        let scalar = wanted.keys.len();
        let (prefixes, bounds) = (converter(search.index, scalar)?, converter(search.index, scalar + 1)?);
        let keys = prefixes.convert_columns(wanted.keys)?;
        let mut with_end = wanted.keys.to_vec();
        with_end.push(ArrayRef::clone(wanted.ends));
        let limits = bounds.convert_columns(&with_end)?;
        let first_starts = integer_lanes(wanted.starts).unwrap_or_default();
        for (number, part) in self.parts().iter().enumerate() {
            let index = part.index(search.index)?;
            let columns = (part.whole(search.period.0)?, part.whole(search.period.1)?);
            let (starts, ends) = (Lanes::of(&columns.0), Lanes::of(&columns.1));
            let place = i64::from(row_number(number)) << 32;
            for row in 0..rows {
                crate::control::checkpoint()?;
                if wanted.keys.iter().any(|key| key.is_null(row)) {
                    continue;
                }
                let before = starting_before((&index, part), (keys.row(row).as_ref(), limits.row(row).as_ref()));
                for other in before {
                    if ends.get(other) <= first_starts[row] {
                        break;
                    }
                    let period = (starts.get(other), ends.get(other));
                    found(row_number(row), place | i64::from(other), period)?;
                }
            }
        }
        Ok(())
    }
}

/// The ends of periods as numbers, each taken when it is asked for: a part is large, and few of its rows are looked at.
enum Lanes<'a> {
    Days(&'a [i32]),
    Micros(&'a [i64]),
}

impl<'a> Lanes<'a> {
    fn of(column: &'a ArrayRef) -> Self {
        match column.as_primitive_opt::<Date32Type>() {
            Some(days) => Self::Days(days.values()),
            None => Self::Micros(column.as_primitive::<TimestampMicrosecondType>().values()),
        }
    }

    fn get(&self, row: u32) -> i64 {
        match self {
            Self::Days(days) => days[row as usize].into(),
            Self::Micros(micros) => micros[row as usize],
        }
    }
}

/// The rows of a key that are left and start before a limit, the last one first.
fn starting_before<'i>(
    (index, part): (&'i PartIndex, &'i StoredSegment),
    (key, limit): (&[u8], &[u8]),
) -> impl Iterator<Item = u32> + 'i {
    index.between(key, limit).iter().rev().copied().filter(|row| part.is_live(*row))
}
