//! Prepared lookups of one row by its key: again and again they come to the same as the query they stand for, and to the same plan,
//! whatever happens to the table, the settings and the names between them. Worked out by hand.

use crate::random_queries::Draw;
use crate::story::{check, tell, told};
use crate::support::{shape, show};
use garden_gate::{Database, Parameters, PreparedStatement, Session, Value};

/// Rows 1 to 2000 of two keys: the number and its square are unique, as is the pair of its last digit and the rest.
const TABLE: [(&str, &str); 2] = [
    (
        "CREATE TABLE t (id INTEGER PRIMARY KEY, name VARCHAR(9) UNIQUE, size NUMERIC(6,2), digit INTEGER NOT NULL, \
         rest INTEGER NOT NULL, UNIQUE (digit, rest))",
        "",
    ),
    (
        "INSERT INTO t SELECT n, 'row ' || CAST(n AS VARCHAR(5)), n / 100.0, MOD(n, 10), n / 10 FROM SERIES(1, 2000) AS s (n)",
        "2000",
    ),
];

fn found(session: &mut Session, prepared: &PreparedStatement, values: &[Value]) -> String {
    let parameters = values.iter().fold(Parameters::new(), |all, value| all.push(value.clone()));
    match session.query_prepared(prepared, parameters) {
        Ok(rows) => show(&rows),
        Err(error) => format!("!{}", error.sqlstate()),
    }
}

fn plan(session: &Session) -> String {
    shape(&session.last_plan().expect("a query ran"))
}

#[test]
fn rows_are_found_again_and_again() {
    let mut session = tell(&TABLE);
    let number = |text: &str| Value::numeric(text).unwrap();
    let cases: &[(&str, Vec<Value>, &str)] = &[
        ("SELECT name FROM t WHERE id = ?", vec![77.into()], "row 77"),
        ("SELECT size, name, size FROM t WHERE id = ?", vec![250.into()], "2.50|row 250|2.50"),
        ("SELECT * FROM t WHERE name = ?", vec!["row 9".into()], "9|row 9|0.09|9|0"),
        ("SELECT id FROM t WHERE digit = ? AND rest = ?", vec![5.into(), 12.into()], "125"),
        ("SELECT id FROM t WHERE rest = ? AND digit = ?", vec![12.into(), 5.into()], "125"),
        ("SELECT id + 1 FROM t WHERE id = ?", vec![5.into()], "6"),
        ("SELECT name FROM t WHERE id = ? AND size < 1", vec![77.into()], "row 77"),
        ("SELECT name FROM t WHERE id = ? AND size < 1", vec![777.into()], ""),
        ("SELECT name FROM t WHERE id = ? AND size < ?", vec![77.into(), number("0.78")], "row 77"),
        ("SELECT name FROM t WHERE id = ? AND size < ?", vec![77.into(), number("0.77")], ""),
        ("SELECT name FROM t WHERE id = ? AND size < ?", vec![77.into(), Value::Null], ""),
        ("SELECT size, id FROM t WHERE 'row 5' = name AND ? = id AND digit >= 5", vec![5.into()], "0.05|5"),
        // No such row, NULL, and values that no key has.
        ("SELECT name FROM t WHERE id = ?", vec![2001.into()], ""),
        ("SELECT name FROM t WHERE id = ?", vec![Value::Null], ""),
        ("SELECT name FROM t WHERE id = ?", vec![3_000_000_000_i64.into()], ""),
        ("SELECT name FROM t WHERE id = ?", vec![number("77.5")], ""),
        ("SELECT name FROM t WHERE id = ?", vec![number("77.0")], "row 77"),
        ("SELECT id FROM t WHERE name = ?", vec!["a name that is too long".into()], ""),
        ("SELECT name FROM t WHERE id = ?", vec![], "!07001"),
    ];
    for (sql, values, expected) in cases {
        let prepared = session.prepare(sql).unwrap();
        // The first run is planned, those after it need not be.
        for run in 0..3 {
            assert_eq!(found(&mut session, &prepared, values), *expected, "{sql}, run {run}");
        }
    }
    // What one value makes of a condition is not kept for the next.
    for (sql, calls) in [
        ("SELECT name FROM t WHERE id = :a AND size < :b", [(1, 1, "row 1"), (150, 1, ""), (150, 2, "row 150")]),
        ("SELECT name FROM t WHERE id = :a AND id = :b", [(1, 1, "row 1"), (1, 2, ""), (2, 2, "row 2")]),
        ("SELECT name FROM t WHERE id = :a AND :b > 1", [(1, 2, "row 1"), (1, 1, ""), (3, 3, "row 3")]),
        (
            "SELECT name FROM t WHERE id = :a AND (size < :b OR :b = 9)",
            [(500, 9, "row 500"), (500, 1, ""), (7, 1, "row 7")],
        ),
        (
            "SELECT name FROM t WHERE id = :a AND size < :b AND size < 2",
            [(150, 9, "row 150"), (250, 9, ""), (150, 1, "")],
        ),
    ] {
        let prepared = session.prepare(sql).unwrap();
        for (a, b, expected) in calls.into_iter().chain(calls) {
            let given = Parameters::new().set("a", a).set("b", b);
            let rows = session.query_prepared(&prepared, given).map(|rows| show(&rows)).unwrap();
            assert_eq!(rows, expected, "{sql} with {a} and {b}");
        }
    }
    let by_id = session.prepare("SELECT name FROM t WHERE id = ?").unwrap();
    let values = [(1, "row 1"), (2000, "row 2000"), (0, ""), (-1, ""), (3, "row 3")];
    values.iter().for_each(|(id, name)| assert_eq!(found(&mut session, &by_id, &[Value::from(*id)]), *name));
    assert_eq!(found(&mut session, &by_id, &["no number".into()]), "!42000");
    assert_eq!(found(&mut session, &by_id, &[1.into()]), "row 1");
}

