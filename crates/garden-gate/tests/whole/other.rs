//! Values of every type that has an order: five of each, as literals and as results show them. A query is drawn once and asked with the type
//! that its seed says, so that each clause meets each type; and literals may come in as parameters.

use super::tree::Cell;
use garden_gate::{Parameters, Value};
use std::cell::{Cell as Slot, RefCell};

/// How many values of a type there are, in their order.
pub(crate) const VALUES: usize = 5;

/// A type, `#` in its literal and in what is shown standing for the number of the value, 0 to 4.
pub(crate) struct Other {
    pub(crate) name: &'static str,
    pub(crate) literal: &'static str,
    pub(crate) shown: &'static str,
}

const fn other(name: &'static str, literal: &'static str, shown: &'static str) -> Other {
    Other { name, literal, shown }
}

pub(crate) const OTHERS: [Other; 18] = [
    other("DATE", "DATE '2024-02-2#'", "2024-02-2#"),
    other("TIME", "TIME '0#:30:00'", "0#:30:00"),
    other("TIME WITH TIME ZONE", "TIME '0#:30:00+00:00'", "0#:30:00+00:00"),
    other("TIMESTAMP", "TIMESTAMP '2024-02-29 0#:00:00.5'", "2024-02-29 0#:00:00.5"),
    other("TIMESTAMP WITH TIME ZONE", "TIMESTAMP '2024-02-29 1#:00:00+02:00'", "2024-02-29 #8:00:00+00:00"),
    other("INTERVAL YEAR TO MONTH", "INTERVAL '#-03' YEAR TO MONTH", "#-03"),
    other("INTERVAL DAY TO SECOND", "INTERVAL '# 04:00:00' DAY TO SECOND", "# 04:00:00"),
    other("REAL", "CAST(#.5 AS REAL)", "#.5"),
    other("DOUBLE PRECISION", "#.25e0", "#.25"),
    other("NUMERIC(5,2)", "#.75", "#.75"),
    other("NUMERIC(30,10)", "CAST(#.5 AS NUMERIC(30,10))", "#.5000000000"),
    other("SMALLINT", "CAST(# AS SMALLINT)", "#"),
    other("BIGINT", "CAST(# AS BIGINT)", "#"),
    other("CHAR(3)", "CAST('a#' AS CHAR(3))", "'a# '"),
    other("VARBINARY(4)", "X'0#FF'", "0#FF"),
    other("BINARY(2)", "CAST(X'0#' AS BINARY(2))", "0#00"),
    other("UUID", "UUID 'f81d4fae-7dec-11d0-a765-00a0c91e6bf#'", "f81d4fae-7dec-11d0-a765-00a0c91e6bf#"),
    other("IPADDRESS", "IPADDRESS '10.0.0.#'", "10.0.0.#"),
];

thread_local! {
    static CHOSEN: Slot<usize> = const { Slot::new(0) };
    static PARAMETERS: RefCell<Option<Vec<Value>>> = const { RefCell::new(None) };
}

/// Makes the type of the queries that are written next.
pub(crate) fn choose(number: usize) {
    CHOSEN.set(number % OTHERS.len());
}

pub(crate) fn chosen() -> &'static Other {
    &OTHERS[CHOSEN.get()]
}

impl Other {
    pub(crate) fn literal(&self, value: usize) -> String {
        self.literal.replace('#', &value.to_string())
    }

    /// The text of a value in a result. The instants are written at hours 10 to 14 of a zone two hours ahead.
    pub(crate) fn shown(&self, value: usize) -> String {
        if self.name == "TIMESTAMP WITH TIME ZONE" {
            return format!("2024-02-29 {:02}:00:00+00:00", 8 + value);
        }
        self.shown.replace('#', &value.to_string())
    }
}

/// The text of a query whose numbers and texts are parameters, and these.
pub(crate) fn with_parameters(write: impl FnOnce() -> String) -> (String, Parameters) {
    PARAMETERS.set(Some(Vec::new()));
    let sql = write();
    let values = PARAMETERS.take().unwrap_or_default();
    let named = values.into_iter().enumerate();
    (sql, named.fold(Parameters::new(), |all, (at, value)| all.set(&format!("p{at}"), value)))
}

/// A parameter instead of a literal, where parameters are asked for. Its type is that of the literal: a bare one would be guessed.
pub(crate) fn parameter(cell: &Cell) -> Option<String> {
    let (value, sql_type) = match cell {
        Cell::Number(number) => (Value::Integer(*number), "INTEGER"),
        Cell::Text(text) => (Value::Text(text.clone()), "VARCHAR(9)"),
        Cell::Null | Cell::Truth(_) | Cell::Other(_) => return None,
    };
    PARAMETERS.with_borrow_mut(|parameters| {
        let parameters = parameters.as_mut()?;
        parameters.push(value);
        Some(format!("CAST(:p{} AS {sql_type})", parameters.len() - 1))
    })
}
