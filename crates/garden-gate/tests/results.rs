//! Result sets, and tables that a program makes itself.

use crate::support::{numeric, session, show, text};
use garden_gate::arrow::array::{Array, AsArray, Int32Array, StringViewArray};
use garden_gate::arrow::datatypes::{DataType, Int32Type};
use garden_gate::{
    Column, Database, SqlType, Value,
    source::{Segment, TableSource},
    value::Decimal,
};
use std::sync::{Arc, Mutex};

#[test]
fn rows_are_read_by_type() {
    let mut session = session();
    let rows = session
        .query("SELECT bed_id, name, sun, area, ph * 1e0, opened, area > 10 FROM bed ORDER BY bed_id", ())
        .unwrap();
    let first = rows.rows().next().unwrap();
    assert_eq!(first.get::<i32>(0).unwrap(), 1);
    assert_eq!(first.get::<i64>(0).unwrap(), 1);
    assert_eq!(first.get::<String>(1).unwrap(), "Fern gully");
    assert_eq!(first.get::<Option<String>>(2).unwrap().as_deref(), Some("shade"));
    assert_eq!(first.get::<Decimal>(3).unwrap(), Decimal { unscaled: 1250, scale: 2 });
    assert!((first.get::<f64>(4).unwrap() - 5.5).abs() < 1e-12);
    assert_eq!(first.get::<Value>(5).unwrap(), Value::date("1990-01-31").unwrap());
    assert!(first.get::<bool>(6).unwrap());
    let fourth = rows.rows().nth(3).unwrap();
    assert_eq!(fourth.get::<Option<String>>(2).unwrap(), None);
    for (message, error) in [
        ("holds NULL", fourth.get::<String>(2).unwrap_err()),
        ("holds INTEGER", fourth.get::<String>(0).unwrap_err()),
        ("no column 9", fourth.get::<String>(9).unwrap_err()),
    ] {
        assert!(error.message().contains(message), "{error}");
    }
    assert_eq!((first.width(), rows.row_count()), (7, 5));
}

#[test]
fn batches_have_the_arrow_types_of_the_columns() {
    let mut session = session();
    let sql =
        "SELECT bed_id, name, area, CAST(area AS NUMERIC(20,2)), opened, area > 10, 1e0, CURRENT_TIMESTAMP FROM bed";
    let batches = session.query(sql, ()).unwrap().batches().unwrap();
    let types: Vec<DataType> = batches[0].schema().fields().iter().map(|field| field.data_type().clone()).collect();
    assert_eq!(
        types[..7],
        [
            DataType::Int32,
            DataType::Utf8View,
            DataType::Decimal64(6, 2),
            DataType::Decimal128(20, 2),
            DataType::Date32,
            DataType::Boolean,
            DataType::Float64,
        ]
    );
    assert_eq!(batches.iter().map(|batch| batch.num_rows()).sum::<usize>(), 5);
    assert_eq!(batches[0].column(0).as_primitive::<Int32Type>().value(4), 5);
    let empty = session.query("SELECT bed_id FROM bed WHERE FALSE", ()).unwrap();
    assert_eq!((empty.row_count(), empty.columns().len(), empty.batches().unwrap().len()), (0, 1, 0));
}

#[test]
fn tables_of_literal_rows() {
    let db = Database::in_memory();
    let columns = [Column::new("a", SqlType::Integer), Column::new("b", numeric(3, 1))];
    db.add_rows("t", &columns, &[vec![1.into(), Value::numeric("2.5").unwrap()], vec![Value::Null, 7.into()]]).unwrap();
    assert_eq!(show(&db.session().query("SELECT * FROM t", ()).unwrap()), "1|2.5; NULL|7.0");
    db.add_rows("empty", &columns, &[]).unwrap();
    assert_eq!(show(&db.session().query("SELECT COUNT(*) FROM empty", ()).unwrap()), "0");
    assert_eq!(show(&db.session().query("SELECT a FROM empty WHERE b > 1 ORDER BY a", ()).unwrap()), "");
    for (sqlstate, error) in [
        ("42S01", db.add_rows("T", &columns, &[]).unwrap_err()),
        ("42000", db.add_rows("u", &columns, &[vec![1.into()]]).unwrap_err()),
        ("22003", db.add_rows("u", &columns, &[vec![1.into(), Value::numeric("123.4").unwrap()]]).unwrap_err()),
        ("22003", db.add_rows("u", &columns, &[vec!["x".into(), 1.into()]]).unwrap_err()),
    ] {
        assert_eq!(error.sqlstate().as_str(), sqlstate, "{error}");
    }
}