#[test]
fn a_lookup_follows_its_table() {
    let mut session = tell(&TABLE);
    let by_id = session.prepare("SELECT name FROM t WHERE id = ?").unwrap();
    let mut both = |sql: &str, expected: &str, plan_of: &str| {
        let said = told(&mut session, sql);
        assert!(!said.starts_with('!'), "{sql}: {said}");
        for run in 0..3 {
            assert_eq!(found(&mut session, &by_id, &[7.into()]), expected, "{sql}, run {run}");
            let planned = session.plan("SELECT name FROM t WHERE id = ?", Parameters::new().push(7)).unwrap();
            assert_eq!(shape(&planned), plan_of, "{sql}");
            assert_eq!(found(&mut session, &by_id, &[7.into()]), expected, "{sql}, run {run}");
            assert_eq!(session.last_plan().unwrap().fingerprint, planned.fingerprint, "{sql}, run {run}");
        }
    };
    let lookup = "index lookup t";
    both("UPDATE t SET name = 'seven' WHERE id = 7", "seven", lookup);
    both("DELETE FROM t WHERE id = 7", "", lookup);
    both("INSERT INTO t VALUES (7, 'again', 0, 0, 9999)", "again", lookup);
    both("ALTER TABLE t ALTER COLUMN name SET DATA TYPE VARCHAR(20)", "again", lookup);
    both("SET without_rules = 'fold constants'", "again", lookup);
    both("START TRANSACTION; UPDATE t SET name = 'within' WHERE id = 7", "within", lookup);
    both("ROLLBACK", "again", lookup);
    both("DELETE FROM t WHERE id <> 7", "again", "table scan t");
    both(
        "CREATE LOCAL TEMPORARY TABLE t (id INTEGER, name VARCHAR(9)); INSERT INTO t VALUES (7, 'hidden')",
        "hidden",
        "table scan t",
    );
    both("DROP TABLE t", "again", "table scan t");
    both(
        "CREATE SCHEMA other; CREATE TABLE other.t (id INTEGER PRIMARY KEY, name VARCHAR(9)); SET SCHEMA other",
        "",
        "table scan t",
    );
}

#[test]
fn a_lookup_is_a_read_of_its_transaction_and_session() {
    let db = Database::in_memory();
    let mut a = db.session();
    TABLE.iter().for_each(|line| check(&mut a, *line));
    check(&mut a, ("CREATE TABLE u (n INTEGER)", ""));
    let mut b = db.session();
    let by_id = a.prepare("SELECT name FROM t WHERE id = ?").unwrap();
    check(&mut a, ("START TRANSACTION", ""));
    for run in 0..3 {
        assert_eq!(found(&mut a, &by_id, &[7.into()]), "row 7", "run {run}");
    }
    check(&mut b, ("UPDATE t SET name = 'seven' WHERE id = 7", "1"));
    // The snapshot stays, and what was read is not what it was any more.
    assert_eq!(found(&mut a, &by_id, &[7.into()]), "row 7");
    check(&mut a, ("INSERT INTO u VALUES (1)", "1"));
    check(&mut a, ("COMMIT", "!40001"));
    assert_eq!(found(&mut a, &by_id, &[7.into()]), "seven");
    assert_eq!(found(&mut b, &by_id, &[7.into()]), "seven");
    a.interrupt().interrupt();
    assert_eq!(found(&mut a, &by_id, &[7.into()]), "seven");
    // A session without rows to give.
    b.limit_rows(Some(0));
    assert_eq!(found(&mut b, &by_id, &[8.into()]), told(&mut b, "SELECT name FROM t WHERE id = 8")[..6]);
    assert_eq!(plan(&a), "index lookup t");
}

/// Random changes and lookups against a map.
#[test]
fn lookups_between_changes_see_them() {
    let mut session = tell(&[("CREATE TABLE t (id INTEGER PRIMARY KEY, v INTEGER)", "")]);
    let find = session.prepare("SELECT v FROM t WHERE id = ?").unwrap();
    let mut model = std::collections::BTreeMap::new();
    let mut draw = Draw::new(5);
    for step in 0..400 {
        let (id, v) = (i32::try_from(draw.below(3000)).unwrap(), i32::try_from(draw.below(100)).unwrap());
        match draw.below(12) {
            0 => {
                check(
                    &mut session,
                    (&format!("DELETE FROM t WHERE MOD(id, 7) = {}", id % 7), &{
                        let before = model.len();
                        model.retain(|known: &i32, _| known % 7 != id % 7);
                        (before - model.len()).to_string()
                    }),
                );
            }
            1 | 2 => {
                let new: Vec<i32> = (id..id + 300).filter(|id| !model.contains_key(id)).collect();
                model.extend(new.iter().map(|id| (*id, v)));
                let sql =
                    format!("INSERT INTO t SELECT n, {v} FROM SERIES({id}, {}) AS s (n) SKIP DUPLICATES", id + 299);
                check(&mut session, (&sql, &new.len().to_string()));
            }
            _ => {
                let expected = model.get(&id).map_or(String::new(), i32::to_string);
                assert_eq!(found(&mut session, &find, &[id.into()]), expected, "step {step}");
            }
        }
    }
    assert!(model.len() > 500, "the model is too small: {}", model.len());
}
