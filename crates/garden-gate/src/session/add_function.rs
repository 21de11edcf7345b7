//! Scalar functions of the program.

use super::Database;
use super::add_table::is_possible;
use crate::catalog::{NullCall, ProgramFunction};
use crate::diagnostic::{Error, Result, SqlState};
use crate::types::SqlType;
use arrow::array::ArrayRef;
use std::sync::Arc;

impl Database {
    /// Adds a scalar function whose code is the program's, for all sessions, in every clause. The result is NULL where an argument is;
    /// the code sees rows without NULL only.
    ///
    /// The function is deterministic: the same arguments give the same result, so that a plan may call it in any order, once for a
    /// constant, or not at all. It is called with batches of rows, on several threads at a time. Arguments have the Arrow types of
    /// [`SqlType::arrow`], and so must the result. Functions are not kept in the file of a database: a view or a constraint that calls
    /// one can be used when a program has added it again.
    ///
    /// ```
    /// use garden_gate::arrow::array::{ArrayRef, AsArray, Int64Array};
    /// use garden_gate::arrow::datatypes::Int64Type;
    /// use garden_gate::{Database, SqlType};
    /// use std::sync::Arc;
    ///
    /// # fn main() -> garden_gate::Result<()> {
    /// let db = Database::in_memory();
    /// db.add_function("digit_sum", &[SqlType::BigInt], SqlType::BigInt, |arguments| {
    ///     let sum = |n: i64| n.to_string().bytes().filter(u8::is_ascii_digit).map(|digit| i64::from(digit - b'0')).sum::<i64>();
    ///     let sums = arguments[0].as_primitive::<Int64Type>().values().iter().map(|n| sum(*n));
    ///     Ok(Arc::new(sums.collect::<Int64Array>()) as ArrayRef)
    /// })?;
    /// let (sum,): (i64,) = db.session().query("SELECT MAX(digit_sum(n)) FROM SERIES(1, 100) AS s (n)", ())?.one()?;
    /// assert_eq!(sum, 18);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// 42602 for a name that SQL would have to quote, 42000 when there is such a function or a type has digits it cannot have. An error
    /// of the code is one of the statement; a panic of it, or an array of another type or length, is 38000.
    pub fn add_function(
        &self,
        name: &str,
        arguments: &[SqlType],
        result: SqlType,
        body: impl Fn(&[ArrayRef]) -> Result<ArrayRef> + Send + Sync + 'static,
    ) -> Result<()> {
        self.add_function_with(name, arguments, (result, NullCall::ReturnsNull), body)
    }

    /// As [`Database::add_function`], with a choice of what happens to NULL arguments.
    ///
    /// # Errors
    /// As [`Database::add_function`].
    pub fn add_function_with(
        &self,
        name: &str,
        arguments: &[SqlType],
        (result, null_call): (SqlType, NullCall),
        body: impl Fn(&[ArrayRef]) -> Result<ArrayRef> + Send + Sync + 'static,
    ) -> Result<()> {
        let is_name = name.starts_with(|letter: char| letter.is_ascii_alphabetic())
            && name.bytes().all(|letter| letter.is_ascii_alphanumeric() || letter == b'_')
            && !crate::syntax::is_reserved_word(name);
        if !is_name {
            let message = format!("{name:?} can't be the name of a function");
            return Err(Error::new(SqlState::INVALID_NAME, message)
                .with_help("it begins with a letter, goes on with letters, digits and _, and is not a reserved word"));
        }
        if let Some(sql_type) = arguments.iter().chain([&result]).find(|sql_type| !is_possible(**sql_type)) {
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("there is no type {sql_type}")));
        }
        let function = ProgramFunction {
            name: name.to_owned(),
            arguments: arguments.to_vec(),
            result,
            null_call,
            body: Arc::new(body),
        };
        self.0.add_to_catalog(|catalog| {
            if crate::bind::is_known_function(name) || catalog.program_function(name).is_some() {
                return Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("there is a function {name} already")));
            }
            catalog.program_functions.push(Arc::new(function));
            Ok(())
        })
    }
}
