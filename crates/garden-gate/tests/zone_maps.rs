//! Parts of a table whose values all lie outside a condition are not read, and nobody notices but by the plan.

use crate::random_queries::{Draw, trials};
use crate::support::show;
use garden_gate::{Database, Session};

/// Ten parts of 131,072 rows, numbered through; a hundred rows of the third have no day.
fn numbered() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE walk (id INTEGER, day DATE, fee NUMERIC(9,2), word VARCHAR(9));
             INSERT INTO walk SELECT n, CASE WHEN n < 300000 OR n >= 300100 THEN DATE '2000-01-01' + n / 131072 * INTERVAL '1' DAY END,
               CAST(n AS NUMERIC(9,2)) / 4, 'w' FROM SERIES(0, 1310719) AS s (n)",
        )
        .unwrap();
    session
}

#[test]
fn parts_outside_of_a_condition_are_passed_over() {
    let mut session = numbered();
    for (condition, rows, parts_read) in [
        ("id = 5", 1, 1),
        ("id < 131072", 131_072, 1),
        ("131072 > id", 131_072, 1),
        ("id <= 131072", 131_073, 2),
        ("id BETWEEN 400000 AND 600000", 200_001, 2),
        ("id IN (1, 1310719)", 2, 10),
        ("id IN (7, 9)", 2, 1),
        ("id = 2000000000", 0, 0),
        ("id = 20000000000", 0, 10),
        ("id = 5.5", 0, 10),
        ("id > 1310718.5", 1, 10),
        ("id = NULL", 0, 0),
        ("id <> 5", 1_310_719, 10),
        // The third part has NULLs, and is always read.
        ("day = DATE '2000-01-01'", 131_072, 2),
        ("day > DATE '2000-01-09'", 131_072, 2),
        ("fee < 1.25", 5, 1),
        ("fee >= 327679.75 OR id < 0", 1, 10),
        ("id > 1200000 AND day < DATE '2000-01-04'", 0, 0),
        ("word = 'w'", 1_310_720, 10),
    ] {
        let sql = format!("SELECT COUNT(*) FROM walk WHERE {condition}");
        let (found, plan) = session.measure(&sql, ()).unwrap();
        assert_eq!(show(&found), rows.to_string(), "{condition}");
        let passed =
            plan.nodes().into_iter().find_map(|node| node.passed_rows.filter(|_| node.operator.name() == "table scan"));
        // A condition that is never true leaves no table to read.
        assert_eq!(passed.unwrap_or(1_310_720), (10 - parts_read) * 131_072, "{condition}");
    }
    session.run("DELETE FROM walk WHERE id BETWEEN 10 AND 131000; UPDATE walk SET id = -1 WHERE id = 1300000").unwrap();
    let count = |session: &mut Session, condition: &str| {
        show(&session.query(format!("SELECT COUNT(*) FROM walk WHERE {condition}"), ()).unwrap())
    };
    assert_eq!(count(&mut session, "id < 10"), "11");
    assert_eq!(count(&mut session, "id = 1300000"), "0");
}

#[test]
fn a_session_tells_the_plan_of_the_last_query() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE bed (id INTEGER PRIMARY KEY, sun VARCHAR(9)); INSERT INTO bed VALUES (1, 'full'), (2, 'shade')").unwrap();
    assert!(session.last_plan().is_none());
    session.run("INSERT INTO bed VALUES (3, 'full'); SELECT sun FROM bed WHERE id = 2").unwrap();
    let last = session.last_plan().unwrap();
    assert_eq!(last.fingerprint, session.plan("SELECT sun FROM bed WHERE id = 2", ()).unwrap().fingerprint);
    assert!(last.root.actual_rows.is_none());
    session.query("SELECT COUNT(*) FROM bed", ()).unwrap();
    let other = session.last_plan().unwrap();
    assert_ne!(other.fingerprint, last.fingerprint);
    assert!(other.reads("bed").by_scan());
    session.run("SET workers = 1").unwrap();
    assert!(session.last_plan().is_none());
}

/// A condition in WHERE keeps as many rows as the same condition counted over all rows.
#[test]
fn random_conditions_keep_what_they_are_true_for() {
    let mut session = numbered();
    session.run("DELETE FROM walk WHERE MOD(id, 1000) = 7; UPDATE walk SET day = NULL WHERE id = 900000").unwrap();
    let mut draw = Draw::new(31);
    for _ in 0..trials(60) {
        let op = draw.word(&["=", "<>", "<", "<=", ">", ">="]);
        let number = i64::try_from(draw.below(1_400_000)).unwrap() - 40_000;
        let term = |draw: &mut Draw| match draw.below(6) {
            0 => format!("day {op} DATE '2000-01-{:02}'", 1 + draw.below(12)),
            1 => format!("fee {op} {}.{}", draw.below(340_000), 25 * draw.below(4)),
            2 => format!("{number} {op} id"),
            3 => format!("id IN ({number}, {}, NULL)", number + 5),
            4 => format!("id IN ({number}, {})", number + 131_072),
            _ => format!("id {op} {number}"),
        };
        let condition = format!("{} AND {}", term(&mut draw), term(&mut draw));
        let kept = show(&session.query(format!("SELECT COUNT(*) FROM walk WHERE {condition}"), ()).unwrap());
        let counted = format!("SELECT COUNT(CASE WHEN {condition} THEN 1 END) FROM walk");
        assert_eq!(kept, show(&session.query(&counted, ()).unwrap()), "{condition}");
    }
}

/// A constant that cannot be computed fails where a row reaches it, and not before.
#[test]
fn conjuncts_that_fail_wait_for_a_row() {
    crate::story::tell(&[
        ("CREATE TABLE t (id INTEGER); INSERT INTO t SELECT n FROM SERIES(1, 9) AS s (n)", "9"),
        ("SELECT id FROM t WHERE id > 99 AND id > 1 / 0", "="),
        ("SELECT id FROM t WHERE id > 8 AND id > 1 / 0", "!22012"),
        ("SELECT id FROM t WHERE id > 99 AND id IN (1 / 0, 3)", "="),
        ("SELECT id FROM t WHERE id < 2 AND id < CAST('x' AS INTEGER)", "!22018"),
        ("SELECT id FROM t WHERE id < 1 AND id < CAST('x' AS INTEGER)", "="),
    ]);
}
