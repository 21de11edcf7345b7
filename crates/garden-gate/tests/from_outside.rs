//! Values that programs bring in: what a type forbids does not come in by any door, and what comes in is in its one form.

use crate::story::{check, tell};
use crate::support::{numeric, show};
use garden_gate::arrow::array::{ArrayRef, Decimal64Array, Float64Array, StringViewArray, Time64MicrosecondArray};
use garden_gate::{
    Column, Database, Parameters, SqlType, Value,
    source::{Segment, TableSource},
    value::Decimal,
};
use std::sync::Arc;

#[test]
fn literal_rows_are_held_to_their_types() {
    let number = |unscaled, scale| Value::Numeric(Decimal { unscaled, scale });
    for (sql_type, value, outcome) in [
        (SqlType::Varchar(Some(2)), "abc".into(), "!22001 row 2, column \"a\": 'abc' has 3 characters"),
        (SqlType::Varchar(Some(2)), "ab  ".into(), "ab"),
        (SqlType::Varbinary(Some(1)), Value::Binary(vec![1, 2]), "!22001 row 2, column \"a\""),
        (SqlType::Time, Value::Time(-5), "!22003 row 2, column \"a\""),
        (SqlType::Time, Value::Time(86_400_000_000), "!22003 row 2"),
        (SqlType::Date, Value::Date(i32::MAX), "!22003 row 2, column \"a\""),
        (SqlType::Timestamp, Value::Timestamp(i64::MIN), "!22003 row 2"),
        (numeric(5, 2), number(1239, 3), "!22003 row 2, column \"a\": 1.239 does not fit"),
        (numeric(5, 2), number(12_300, 4), "1.23"),
        (SqlType::Double, Value::Double(f64::NAN), "!22003 row 2"),
        (SqlType::Double, Value::Double(f64::NEG_INFINITY), "!22003 row 2"),
        (SqlType::Real, Value::Double(1e39), "!22003 row 2"),
        (SqlType::Double, Value::Double(-0.0), "0.0"),
        (SqlType::SmallInt, Value::Integer(40_000), "!22003 row 2, column \"a\""),
        (SqlType::array_of(SqlType::Varchar(Some(1))), Value::Array(vec!["a".into(), "bc".into()]), "!22001 row 2"),
    ] {
        let db = Database::in_memory();
        let made = db.add_rows("t", &[Column::new("a", sql_type)], &[vec![Value::Null], vec![value.clone()]]);
        let found = match made {
            Ok(()) => show(&db.session().query("SELECT a FROM t WHERE a IS NOT NULL", ()).unwrap()),
            Err(error) => format!("!{} {}", error.sqlstate(), error.message()),
        };
        let fits = if outcome.starts_with('!') { found.starts_with(outcome) } else { found == outcome };
        assert!(fits, "{value} as {sql_type}: {found}, not {outcome}");
    }
    // A CHAR is filled up, so that it is the same as one that a statement made.
    let db = Database::in_memory();
    db.add_rows("t", &[Column::new("a", SqlType::Char(3))], &[vec!["x".into()]]).unwrap();
    assert_eq!(show(&db.session().query("SELECT COUNT(*) FROM t WHERE a = CAST('x' AS CHAR(3))", ()).unwrap()), "1");
}

/// A source whose rows are these, whatever they are.
#[derive(Debug)]
struct Given(Vec<Column>, Vec<ArrayRef>);

impl TableSource for Given {
    fn columns(&self) -> &[Column] {
        &self.0
    }

    fn rows(&self) -> u64 {
        self.1[0].len() as u64
    }

    fn read(&self, columns: &[usize]) -> garden_gate::Result<Vec<Segment>> {
        let columns = columns.iter().map(|at| Arc::clone(&self.1[*at])).collect();
        Ok(vec![Segment { columns, rows: self.1[0].len() }])
    }
}

