//! ANALYZE, and what estimates make of histograms, groups of columns and samples. Rows are counted beside every estimate.

use garden_gate::{Database, Session};

/// 20,000 readings: `a` is squares, `b` follows from `a`, `kind` is skewed, half of `late` is NULL.
fn session() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE reading (id INTEGER PRIMARY KEY, a BIGINT, tens BIGINT, kind VARCHAR(9), late INTEGER, word VARCHAR(20));
             INSERT INTO reading SELECT value, value * value, MOD(value, 200) / 10 + MOD(value, 10), CASE WHEN MOD(value, 10) < 7 THEN 'often' ELSE 'k' || CAST(MOD(value, 97) AS VARCHAR(3)) END,
                CASE WHEN MOD(value, 2) = 0 THEN MOD(value, 500) END, 'w' || CAST(MOD(value, 1000) AS VARCHAR(5)) FROM SERIES(1, 20000);
             CREATE TABLE pair (x INTEGER, y INTEGER, z INTEGER);
             INSERT INTO pair SELECT MOD(value, 100), MOD(value, 100) / 2, MOD(value, 7) FROM SERIES(1, 20000)",
        )
        .unwrap();
    session
}

/// How far the estimate of the rows of a query is off.
fn error(session: &mut Session, sql: &str) -> f64 {
    let (_, plan) = session.measure(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"));
    plan.root.estimate_error.unwrap()
}

#[test]
fn estimates_are_close() {
    let mut session = session();
    for condition in [
        "a < 100000000",
        "a BETWEEN 4000000 AND 9000000",
        "a > 360000000 AND a <= 400000000",
        "kind = 'often'",
        "kind <> 'often'",
        "kind IN ('often', 'k3')",
        "late IS NULL",
        "late < 100",
        "NOT late < 100",
        "late >= 100 OR kind = 'often'",
        "word LIKE 'w12%'",
        "word LIKE '%99'",
        "MOD(id, 5) = 2",
        "id > late",
        "tens = 7 AND kind = 'often'",
        "a > 4000000 AND id < 3000",
        "CHARACTER_LENGTH(word) = 3",
        "late BETWEEN 490 AND 900",
    ] {
        let sql = format!("SELECT id FROM reading WHERE {condition}");
        let found = error(&mut session, &sql);
        assert!(found < 1.6, "{condition}: off by {found}");
    }
}

#[test]
fn joins_of_filtered_and_skewed_tables_are_close() {
    let mut session = session();
    for sql in [
        "SELECT 1 FROM reading r JOIN pair p ON r.tens = p.x WHERE p.z = 3",
        "SELECT 1 FROM reading r JOIN pair p ON r.id = p.x WHERE r.id < 50",
        "SELECT 1 FROM reading r JOIN reading s ON r.kind = s.kind WHERE r.id <= 200 AND s.id <= 300",
        "SELECT 1 FROM pair p JOIN reading r ON p.x = r.id JOIN reading s ON s.id = p.x",
        "SELECT 1 FROM reading r WHERE EXISTS (SELECT * FROM pair p WHERE p.x = r.id)",
        "SELECT 1 FROM reading r WHERE r.id NOT IN (SELECT x FROM pair)",
        "SELECT kind FROM reading GROUP BY kind",
        "SELECT late FROM reading WHERE id < 400 GROUP BY late",
    ] {
        let found = error(&mut session, sql);
        assert!(found < 2.0, "{sql}: off by {found}");
    }
}

#[test]
fn columns_that_go_together_are_known_after_analyze() {
    let mut session = session();
    let grouped = "SELECT x, y FROM pair GROUP BY x, y";
    let before = error(&mut session, grouped);
    session.run("ANALYZE pair (x, y)").unwrap();
    assert!(before > 10.0 && error(&mut session, grouped) < 1.01, "{before}");
    assert!(error(&mut session, "SELECT 1 FROM pair WHERE x = 20 AND y = 10") < 1.1);
    // Two equalities that say the same keep as many pairs as one.
    let found = error(&mut session, "SELECT 1 FROM pair p JOIN pair q ON p.x = q.x AND p.y = q.y WHERE p.z = 1");
    assert!(found < 1.5, "off by {found}");
    // They come back with a file.
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let mut stored = Database::open(&path).unwrap().session();
    stored.run("CREATE TABLE pair AS SELECT MOD(value, 40) AS x, MOD(value, 40) / 2 AS y FROM SERIES(1, 4000); ANALYZE pair (y, x)").unwrap();
    drop(stored);
    let mut stored = Database::open(&path).unwrap().session();
    assert!(error(&mut stored, grouped) < 1.01);
    for (sql, state, words) in [
        ("ANALYZE pare", "42S02", "pair"),
        ("ANALYZE pair (x, q)", "42S22", "no column \"q\""),
        ("ANALYZE pair (x)", "42000", "at least two"),
        ("ANALYZE pair x", "42000", "end of the statement"),
    ] {
        let error = stored.run(sql).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), state, "{sql}");
        assert!(error.message().contains(words) || error.help().unwrap_or("").contains(words), "{sql}: {error}");
    }
    stored.run("ANALYZE").unwrap();
}

#[test]
fn what_is_known_of_a_column_is_described() {
    let session = session();
    let facts = session.describe(Some("reading")).unwrap().remove(0);
    let column =
        |name: &str| facts.columns.iter().find(|column| column.name == name).unwrap().statistics.clone().unwrap();
    let a = column("a");
    assert_eq!((a.histogram.len(), a.most_common.len()), (101, 0));
    // Squares of 1 to 20,000: the median is that of 10,000.
    assert_eq!(a.histogram[50].to_string(), "100000000");
    assert!((a.correlation - 1.0).abs() < 1e-9 && column("tens").correlation.abs() < 0.2);
    assert_eq!(column("kind").most_common[0].value, "often".into());
    assert!((column("kind").most_common[0].share - 0.7).abs() < 1e-9);
    assert_eq!(column("late").nulls, 10_000);
}