#[test]
fn digits_that_no_number_has_are_refused() {
    for sql_type in [numeric(2, 5), numeric(0, 0), numeric(39, 0)] {
        let error = Database::in_memory().add_rows("t", &[Column::new("a", sql_type)], &[]).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "42000", "{sql_type}");
    }
}

/// A source that gives what it did not promise.
#[derive(Debug)]
struct Liar(Vec<Column>);

impl TableSource for Liar {
    fn columns(&self) -> &[Column] {
        &self.0
    }

    fn rows(&self) -> u64 {
        2
    }

    fn read(&self, columns: &[usize]) -> garden_gate::Result<Vec<Segment>> {
        let column = |_: &usize| -> Arc<dyn Array> { Arc::new(Int32Array::from(vec![1, 2])) };
        Ok(vec![Segment { columns: columns.iter().map(column).collect(), rows: 2 }])
    }
}

#[test]
fn a_source_that_breaks_its_promise_is_an_error() {
    for (sql_type, outcome) in
        [(SqlType::Integer, Ok("1; 2".to_owned())), (SqlType::BigInt, Err("HY000")), (text(), Err("HY000"))]
    {
        let db = Database::in_memory();
        db.add_source("t", Arc::new(Liar(vec![Column::new("a", sql_type)]))).unwrap();
        let found = db.session().query("SELECT a FROM t", ()).map(|rows| show(&rows));
        assert_eq!(
            found.map_err(|error| error.sqlstate().as_str().to_owned()),
            outcome.map_err(str::to_owned),
            "{sql_type}"
        );
    }
}

/// A source that writes down which columns it was asked for.
#[derive(Debug)]
struct Listening {
    columns: Vec<Column>,
    asked: Mutex<Vec<Vec<usize>>>,
}

impl TableSource for Listening {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        3
    }

    fn read(&self, columns: &[usize]) -> garden_gate::Result<Vec<Segment>> {
        self.asked.lock().unwrap().push(columns.to_vec());
        let column = |at: &usize| -> Arc<dyn Array> {
            if *at == 1 {
                Arc::new(StringViewArray::from(vec!["x", "y", "z"]))
            } else {
                Arc::new(Int32Array::from(vec![1, 2, 3]))
            }
        };
        Ok(vec![Segment { columns: columns.iter().map(column).collect(), rows: 3 }])
    }
}

#[test]
fn a_source_is_asked_only_for_the_columns_that_are_used() {
    let columns =
        vec![Column::new("a", SqlType::Integer), Column::new("b", text()), Column::new("c", SqlType::Integer)];
    let source = Arc::new(Listening { columns, asked: Mutex::default() });
    let db = Database::in_memory();
    db.add_source("t", Arc::<Listening>::clone(&source)).unwrap();
    for (sql, expected, asked) in [
        ("SELECT b FROM t WHERE c > 1", "y; z", vec![1, 2]),
        ("SELECT COUNT(*) FROM t", "3", vec![]),
        ("SELECT a FROM t ORDER BY c DESC", "3; 2; 1", vec![0, 2]),
        ("SELECT c + 1 FROM t FETCH FIRST 1 ROW ONLY", "2", vec![2]),
        ("SELECT DISTINCT 5 FROM t", "5", vec![]),
    ] {
        source.asked.lock().unwrap().clear();
        assert_eq!(show(&db.session().query(sql, ()).unwrap()), expected, "{sql}");
        assert_eq!(*source.asked.lock().unwrap(), [asked], "{sql}");
    }
}
