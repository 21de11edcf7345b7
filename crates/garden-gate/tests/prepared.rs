//! Prepared changes: rows that go straight into a table come to the same as rows that go by a plan. Worked out by hand.

use crate::story::{check, tell};
use garden_gate::{Database, Parameters, Session, Value};

const TABLE: (&str, &str) = (
    "CREATE TABLE t (id INTEGER PRIMARY KEY, name VARCHAR(4), size NUMERIC(5,2) CHECK (size > 0), day DATE, \
     done BOOLEAN DEFAULT TRUE, secret INTEGER DEFAULT 7 HIDDEN)",
    "",
);

/// What a prepared change came to: how many rows, or the SQLSTATE.
fn run(session: &mut Session, sql: &str, values: &[Value]) -> String {
    let prepared = session.prepare(sql).unwrap_or_else(|error| panic!("{sql}\n{error}"));
    let parameters = values.iter().fold(Parameters::new(), |all, value| all.push(value.clone()));
    match session.execute_prepared(&prepared, parameters) {
        Ok(rows) => rows.to_string(),
        Err(error) => error.sqlstate().to_string(),
    }
}

#[test]
fn values_go_where_they_belong() {
    let mut session = tell(&[TABLE]);
    let day = Value::date("2024-02-29").unwrap();
    let number = |text: &str| Value::numeric(text).unwrap();
    let cases: &[(&str, Vec<Value>, &str)] = &[
        (
            "INSERT INTO t VALUES (?, ?, ?, ?, ?)",
            vec![1.into(), "fern".into(), number("1.5"), day.clone(), false.into()],
            "1",
        ),
        ("INSERT INTO t (name, id) VALUES ('a', ?), (?, 3), (NULL, 4)", vec![2.into(), "b".into()], "3"),
        // Values of other types go by a plan: text that is a number, more digits, numbers instead of numbers.
        ("INSERT INTO t (id, size) VALUES (?, ?)", vec![5.into(), 3.into()], "1"),
        ("INSERT INTO t (id, size) VALUES (?, ?)", vec![6.into(), number("1.005")], "1"),
        ("INSERT INTO t (id, size) VALUES (?, ?)", vec![7.into(), 2.5.into()], "1"),
        ("INSERT INTO t (id, day) VALUES (?, ?)", vec![8.into(), day], "1"),
        ("INSERT INTO t (id, secret) VALUES (? + 1, DEFAULT)", vec![8.into()], "1"),
        // What is wrong is said as ever, and changes nothing.
        ("INSERT INTO t (id) VALUES (?)", vec![1.into()], "23000"),
        ("INSERT INTO t (id) VALUES (?)", vec![Value::Null], "23000"),
        ("INSERT INTO t (id, size) VALUES (?, ?)", vec![20.into(), 0.into()], "23000"),
        ("INSERT INTO t (id, name) VALUES (?, ?)", vec![20.into(), "fifth".into()], "22001"),
        ("INSERT INTO t (id) VALUES (?)", vec![3_000_000_000_i64.into()], "22003"),
        ("INSERT INTO t (id, size) VALUES (?, ?)", vec![20.into(), number("1000")], "22003"),
        ("INSERT INTO t (id) VALUES (?), (?)", vec![20.into(), 20.into()], "23000"),
        ("INSERT INTO t (id) VALUES (?)", vec![], "07001"),
    ];
    for (sql, values, expected) in cases {
        assert_eq!(run(&mut session, sql, values), *expected, "{sql}");
    }
    check(
        &mut session,
        (
            "SELECT id, name, size, day, done, secret FROM t ORDER BY id",
            "=1|fern|1.50|2024-02-29|FALSE|7; 2|a|NULL|NULL|TRUE|7; 3|b|NULL|NULL|TRUE|7; 4|NULL|NULL|NULL|TRUE|7; \
             5|NULL|3.00|NULL|TRUE|7; 6|NULL|1.01|NULL|TRUE|7; 7|NULL|2.50|NULL|TRUE|7; 8|NULL|NULL|2024-02-29|TRUE|7; \
             9|NULL|NULL|NULL|TRUE|7",
        ),
    );
}

#[test]
fn a_prepared_insert_follows_its_table() {
    let db = Database::in_memory();
    let mut session = db.session();
    check(&mut session, ("CREATE TABLE t (a INTEGER)", ""));
    let insert = session.prepare("INSERT INTO t VALUES (?)").unwrap();
    let add = |session: &mut Session, value: i32| match session.execute_prepared(&insert, Parameters::new().push(value))
    {
        Ok(rows) => rows.to_string(),
        Err(error) => error.sqlstate().to_string(),
    };
    assert_eq!(add(&mut session, 1), "1");
    check(&mut session, ("ALTER TABLE t ADD CONSTRAINT small CHECK (a < 10)", ""));
    assert_eq!(add(&mut session, 11), "23000");
    check(&mut session, ("ALTER TABLE t ADD COLUMN b INTEGER DEFAULT 5", ""));
    assert_eq!(add(&mut session, 2), "42000");
    check(&mut session, ("ALTER TABLE t DROP COLUMN b", ""));
    assert_eq!(add(&mut session, 3), "1");
    // A table of the session's own hides it; another schema has another.
    check(&mut session, ("CREATE LOCAL TEMPORARY TABLE t (a INTEGER)", ""));
    assert_eq!(add(&mut session, 4), "1");
    check(&mut session, ("SELECT a FROM t", "=4"));
    check(&mut session, ("DROP TABLE t", ""));
    check(&mut session, ("CREATE SCHEMA other", ""));
    check(&mut session, ("CREATE TABLE other.t (a INTEGER)", ""));
    check(&mut session, ("SET SCHEMA other", ""));
    assert_eq!(add(&mut session, 5), "1");
    check(&mut session, ("SELECT a FROM other.t", "=5"));
    check(&mut session, ("SET SCHEMA home", ""));
    check(&mut session, ("START TRANSACTION", ""));
    assert_eq!(add(&mut session, 6), "1");
    check(&mut session, ("ROLLBACK", ""));
    check(&mut session, ("START TRANSACTION READ ONLY", ""));
    assert_eq!(add(&mut session, 6), "25006");
    check(&mut session, ("ROLLBACK", ""));
    check(&mut session, ("SELECT a FROM t ORDER BY a", "=1; 3"));
    check(&mut session, ("DROP TABLE t", ""));
    assert_eq!(add(&mut session, 1), "42S02");
}

#[test]
fn many_rows_by_themselves_make_few_parts() {
    let mut session = tell(&[("CREATE TABLE t (id INTEGER PRIMARY KEY, half INTEGER)", "")]);
    let insert = session.prepare("INSERT INTO t VALUES (?, ?)").unwrap();
    for id in 0..3000_i32 {
        // Keys in no order: 7 has no factor in common with 3,000.
        let id = id * 7 % 3000;
        let done = session.execute_prepared(&insert, Parameters::new().push(id).push(id / 2)).unwrap();
        assert_eq!(done, 1);
        if id % 500 == 0 {
            assert!(session.execute_prepared(&insert, Parameters::new().push(id).push(0)).is_err(), "{id} comes twice");
        }
    }
    check(&mut session, ("SELECT COUNT(*), COUNT(DISTINCT half), SUM(id) FROM t", "=3000|1500|4498500"));
    check(&mut session, ("SELECT half FROM t WHERE id = 2999", "=1499"));
}
