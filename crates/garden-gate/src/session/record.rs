//! A program's own structs as rows of a table.

use super::Database;
use crate::catalog::Column;
use crate::diagnostic::Result;
use crate::types::Value;

/// A type whose values are rows of a table.
///
/// ```
/// use garden_gate::{Column, Database, SqlType, Value, source::Record};
///
/// struct Bed {
///     id: i32,
///     name: &'static str,
///     sun: Option<&'static str>,
/// }
///
/// impl Record for Bed {
///     fn columns() -> Vec<Column> {
///         let text = SqlType::Varchar(None);
///         vec![Column::new("id", SqlType::Integer), Column::new("name", text), Column::new("sun", text)]
///     }
///
///     fn values(&self) -> Vec<Value> {
///         vec![self.id.into(), self.name.into(), self.sun.into()]
///     }
/// }
///
/// # fn main() -> garden_gate::Result<()> {
/// let beds = vec![Bed { id: 1, name: "Fern gully", sun: Some("shade") }, Bed { id: 2, name: "Bog", sun: None }];
/// let db = Database::in_memory();
/// db.add_records("bed", &beds)?;
/// let (dark,): (String,) = db.session().query("SELECT name FROM bed WHERE sun IS NULL", ())?.one()?;
/// assert_eq!(dark, "Bog");
/// # Ok(())
/// # }
/// ```
pub trait Record {
    /// The columns of the table.
    fn columns() -> Vec<Column>;

    /// The values of one row, one for each column.
    fn values(&self) -> Vec<Value>;
}

impl Database {
    /// Makes a program's structs a table. The values are copied: O(rows · columns).
    ///
    /// # Errors
    /// As [`Database::add_rows`].
    pub fn add_records<'r, R: Record + 'r>(&self, name: &str, records: impl IntoIterator<Item = &'r R>) -> Result<()> {
        let rows: Vec<Vec<Value>> = records.into_iter().map(R::values).collect();
        self.add_rows(name, &R::columns(), &rows)
    }
}