#[test]
fn arrays_are_held_to_their_types() {
    let decimals = Decimal64Array::from(vec![1, 123_456]).with_precision_and_scale(5, 2).unwrap();
    let arrays: [(SqlType, ArrayRef, &str); 5] = [
        (numeric(5, 2), Arc::new(decimals), "22003"),
        (SqlType::Time, Arc::new(Time64MicrosecondArray::from(vec![0, -5])), "22003"),
        (SqlType::Varchar(Some(2)), Arc::new(StringViewArray::from(vec!["ab", "abc"])), "22001"),
        (SqlType::Double, Arc::new(Float64Array::from(vec![1.0, f64::INFINITY])), "22003"),
        (SqlType::Double, Arc::new(Float64Array::from(vec![0.0, -0.0])), ""),
    ];
    for (sql_type, array, state) in arrays {
        let columns = [Column::new("a", sql_type)];
        let db = Database::in_memory();
        let segments = vec![Segment { columns: vec![Arc::clone(&array)], rows: 2 }];
        let added = db.add_segments("t", &columns, segments).err();
        assert_eq!(added.map_or("".into(), |error| error.sqlstate().to_string()), state, "{sql_type}");
        // A source of its own is looked at when it is read; nothing gets into a table through it.
        db.add_source("u", Arc::new(Given(columns.to_vec(), vec![array]))).unwrap();
        let mut session = db.session();
        session.run(format!("CREATE TABLE kept (a {sql_type})")).unwrap();
        let copied = session.execute("INSERT INTO kept SELECT a FROM u", ()).err();
        assert_eq!(copied.map_or("".into(), |error| error.sqlstate().to_string()), state, "{sql_type}");
        if state.is_empty() {
            check(&mut session, ("SELECT COUNT(DISTINCT a), COUNT(*) FROM kept", "=1|2"));
            check(&mut session, ("SELECT COUNT(*) FROM t JOIN kept ON t.a = kept.a", "=4"));
        }
    }
}

#[test]
fn parameters_are_held_to_their_types() {
    let mut session = tell(&[("CREATE TABLE t (a DOUBLE PRECISION, d DATE, n NUMERIC(5,2), c VARCHAR(2))", "")]);
    let insert = session.prepare("INSERT INTO t VALUES (:a, :d, :n, :c)").unwrap();
    let good = || {
        Parameters::new()
            .set("a", -0.0)
            .set("d", Value::Date(0))
            .set("n", Decimal { unscaled: 5, scale: 0 })
            .set("c", "ab")
    };
    assert_eq!(session.execute_prepared(&insert, good()).unwrap(), 1);
    assert_eq!(session.execute("INSERT INTO t VALUES (:a, :d, :n, :c)", good().set("a", 0.0)).unwrap(), 1);
    check(&mut session, ("SELECT COUNT(DISTINCT a), MIN(n) FROM t", "=1|5.00"));
    for (name, value, state) in [
        ("a", Value::Double(f64::NAN), "22003"),
        ("d", Value::Date(i32::MIN), "22003"),
        ("n", Value::Numeric(Decimal { unscaled: i128::MAX, scale: 0 }), "22003"),
        ("c", "abc".into(), "22001"),
    ] {
        let given = || good().set(name, value.clone());
        let direct = session.execute_prepared(&insert, given()).unwrap_err();
        let planned = session.execute("INSERT INTO t SELECT :a, :d, :n, :c", given()).unwrap_err();
        assert_eq!(
            (direct.sqlstate().as_str(), planned.sqlstate().as_str()),
            (state, state),
            "{name}: {direct}; {planned}"
        );
    }
    check(&mut session, ("SELECT COUNT(*) FROM t", "=2"));
}

#[test]
fn names_of_tables_that_are_added() {
    let db = Database::in_memory();
    db.session()
        .run("CREATE SCHEMA shed; CREATE VIEW seen AS SELECT 1 AS one; CREATE TABLE \"Bed\" (a INTEGER)")
        .unwrap();
    let columns = [Column::new("a", SqlType::Integer)];
    for (name, state) in [
        ("plain", ""),
        ("shed.tool", ""),
        ("SHED.fork", ""),
        ("\"sales.2024\"", ""),
        ("plain", "42S01"),
        ("PLAIN", "42S01"),
        ("bed", "42S01"),
        ("seen", "42S01"),
        ("Shed.TOOL", "42S01"),
        ("garage.tool", "3F000"),
        ("local.x", "3F000"),
        ("information_schema.x", "3F000"),
        ("", "42602"),
        (" ", "42602"),
        ("shed.", "42602"),
        (".x", "42602"),
        ("a.b.c", "42602"),
        ("\"open", "42602"),
    ] {
        let added = db.add_rows(name, &columns, &[vec![1.into()]]).err();
        assert_eq!(added.map_or("".into(), |error| error.sqlstate().to_string()), state, "{name:?}");
    }
    assert_eq!(show(&db.session().query("SELECT a FROM \"sales.2024\"", ()).unwrap()), "1");
    for (names, state) in [(["a", "A"], "42S21"), (["a", ""], "42602")] {
        let columns = names.map(|name| Column::new(name, SqlType::Integer));
        assert_eq!(db.add_rows("two", &columns, &[]).unwrap_err().sqlstate().as_str(), state, "{names:?}");
    }
}
