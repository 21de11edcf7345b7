//! Rows that come while the query runs: the same rows in the same order, no more work than is asked for, limits that hold.

use crate::support::{garden, show};
use garden_gate::{
    Column, Database, Parameters, Session, SqlType, arrow,
    source::{Segment, TableSource},
};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// The rows of a stream, as `show` writes those of a result.
fn streamed(session: &mut Session, sql: &str) -> Result<String, String> {
    let mut rows = Vec::new();
    for batch in session.stream(sql, ()).map_err(|error| error.sqlstate().to_string())? {
        let batch = batch.map_err(|error| format!("{}; {}", error.sqlstate(), rows.len()))?;
        let all = (0..batch.num_rows()).map(|row| {
            let cell = |column: &arrow::array::ArrayRef| {
                let options = arrow::util::display::FormatOptions::default().with_null("NULL");
                arrow::util::display::ArrayFormatter::try_new(column, &options).unwrap().value(row).to_string()
            };
            batch.columns().iter().map(cell).collect::<Vec<_>>().join("|")
        });
        rows.extend(all);
    }
    Ok(rows.join("; "))
}

#[test]
fn a_stream_gives_the_rows_of_the_query_in_their_order() {
    let mut session = garden();
    for workers in [1, 2] {
        session.run(format!("SET workers = {workers}; SET batch_rows = 64")).unwrap();
        for sql in [
            "SELECT bed_id, name FROM bed WHERE sun = 'shade'",
            "SELECT sun, COUNT(*) FROM bed GROUP BY sun ORDER BY sun NULLS FIRST",
            "SELECT b.bed_id, t.task_id FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id ORDER BY 1, 2",
            "SELECT b.name, t.task_id FROM task t FULL JOIN bed b ON t.bed_id = b.bed_id AND t.task_id < 20",
            "SELECT n FROM SERIES(1, 1000) AS s (n) OFFSET 130 ROWS FETCH FIRST 70 ROWS ONLY",
            "SELECT n FROM (SELECT n FROM SERIES(1, 1000) AS s (n) OFFSET 100 ROWS FETCH FIRST 70 ROWS ONLY) AS t OFFSET 60 ROWS FETCH FIRST 50 ROWS ONLY",
            "SELECT n, 'a' FROM SERIES(1, 100) AS s (n) UNION ALL SELECT n, 'b' FROM SERIES(5, 300) AS s (n) OFFSET 90 ROWS FETCH FIRST 200 ROWS ONLY",
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM r WHERE n < 200) SELECT n FROM r",
            "SELECT bed_id, ROW_NUMBER() OVER (ORDER BY bed_id DESC) FROM bed FETCH FIRST 5 ROWS ONLY",
            "SELECT bed_id FROM bed WHERE 1 = 0",
            "SELECT 1 WHERE 1 = 1",
            "SELECT n FROM SERIES(1, 10) AS s (n) FETCH FIRST 0 ROWS ONLY",
        ] {
            let expected = show(&session.query(sql, ()).unwrap());
            assert_eq!(streamed(&mut session, sql).unwrap(), expected, "{workers} workers: {sql}");
        }
    }
}

/// What changes rows, or takes numbers of a sequence, is done once and whole, however much of it is read.
#[test]
fn changes_are_carried_out_whole() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE t (n INTEGER); CREATE SEQUENCE s; SET batch_rows = 2").unwrap();
    for (sql, rows) in [
        ("INSERT INTO t VALUES (1), (2), (3), (4), (5) RETURNING n", "1; 2; 3; 4; 5"),
        ("SELECT n FROM FINAL TABLE (UPDATE t SET n = n + 10 WHERE n > 3) AS f ORDER BY n", "14; 15"),
        ("SELECT NEXT VALUE FOR s FROM t", "1; 2; 3; 4; 5"),
        ("DELETE FROM t WHERE n > 10 RETURNING n", "14; 15"),
    ] {
        assert_eq!(streamed(&mut session, sql).unwrap(), rows, "{sql}");
    }
    drop(session.stream("INSERT INTO t SELECT n FROM SERIES(20, 40) AS s (n) RETURNING n", ()).unwrap());
    drop(session.stream("SELECT NEXT VALUE FOR s FROM t", ()).unwrap());
    assert_eq!(show(&session.query("SELECT COUNT(*) FROM t", ()).unwrap()), "24");
    assert_eq!(show(&session.query("SELECT NEXT VALUE FOR s FROM t WHERE n = 1", ()).unwrap()), "30");
}

#[test]
fn what_fails_is_the_last_item_and_mistakes_come_at_once() {
    let mut session = Database::in_memory().session();
    session.run("SET batch_rows = 100").unwrap();
    for (sql, expected) in [
        ("SELECT nmae FROM SERIES(1, 2) AS s (n)", "42S22"),
        ("CREATE TABLE t (n INTEGER)", "42000"),
        ("SELECT 1; SELECT 2", "42000"),
        // The first 25 batches are whole.
        ("SELECT 1 / (2550 - n) FROM SERIES(1, 10000) AS s (n)", "22012; 2500"),
        ("SELECT 1 / (n - n) FROM SERIES(1, 10000) AS s (n)", "22012; 0"),
    ] {
        assert_eq!(streamed(&mut session, sql).unwrap_err(), expected, "{sql}");
    }
    let values = Parameters::new().set("n", 5);
    let error = session.stream("SELECT 1 / (n - :n) FROM SERIES(1, 9) AS s (n)", values).unwrap().last().unwrap();
    assert_eq!(error.unwrap_err().position().map(|at| at.column), Some(8));
    assert_eq!(session.stream("SELECT 1", [5]).unwrap_err().sqlstate().as_str(), "07001");
}

