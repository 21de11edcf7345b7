//! Arrow columns of any kind brought to the one Arrow type that each SQL type has here.

use super::problem::Problem;
use crate::catalog::Column;
use crate::diagnostic::{Error, Result};
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef};
use arrow::compute::{self, CastOptions};
use arrow::datatypes::Field;
use std::sync::Arc;

/// The SQL column for a column of an Arrow schema.
pub(super) fn column(field: &Field) -> Result<Column> {
    match SqlType::from_arrow(field.data_type()) {
        Some(sql_type) => Ok(Column { name: field.name().clone(), sql_type }),
        None => {
            let problem = Problem::ColumnType { column: field.name().clone(), found: field.data_type().to_string() };
            Err(Error::from_facts(&problem))
        }
    }
}

/// The array in the Arrow type of its column; whether its values are ones of the SQL type is looked at by `storage`.
pub(super) fn array(array: &ArrayRef, column: &Column) -> Result<ArrayRef> {
    let options = CastOptions { safe: true, ..CastOptions::default() };
    let misfit = || {
        let problem = Problem::Values { column: column.name.clone(), target: column.sql_type };
        Error::from_facts(&problem)
    };
    let target = column.sql_type.arrow();
    let cast = if *array.data_type() == target {
        Arc::clone(array)
    } else {
        compute::cast_with_options(array, &target, &options).map_err(|_| misfit())?
    };
    if cast.logical_null_count() > array.logical_null_count() {
        return Err(misfit());
    }
    Ok(cast)
}
