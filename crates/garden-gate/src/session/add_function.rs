//! Scalar and aggregate functions of the program.

use super::Database;
use super::add_table::is_possible;
use crate::catalog::{AggregateState, AnyAggregateState, Catalog, ProgramAggregate, ProgramFunction, Signature};
use crate::diagnostic::{Error, Result, SqlState};
use crate::types::{SqlType, Value};
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
        self.add_function_with(name, Signature::new(arguments, result), body)
    }

    /// As [`Database::add_function`], with a choice of what happens to NULL arguments.
    ///
    /// # Errors
    /// As [`Database::add_function`].
    pub fn add_function_with(
        &self,
        name: &str,
        signature: Signature,
        body: impl Fn(&[ArrayRef]) -> Result<ArrayRef> + Send + Sync + 'static,
    ) -> Result<()> {
        check_signature(name, &signature)?;
        let function = ProgramFunction { name: name.to_owned(), signature, body: Arc::new(body) };
        self.0.add_to_catalog(|catalog| {
            check_is_new(&function.name, catalog)?;
            catalog.program_functions.push(Arc::new(function));
            Ok(())
        })
    }

    /// Adds an aggregate function whose code is the program's, for all sessions: in SELECT lists, HAVING and ORDER BY, over groups and over
    /// windows, with DISTINCT and FILTER. It skips rows in which an argument is NULL.
    ///
    /// What is said of the functions of [`Database::add_function`] holds for these.
    ///
    /// ```
    /// use garden_gate::arrow::array::{ArrayRef, AsArray};
    /// use garden_gate::arrow::datatypes::Int64Type;
    /// use garden_gate::{Database, Result, SqlType, Value, source::AggregateState};
    ///
    /// /// The greatest common divisor of all numbers.
    /// #[derive(Default)]
    /// struct Divisor(i64);
    ///
    /// fn divisor(a: i64, b: i64) -> i64 {
    ///     if b == 0 { a.abs() } else { divisor(b, a % b) }
    /// }
    ///
    /// impl AggregateState for Divisor {
    ///     fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
    ///         self.0 = arguments[0].as_primitive::<Int64Type>().values().iter().fold(self.0, |a, b| divisor(a, *b));
    ///         Ok(())
    ///     }
    ///     fn merge(&mut self, other: &Self) -> Result<()> {
    ///         self.0 = divisor(self.0, other.0);
    ///         Ok(())
    ///     }
    ///     fn finish(&self) -> Result<Value> {
    ///         Ok(Value::Integer(self.0))
    ///     }
    /// }
    ///
    /// # fn main() -> Result<()> {
    /// let db = Database::in_memory();
    /// db.add_aggregate::<Divisor>("common_divisor", &[SqlType::BigInt], SqlType::BigInt)?;
    /// let (found,): (i64,) = db.session().query("SELECT common_divisor(n * 6) FROM SERIES(2, 9) AS s (n)", ())?.one()?;
    /// assert_eq!(found, 6);
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// As [`Database::add_function`]; 42000 without an argument; 38000 when the state before the first row gives a value of another type.
    pub fn add_aggregate<S: AggregateState>(&self, name: &str, arguments: &[SqlType], result: SqlType) -> Result<()> {
        self.add_aggregate_with::<S>(name, Signature::new(arguments, result))
    }

    /// As [`Database::add_aggregate`], with a choice of what happens to rows in which an argument is NULL.
    ///
    /// # Errors
    /// As [`Database::add_aggregate`].
    pub fn add_aggregate_with<S: AggregateState>(&self, name: &str, signature: Signature) -> Result<()> {
        check_signature(name, &signature)?;
        if signature.arguments.is_empty() {
            let message = format!("the aggregate function {name} has no argument");
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, message).with_help("it needs one at least"));
        }
        let start = || -> Box<dyn AnyAggregateState> { Box::new(S::default()) };
        let (name, start, of_nothing) = (name.to_owned(), Arc::new(start), Value::Null);
        let mut function = ProgramAggregate { name, signature, of_nothing, start };
        function.of_nothing = crate::kernel::value_of_nothing(&function)?;
        self.0.add_to_catalog(|catalog| {
            check_is_new(&function.name, catalog)?;
            catalog.program_aggregates.push(Arc::new(function));
            Ok(())
        })
    }
}

/// A name that SQL takes as it is, and types that there are.
fn check_signature(name: &str, signature: &Signature) -> Result<()> {
    let is_name = name.starts_with(|letter: char| letter.is_ascii_alphabetic())
        && name.bytes().all(|letter| letter.is_ascii_alphanumeric() || letter == b'_')
        && !crate::syntax::is_reserved_word(name);
    if !is_name {
        let message = format!("{name:?} can't be the name of a function");
        return Err(Error::new(SqlState::INVALID_NAME, message)
            .with_help("it begins with a letter, goes on with letters, digits and _, and is not a reserved word"));
    }
    match signature.arguments.iter().chain([&signature.result]).find(|sql_type| !is_possible(**sql_type)) {
        Some(sql_type) => Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("there is no type {sql_type}"))),
        None => Ok(()),
    }
}

fn check_is_new(name: &str, catalog: &Catalog) -> Result<()> {
    let is_known = crate::bind::is_known_function(name)
        || catalog.program_function(name).is_some()
        || catalog.program_aggregate(name).is_some();
    if is_known {
        return Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("there is a function {name} already")));
    }
    Ok(())
}