#[test]
fn a_dropped_stream_ends_its_query_and_the_session_goes_on() {
    let mut session = Database::in_memory().session();
    let started = Instant::now();
    for sql in [
        "SELECT n FROM SERIES(1, 100000000000) AS s (n)",
        "SELECT COUNT(*) FROM SERIES(1, 100000000000) AS s (n)",
        "SELECT n FROM SERIES(1, 100000000000) AS s (n) WHERE MOD(n, 3) = 7",
        "SELECT n, 1 FROM SERIES(1, 3) AS s (n) UNION ALL SELECT n, 2 FROM SERIES(1, 100000000000) AS s (n)",
    ] {
        let stream = session.stream(sql, ()).unwrap();
        assert_eq!(stream.columns()[0].sql_type.to_string(), "BIGINT", "{sql}");
        drop(stream);
        assert_eq!(show(&session.query("SELECT 7", ()).unwrap()), "7", "after {sql}");
    }
    // Only what is asked for is computed: the row that fails comes later.
    let mut stream = session.stream("SELECT 1 / (100000 - n) FROM SERIES(1, 1000000) AS s (n)", ()).unwrap();
    assert!(stream.next().unwrap().unwrap().num_rows() > 0);
    drop(stream);
    assert!(started.elapsed() < Duration::from_secs(60), "{:?}", started.elapsed());
}

#[test]
fn limits_hold_and_a_long_result_needs_little_memory() {
    let mut session = Database::in_memory().session();
    session.run("SET memory_limit = '4 MB'").unwrap();
    let wide = "SELECT LPAD(CAST(n AS VARCHAR(9)), 2000) AS t FROM SERIES(1, 20000) AS s (n)";
    assert_eq!(session.query(wide, ()).unwrap_err().sqlstate().as_str(), "HY001", "as one result it does not fit");
    let rows: usize = session.stream(wide, ()).unwrap().map(|batch| batch.unwrap().num_rows()).sum();
    assert_eq!(rows, 20_000);
    // What is sorted goes to files, and streams from there.
    let sorted = "SELECT n FROM SERIES(1, 300000) AS s (n) ORDER BY MOD(n * CAST(7919 AS BIGINT), 300007)";
    let rows: usize = session.stream(sorted, ()).unwrap().map(|batch| batch.unwrap().num_rows()).sum();
    assert_eq!(rows, 300_000);
    session.limit_rows(Some(1000));
    let outcome: Vec<_> = session.stream("SELECT n FROM SERIES(1, 100000000000) AS s (n)", ()).unwrap().collect();
    assert_eq!(outcome.last().unwrap().as_ref().unwrap_err().sqlstate().as_str(), "54000");
    session.run("SET time_limit = 200").unwrap();
    let long = "SELECT COUNT(*) FROM SERIES(1, 100000000000) AS s (n)";
    let error = session.stream(long, ()).unwrap().next().unwrap().unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "HYT00");
    session.run("SET time_limit = 0").unwrap();
    let interrupt = session.interrupt();
    let mut stream = session.stream(long, ()).unwrap();
    interrupt.interrupt();
    assert_eq!(stream.next().unwrap().unwrap_err().sqlstate().as_str(), "HY008");
    assert!(stream.next().is_none());
}

/// A stream sees the rows that were committed when it began.
#[test]
fn changes_of_others_do_not_reach_a_stream() {
    let db = Database::in_memory();
    let mut session = db.session();
    session.run("CREATE TABLE t (n INTEGER); INSERT INTO t SELECT n FROM SERIES(1, 50000) AS s (n)").unwrap();
    session.run("SET batch_rows = 100").unwrap();
    let mut stream = session.stream("SELECT n FROM t", ()).unwrap();
    let first = stream.next().unwrap().unwrap().num_rows();
    db.session().run("DELETE FROM t").unwrap();
    let rest: usize = stream.map(|batch| batch.unwrap().num_rows()).sum();
    assert_eq!(first + rest, 50_000);
    assert_eq!(show(&session.query("SELECT COUNT(*) FROM t", ()).unwrap()), "0");
}

/// A source whose code panics.
#[derive(Debug)]
struct Broken(Vec<Column>);

impl TableSource for Broken {
    fn columns(&self) -> &[Column] {
        &self.0
    }

    fn rows(&self) -> u64 {
        10
    }

    fn read(&self, _: &[usize]) -> garden_gate::Result<Vec<Segment>> {
        panic!("the source is broken")
    }

    fn sample(&self, _: &[usize], _: usize) -> garden_gate::Result<Option<Segment>> {
        Ok(None)
    }
}

#[test]
fn a_stream_whose_source_panics_is_no_shorter_result() {
    let db = Database::in_memory();
    db.add_source("t", Arc::new(Broken(vec![Column::new("n", SqlType::Integer)]))).unwrap();
    let mut session = db.session();
    let sql = "SELECT n FROM SERIES(1, 10) AS s (n) UNION ALL SELECT n FROM t";
    let items: Vec<_> = session.stream(sql, ()).unwrap().collect();
    assert!(items[0].is_ok() && items.len() == 2, "{items:?}");
    assert_eq!(items[1].as_ref().unwrap_err().sqlstate().as_str(), "38000");
    assert_eq!(show(&session.query("SELECT 7", ()).unwrap()), "7");
}
