//! Whether the database is whole: every column can be read, and every row keeps the constraints of its table.

use super::Session;
use super::change::stored;
use super::constraints::check_key;
use crate::bind::{MissingParameters, Parameters};
use crate::catalog::{Catalog, ColumnDefinition, TableDefinition};
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, conform};
use arrow::array::{Array, ArrayRef};
use arrow::compute::kernels::cmp;
use std::sync::Arc;

/// What became of looking at one table.
#[derive(Debug)]
#[non_exhaustive]
pub struct TableCheck {
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// How many rows it has.
    pub rows: u64,
    /// The first thing that is wrong with it.
    pub problem: Option<Error>,
}

impl Session {
    /// Reads every table that the database keeps, column by column (each is stored with a checksum), and checks that every value is one
    /// of its column's type, in the form that the type keeps it in, and all constraints over all rows, those too that a load with CHECKS OFF has left unproven. O(rows); one table is held in memory at a time.
    pub fn verify(&self) -> Vec<TableCheck> {
        let catalog = self.catalog();
        let mut checks = Vec::new();
        for (schema, table) in catalog.tables().filter(|(_, table)| table.definition.is_some()) {
            checks.push(TableCheck {
                schema: schema.to_owned(),
                name: table.name.clone(),
                rows: table.source.rows(),
                problem: self.verify_table(&catalog, schema, &table.name).err(),
            });
        }
        checks
    }

    /// Reads a table whole, and tests its constraints and indexes.
    pub(super) fn verify_table(&self, catalog: &Catalog, schema: &str, name: &str) -> Result<()> {
        let (source, definition) = stored(catalog, schema, name)?;
        let unreadable = |(at, error): (usize, Error)| unreadable((name, &definition.columns[at].name), &error);
        let mut damaged = source.unreadable().into_iter().map(unreadable);
        if let Some(first) = damaged.next() {
            return Err(first.with_related(damaged));
        }
        let columns = source.columns_whole()?;
        for (array, column) in columns.iter().zip(&definition.columns) {
            check_values(array, column)?;
        }
        let history = source.ended_rows()?;
        for (array, column) in history.columns.iter().zip(&definition.columns) {
            check_values(array, column)?;
        }
        check_history(name, &definition, &history)?;
        let rows = Batch::new(columns, usize::try_from(crate::catalog::TableSource::rows(&*source)).unwrap_or(0));
        let (files, parameters) = (self.files(), Parameters::new());
        let around = self.around(catalog, &files, &parameters, MissingParameters::Refuse);
        let changer = self.changer(catalog, &around);
        changer.check_rows((schema, name), &definition, &rows)?;
        for key in &definition.keys {
            check_key(name, &definition, key, (&source, &rows))?;
        }
        definition.references.iter().try_for_each(|key| changer.check_reference(name, &definition, key, &rows))
    }
}

/// What is wrong with a column that cannot be read.
fn unreadable((table, column): (&str, &str), error: &Error) -> Error {
    let message = format!("table {table:?}, column {column:?}: {}", error.message());
    let named = Error::new(error.sqlstate(), message);
    match error.data_place() {
        Some(place) => named.in_file(&place.file, place.line),
        None => named,
    }
}

/// 22000 when a row of history ends before it begins.
fn check_history(name: &str, definition: &TableDefinition, history: &Batch) -> Result<()> {
    let Some(period) = definition.versioning() else { return Ok(()) };
    let backwards = cmp::lt_eq(&history.columns[period.end], &history.columns[period.start])?;
    match backwards.true_count() {
        0 => Ok(()),
        count => {
            let message = format!("{count} rows of the history of table {name:?} end before they begin");
            Err(Error::new(SqlState::DATA_EXCEPTION, message))
        }
    }
}

/// 22001 or 22003 with the row of a value that the type of its column forbids; 22000 for one that is kept in another form.
fn check_values(array: &ArrayRef, column: &ColumnDefinition) -> Result<()> {
    let kept = conform(array, column.sql_type).map_err(|misfit| misfit.of_row(0, &column.name))?;
    if Arc::ptr_eq(&kept, array) || kept.to_data() == array.to_data() {
        return Ok(());
    }
    let message = format!("column {:?} holds values in a form that {} does not have", column.name, column.sql_type);
    Err(Error::new(SqlState::DATA_EXCEPTION, message))
}

#[cfg(test)]
mod tests {
    use super::check_values;
    use crate::catalog::{ColumnDefinition, Filled};
    use crate::types::SqlType;
    use arrow::array::{ArrayRef, Date32Array, Float64Array, StringViewArray};
    use std::sync::Arc;

    #[test]
    fn values_that_their_types_forbid_are_found() {
        let text = |text: &str| Arc::new(StringViewArray::from(vec!["ab", text])) as ArrayRef;
        let cases: [(ArrayRef, SqlType, Option<&str>); 7] = [
            (text("ab"), SqlType::Varchar(Some(2)), None),
            (text("abc"), SqlType::Varchar(Some(2)), Some("22001")),
            (text("ab"), SqlType::Char(2), None),
            (text("a"), SqlType::Char(2), Some("22000")),
            (Arc::new(Date32Array::from(vec![0, i32::MAX])), SqlType::Date, Some("22003")),
            (Arc::new(Float64Array::from(vec![0.0, f64::NAN])), SqlType::Double, Some("22003")),
            (Arc::new(Float64Array::from(vec![0.0, -0.0])), SqlType::Double, Some("22000")),
        ];
        for (array, sql_type, wanted) in cases {
            let column = ColumnDefinition {
                name: "x".into(),
                sql_type,
                limit: None,
                not_null: false,
                filled: Filled::Null,
                hidden: false,
                domain: None,
            };
            let found = check_values(&array, &column).err().map(|error| error.sqlstate().as_str().to_owned());
            assert_eq!(found.as_deref(), wanted, "{sql_type} {array:?}");
        }
    }
}
