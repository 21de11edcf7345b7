//! `INSERT INTO FILE 'path' query`: the rows of a query as a file.

use super::session::Call;
use super::{Outcome, ResultSet, Session};
use crate::catalog::Column;
use crate::diagnostic::{Error, Result};
use crate::file::{Writer, has_own_array};
use crate::kernel::{array_of_all, value_at};
use crate::syntax::ast;
use crate::types::{SqlType, Value};
use arrow::array::ArrayRef;
use std::path::Path;

impl Session {
    /// INSERT INTO FILE: the rows of a query as a file.
    pub(super) fn export(&mut self, export: &ast::Export, call: &Call<'_>) -> Result<Outcome> {
        let at = |error: Error| if error.span().is_none() { error.at(export.span) } else { error };
        self.access.check_changes().map_err(at)?;
        let help = "INSERT INTO FILE 'path' (REPLACE) puts the rows in its place";
        let path = self.files().writable(&export.path, (export.replace, help)).map_err(at)?;
        let rows = self.query_rows(&export.query, call)?;
        rows.write(&path, &export.options).map_err(at)?;
        let affected = rows.row_count() as u64;
        let what = format!("{}: {} written", export.path, super::words::rows(affected));
        Ok(Outcome::Changed { what, affected, elapsed: call.started.elapsed(), notes: rows.notes })
    }
}

impl ResultSet {
    /// Writes the rows to a file, in the format that its ending tells: `.csv`, `.tsv`, `.jsonl`, `.ndjson`, `.parquet`, `.arrow`, text files
    /// also packed (`.csv.gz`, `.csv.zst`). A file that is there is replaced when all rows are written. Values without an array of their own,
    /// such as intervals of days in Parquet, become their text.
    ///
    /// # Errors
    /// 58030 when the file cannot be written or its ending tells no format.
    pub fn save(&self, path: impl AsRef<Path>) -> Result<()> {
        self.write(path.as_ref(), &ast::FileOptions::default())
    }

    fn write(&self, path: &Path, options: &ast::FileOptions) -> Result<()> {
        let kept = |sql_type: SqlType| if has_own_array(sql_type) { sql_type } else { SqlType::TEXT };
        let columns = self.columns().iter().map(|column| Column::new(column.name.clone(), kept(column.sql_type)));
        let mut writer = Writer::create(path, columns.collect(), options)?;
        let types: Vec<SqlType> = self.columns().iter().map(|column| column.sql_type).collect();
        for batch in &self.batches {
            let array = |(array, sql_type): (&ArrayRef, &SqlType)| -> Result<ArrayRef> {
                if has_own_array(*sql_type) {
                    return Ok(array.clone());
                }
                let texts: Vec<Value> = (0..batch.rows).map(|row| as_text(value_at(array, *sql_type, row))).collect();
                array_of_all(&texts, SqlType::TEXT)
            };
            let arrays = batch.columns.iter().zip(&types).map(array).collect::<Result<Vec<ArrayRef>>>()?;
            let value = |column: usize, row: usize| value_at(&batch.columns[column], types[column], row);
            writer.write(&arrays, batch.rows, &value)?;
        }
        writer.finish()
    }
}

fn as_text(value: Value) -> Value {
    if value.is_null() { value } else { Value::Text(value.to_string()) }
}
