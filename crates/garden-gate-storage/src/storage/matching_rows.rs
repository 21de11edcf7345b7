//! The rows of a table that an index leads to, for a batch of keys at a time.

use super::index::converter;
use super::stored_segment::StoredSegment;
use super::stored_table::StoredTable;
use crate::diagnostic::Result;
use crate::kernel::integer_lanes;
use crate::logical::{ExprKind, ScanIndex};
use crate::types::index;
use arrow::array::{Array, ArrayRef, Int64Array, UInt32Array};
use arrow::compute;
use std::sync::Arc;

/// Rows found for keys.
#[derive(Debug)]
pub struct MatchingRows {
    /// For each row found the number of the key it was found for, in order.
    pub keys: Vec<u32>,
    pub columns: Vec<ArrayRef>,
}

impl StoredTable {
    /// The rows whose leading keys are these, one array a key; a NULL finds nothing. Rows of one key come in the order of the table.
    /// O(keys · parts · log rows), and for each row found its columns.
    ///
    /// # Errors
    /// 58030 and 22000 when the database file cannot be read.
    pub fn matching_rows(&self, shape: &ScanIndex, keys: &[ArrayRef], columns: &[usize]) -> Result<MatchingRows> {
        let rows = keys.first().map_or(0, |key| key.len());
        let encoded = converter(shape, keys.len())?.convert_columns(keys)?;
        let indexes = self.parts().iter().map(|part| part.index(shape)).collect::<Result<Vec<_>>>()?;
        let lanes = keys.first().and_then(integer_lanes);
        let bounds = self.bounds_of_parts(shape)?;
        // A part whose values lie elsewhere is not looked at.
        let reaches = |row: usize, part: usize| match (&lanes, bounds[part]) {
            (Some(lanes), Some((least, greatest))) => (least..=greatest).contains(&lanes[row]),
            _ => true,
        };
        let mut numbers = Vec::new();
        let mut places: Vec<(usize, usize)> = Vec::new();
        for row in (0..rows).filter(|row| keys.iter().all(|key| key.is_valid(*row))) {
            let key = encoded.row(row);
            for (number, (part, known)) in self.parts().iter().zip(&indexes).enumerate() {
                if !reaches(row, number) {
                    continue;
                }
                let first = places.len();
                let live = known.rows_of(key.as_ref()).iter().filter(|row| part.is_live(**row));
                places.extend(live.map(|row| (number, *row as usize)));
                places[first..].sort_unstable();
            }
            numbers.resize(places.len(), index(row));
        }
        let column = |at: &usize| self.at_places(*at, &places);
        Ok(MatchingRows { keys: numbers, columns: columns.iter().map(column).collect::<Result<_>>()? })
    }

    /// For each part between which values its rows lie in the first key, where that is a column.
    fn bounds_of_parts(&self, shape: &ScanIndex) -> Result<Vec<Option<(i64, i64)>>> {
        let column = shape.keys.first().and_then(|key| match key.expr.kind() {
            ExprKind::Slot(column) => Some(*column),
            _ => None,
        });
        self.parts().iter().map(|part| column.map_or(Ok(None), |column| part.bounds(column))).collect()
    }

    /// A column of rows by their part and their number in it.
    fn at_places(&self, at: usize, places: &[(usize, usize)]) -> Result<ArrayRef> {
        if at == self.place_column() {
            let place = |(part, row): &(usize, usize)| (i64::from(index(*part)) << 32) | i64::from(index(*row));
            return Ok(Arc::new(places.iter().map(place).collect::<Int64Array>()));
        }
        if let [only] = self.parts() {
            let rows: UInt32Array = places.iter().map(|(_, row)| index(*row)).collect();
            return Ok(compute::take(&only.whole(at)?, &rows, None)?);
        }
        let arrays = self.parts().iter().map(|part: &Arc<StoredSegment>| part.whole(at)).collect::<Result<Vec<_>>>()?;
        if arrays.is_empty() {
            return Ok(arrow::array::new_empty_array(&self.column_type(at)));
        }
        let arrays: Vec<&dyn Array> = arrays.iter().map(AsRef::as_ref).collect();
        Ok(compute::interleave(&arrays, places)?)
    }
}
