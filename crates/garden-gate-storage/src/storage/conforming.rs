//! Rows from outside on their way into tables: every value is one of its column's type.

use crate::catalog::{Column, Segment};
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::conform;
use arrow::array::{Array, ArrayRef};

/// The segments as tables hold them.
///
/// # Errors
/// 42000 when an array has another type or length than its column and segment say; 22001 or 22003 with row and column of a value that its
/// type forbids.
pub fn conforming(columns: &[Column], segments: Vec<Segment>) -> Result<Vec<Segment>> {
    let mut before = 0;
    let mut checked = Vec::with_capacity(segments.len());
    for segment in segments {
        checked.push(conforming_segment(columns, &segment, before)?);
        before += segment.rows;
    }
    Ok(checked)
}

/// [`conforming`] for one segment, after so many rows of others.
pub fn conforming_segment(columns: &[Column], segment: &Segment, before: usize) -> Result<Segment> {
    if !is_made_of(segment, columns) {
        let message = "the arrays have other types or lengths than the columns and segments";
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, message));
    }
    let arrays =
        segment.columns.iter().zip(columns).map(|(array, column)| {
            conform(array, column.sql_type).map_err(|misfit| misfit.of_row(before, &column.name))
        });
    Ok(Segment { columns: arrays.collect::<Result<_>>()?, rows: segment.rows })
}

/// Whether the arrays of a segment have the Arrow types of the columns and its length.
pub fn is_made_of(segment: &Segment, columns: &[Column]) -> bool {
    let fits = |(array, column): (&ArrayRef, &Column)| {
        array.len() == segment.rows && *array.data_type() == column.sql_type.arrow()
    };
    segment.columns.len() == columns.len() && segment.columns.iter().zip(columns).all(fits)
}

/// [`conforming`] for one column.
pub(super) fn conforming_column(column: &Column, arrays: Vec<ArrayRef>) -> Result<Vec<ArrayRef>> {
    let mut before = 0;
    let mut checked = Vec::with_capacity(arrays.len());
    for array in arrays {
        checked.push(conform(&array, column.sql_type).map_err(|misfit| misfit.of_row(before, &column.name))?);
        before += array.len();
    }
    Ok(checked)
}
