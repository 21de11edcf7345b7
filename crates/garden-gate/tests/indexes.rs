//! Indexes: they give the rows that a scan gives, and plans say where they are used.

use crate::story::tell;
use crate::support::show;
use garden_gate::{Database, Parameters, Session, Value};

/// Two tables of the same rows in several parts, with some rows gone and some changed; only the second has indexes.
fn tables() -> Session {
    let mut session = Database::in_memory().session();
    let columns = "id INTEGER, a INTEGER, b VARCHAR(20), d DATE NOT NULL, n NUMERIC(6,2), f DOUBLE PRECISION";
    session.run(format!("CREATE TABLE plain ({columns}); CREATE TABLE kept ({columns}, PRIMARY KEY (id))")).unwrap();
    for (from, to) in [(1, 5000), (5001, 7000), (7001, 7500), (7501, 7600)] {
        for table in ["plain", "kept"] {
            let sql = format!(
                "INSERT INTO {table} SELECT i, NULLIF(MOD(i * 7, 101), 50), CASE WHEN MOD(i, 9) > 0 THEN 'text ' || CAST(MOD(i, 37) AS VARCHAR(9)) END,
                   DATE '2024-01-01' + CAST(MOD(i, 366) AS INTEGER) * INTERVAL '1' DAY, MOD(i, 500) / 4.0, MOD(i, 130) * 0.5
                 FROM SERIES({from}, {to}) AS s (i)"
            );
            session.run(&sql).unwrap();
        }
    }
    for table in ["plain", "kept"] {
        session
            .run(format!("DELETE FROM {table} WHERE MOD(id, 5) = 0; UPDATE {table} SET a = 7 WHERE id < 20"))
            .unwrap();
    }
    session
        .run(
            "CREATE INDEX kept_a ON kept (a, d DESC) INCLUDE (n);
             CREATE INDEX kept_b ON kept (UPPER(b));
             CREATE INDEX kept_d ON kept (d NULLS FIRST, id);
             CREATE INDEX kept_n ON kept (n DESC NULLS FIRST);
             CREATE INDEX kept_f ON kept (f)",
        )
        .unwrap();
    session
}

/// Conditions, and the operator and index that finds their rows.
const CONDITIONS: &[(&str, &str)] = &[
    ("id = 4711", "index lookup kept_primary_key"),
    ("4711 = id AND n > 5", "index lookup kept_primary_key"),
    ("id IN (3, 7599, 4, 3, NULL, 99999)", "index lookup kept_primary_key"),
    ("id BETWEEN 7490 AND 7510", "index range scan kept_primary_key"),
    ("id < 12 AND id < 9 AND id >= 2", "index range scan kept_primary_key"),
    ("id = 3000000000", "table scan"),
    ("id > 7595.5", "table scan"),
    ("id = 12.5", "table scan"),
    ("a = 7", "index lookup kept_a"),
    ("a IS NULL", "index lookup kept_a"),
    ("a = 7 AND d > DATE '2024-11-30'", "index range scan kept_a"),
    ("a = 7 AND d <= DATE '2024-01-30'", "index range scan kept_a"),
    ("a IN (7, 9) AND d = DATE '2024-01-30'", "index lookup kept_a"),
    ("a IN (1, 2) AND d BETWEEN DATE '2024-02-01' AND DATE '2024-03-10' AND b IS NOT NULL", "index range scan kept_a"),
    ("a > 99", "index range scan kept_a"),
    ("a = CAST(NULL AS INTEGER)", ""),
    ("UPPER(b) = 'TEXT 7'", "index lookup kept_b"),
    ("UPPER(b) > 'TEXT 9'", "index range scan kept_b"),
    ("b = 'text 7'", "table scan"),
    ("d = DATE '2024-02-29'", "index lookup kept_d"),
    ("d = DATE '2024-02-29' AND id > 4000", "index range scan kept_d"),
    ("n = 124.75", "index lookup kept_n"),
    ("n >= 124.25", "index range scan kept_n"),
    // The column is cast to the digits of the constant: nothing is known of the key itself.
    ("n >= 124.125", "table scan"),
    ("n < 0.3", "index range scan kept_n"),
    ("n = 1.001", "table scan"),
    ("n < 1000000", "table scan"),
    ("f = 6 AND id < 7000", "index lookup kept_f"),
    ("a = 7 OR id = 5", "index lookup kept_a or kept_primary_key"),
    ("a + 0 = 7", "table scan"),
];

#[test]
fn an_index_gives_the_rows_that_a_scan_gives() {
    let mut session = tables();
    for (condition, expected) in CONDITIONS {
        for columns in ["*", "n, a", "COUNT(*)"] {
            let sql = |table: &str| format!("SELECT {columns} FROM {table} WHERE {condition}");
            let plain = show(&session.query(sql("plain"), ()).unwrap());
            let kept = show(&session.query(sql("kept"), ()).unwrap());
            let mut rows = [plain, kept].map(|rows| rows.split("; ").map(str::to_owned).collect::<Vec<_>>());
            rows.iter_mut().for_each(|rows| rows.sort());
            assert_eq!(rows[0], rows[1], "{condition}");
        }
        let plan = session.plan(format!("SELECT * FROM kept WHERE {condition}"), ()).unwrap();
        let read = plan.nodes().into_iter().find(|node| node.target.is_some());
        let name = read.map(|read| {
            format!("{} {}", read.operator, read.index.as_ref().map_or(String::new(), ToString::to_string))
        });
        assert_eq!(name.as_deref().unwrap_or_default().trim(), *expected, "{condition}");
    }
    // Rows of a scan and of an index come in one order: that of the table.
    let ids = |session: &mut Session, table: &str| {
        show(&session.query(format!("SELECT id, b FROM {table} WHERE a = 7 AND d < DATE '2024-03-01'"), ()).unwrap())
    };
    assert_eq!(ids(&mut session, "kept"), ids(&mut session, "plain"));
}

#[test]
fn parameters_bound_an_index() {
    let mut session = tables();
    for value in ["12", "NULL", "0", "7599", "-3"] {
        let sql = "SELECT COUNT(*) FROM kept WHERE id > :least AND id <= 7598";
        let least = if value == "NULL" { Value::Null } else { Value::Untyped(value.into()) };
        let parameters = Parameters::new().set("least", least);
        let plain = sql.replace("kept", "plain");
        let (kept, plain) = (session.query(sql, parameters.clone()), session.query(&plain, parameters));
        assert_eq!(show(&kept.unwrap()), show(&plain.unwrap()), "{value}");
    }
    let plan = session.plan("SELECT * FROM kept WHERE id = :id", ()).unwrap();
    assert!(plan.reads("kept").by_index("kept_primary_key") && plan.generic);
    let bound = plan.root.predicates.iter().find(|predicate| predicate.place.name() == "index bound").unwrap();
    assert_eq!(bound.text, "kept.id = :id");
}

#[test]
fn an_index_gives_its_order() {
    let mut session = tables();
    let cases = [
        ("d, id", "kept_d", ""),
        ("d DESC, id DESC", "kept_d", "FETCH FIRST 7 ROWS ONLY"),
        ("n DESC NULLS FIRST, id", "", "FETCH FIRST 5 ROWS ONLY"),
        ("id DESC", "kept_primary_key", "OFFSET 3 ROWS FETCH FIRST 4 ROWS ONLY"),
        ("id", "kept_primary_key", "FETCH FIRST 3 ROWS ONLY"),
        ("UPPER(b), id", "", "FETCH FIRST 3 ROWS ONLY"),
        ("d ASC, id DESC", "", "FETCH FIRST 3 ROWS ONLY"),
    ];
    for (order, index, fetch) in cases {
        let sql = |table: &str| format!("SELECT id, d, n + 1 AS m FROM {table} ORDER BY {order} {fetch}");
        let (kept, plain) = (session.query(sql("kept"), ()).unwrap(), session.query(sql("plain"), ()).unwrap());
        assert_eq!(show(&kept), show(&plain), "{order}");
        let plan = session.plan(sql("kept"), ()).unwrap();
        let sorts = plan.nodes().iter().any(|node| matches!(node.operator.name(), "sort" | "top-n"));
        assert_eq!(sorts, index.is_empty(), "{order}");
        assert_eq!(plan.reads("kept").by_index(index), !index.is_empty(), "{order}");
    }
    // With the first key fixed, the rows come in the order of the second.
    let sql = "SELECT d FROM kept WHERE a = 7 ORDER BY d DESC FETCH FIRST 2 ROWS ONLY";
    assert!(session.plan(sql, ()).unwrap().reads("kept").by_index("kept_a"));
    assert_eq!(show(&session.query(sql, ()).unwrap()), show(&session.query(sql.replace("kept", "plain"), ()).unwrap()));
    // Columns of the index need no look at the table.
    let plan = session.plan("SELECT n, d FROM kept WHERE a = 7", ()).unwrap();
    assert_eq!(plan.nodes().iter().find(|node| node.index.is_some()).unwrap().operator.name(), "index-only scan");
}

#[test]
fn changes_find_their_rows_by_index_and_keep_it_right() {
    let mut session = tables();
    for table in ["plain", "kept"] {
        session
            .run(format!(
                "UPDATE {table} SET a = 500, id = id + 100000 WHERE id BETWEEN 100 AND 120; DELETE FROM {table} WHERE a = 8;
                 INSERT INTO {table} VALUES (50, 8, 'new', DATE '2025-01-01', 9.99, 1)"
            ))
            .unwrap();
    }
    for condition in ["a = 500", "a = 8", "id > 100000", "id BETWEEN 90 AND 130", "n = 9.99"] {
        let sql = |table: &str| format!("SELECT id, a, b FROM {table} WHERE {condition} ORDER BY id");
        let (kept, plain) = (session.query(sql("kept"), ()).unwrap(), session.query(sql("plain"), ()).unwrap());
        assert_eq!(show(&kept), show(&plain), "{condition}");
    }
}

#[test]
fn definitions_of_indexes() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(9), sun VARCHAR(9))").unwrap();
    session
        .run("INSERT INTO bed VALUES (1, 'Fern', 'shade'), (2, 'Scree', 'sun'), (3, 'Fern', NULL), (4, NULL, NULL)")
        .unwrap();
    let cases = [
        ("CREATE UNIQUE INDEX bed_name ON bed (name)", "23000"),
        ("CREATE INDEX bed_name ON bed (nam)", "42S22"),
        ("CREATE INDEX bed_name ON bed (UPPER(nam))", "42S22"),
        ("CREATE INDEX bed_name ON bed ((SELECT 1))", "42000"),
        ("CREATE INDEX bed_name ON beds (name)", "42S02"),
        ("CREATE INDEX bed_primary_key ON bed (name)", "42000"),
        ("CREATE UNIQUE INDEX bed_name ON bed (UPPER(name))", "23000"),
        ("CREATE UNIQUE INDEX bed_name ON bed (name, sun)", ""),
        ("CREATE UNIQUE INDEX bed_name ON bed (bed_id)", "42000"),
        ("CREATE UNIQUE INDEX IF NOT EXISTS bed_name ON bed (bed_id)", ""),
        ("INSERT INTO bed VALUES (5, 'Scree', 'sun')", "23000"),
        ("INSERT INTO bed VALUES (5, 'Fern', NULL)", ""),
        ("DROP INDEX bed_names", "42000"),
        ("DROP INDEX bed_primary_key", "42000"),
        ("DROP INDEX IF EXISTS bed_names", ""),
        ("DROP INDEX bed_name", ""),
        ("INSERT INTO bed VALUES (6, 'Scree', 'sun')", ""),
        ("CREATE INDEX bed_sun ON bed (sun) INCLUDE (name)", ""),
        ("CREATE INDEX bed_upper ON bed (UPPER(name) DESC)", ""),
        ("ALTER TABLE bed RENAME COLUMN sun TO light", ""),
        ("ALTER TABLE bed DROP COLUMN name", ""),
    ];
    for (sql, expected) in cases {
        let state = session.run(sql).err().map(|error| error.sqlstate().as_str().to_owned());
        assert_eq!(state.unwrap_or_default(), expected, "{sql}");
    }
    let facts = session.describe(Some("bed")).unwrap();
    assert!(facts[0].indexes.is_empty(), "both used the column that is gone: {:?}", facts[0].indexes);
    session.run("CREATE INDEX bed_light ON bed (light DESC, bed_id NULLS FIRST)").unwrap();
    let facts = session.describe(Some("bed")).unwrap();
    assert_eq!(facts[0].indexes[0].text, "INDEX (light DESC, bed_id NULLS FIRST)");
    assert_eq!(show(&session.query("SELECT bed_id FROM bed WHERE light = 'sun' AND bed_id > 2", ()).unwrap()), "6");
}

#[test]
fn indexes_come_back_with_their_database() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let make = "CREATE TABLE t (id INTEGER PRIMARY KEY, a INTEGER, b VARCHAR(9));
        INSERT INTO t SELECT i, MOD(i, 100), CAST(i AS VARCHAR(9)) FROM SERIES(1, 2000) AS s (i);
        CREATE UNIQUE INDEX t_b ON t (b); CREATE INDEX t_a ON t (a DESC, LOWER(b)) INCLUDE (id)";
    Database::open(&path).unwrap().session().run(make).unwrap();
    let mut session = Database::open(&path).unwrap().session();
    let sql = "SELECT id FROM t WHERE a = 17 AND LOWER(b) >= '1917'";
    assert!(session.plan(sql, ()).unwrap().reads("t").by_index("t_a"));
    assert_eq!(
        show(&session.query(sql, ()).unwrap()),
        "1917; 217; 317; 417; 517; 617; 717; 817; 917",
        "in the order of the texts"
    );
    assert_eq!(session.run("INSERT INTO t VALUES (0, 0, '5')").unwrap_err().sqlstate().as_str(), "23000");
}

#[test]
fn an_index_on_an_expression_can_be_unique() {
    tell(&[
        ("CREATE TABLE bed (id INTEGER PRIMARY KEY, name VARCHAR(9), plot INTEGER)", ""),
        ("INSERT INTO bed VALUES (1, 'Fern', 1), (2, 'FERN', 2), (3, NULL, 1)", "3"),
        (
            "CREATE UNIQUE INDEX names ON bed (UPPER(name))",
            "!23000 UPPER(name) = FERN already (names) … the existing row is id = 1",
        ),
        ("CREATE UNIQUE INDEX names ON bed (UPPER(name), plot DESC)", ""),
        (
            "INSERT INTO bed VALUES (4, 'fern', 1)",
            "!23000 UPPER(name) = FERN, plot = 1 already (names) … id = 1, name = Fern, plot = 1",
        ),
        ("INSERT INTO bed VALUES (4, 'fern', 3), (5, 'feRn', 3)", "!23000 plot = 3 already"),
        // NULL is not an other NULL.
        ("INSERT INTO bed VALUES (4, 'fern', NULL), (5, 'fern', NULL), (6, NULL, 1)", "3"),
        ("UPDATE bed SET plot = 3 - plot WHERE name LIKE '____' AND id < 3", "2"),
        ("UPDATE bed SET plot = 1 WHERE id = 1", "!23000 (names)"),
        ("UPDATE bed SET name = LOWER(name)", "6"),
        ("SELECT id FROM bed WHERE UPPER(name) = 'FERN' AND plot = 1", "=2"),
        ("DELETE FROM bed WHERE id = 2", "1"),
        ("INSERT INTO bed VALUES (2, 'Fern', 1)", "1"),
        ("DROP INDEX names", ""),
        ("INSERT INTO bed VALUES (7, 'Fern', 1)", "1"),
    ]);
    let session = tell(&[
        ("CREATE TABLE t (a INTEGER)", ""),
        ("INSERT INTO t SELECT n FROM SERIES(1, 5000) AS s (n)", "5000"),
        ("CREATE UNIQUE INDEX squares ON t (a * a)", ""),
        ("INSERT INTO t SELECT n FROM SERIES(5001, 9000) AS s (n)", "4000"),
        (
            "INSERT INTO t SELECT n FROM SERIES(9001, 9500) AS s (n) UNION ALL VALUES -4711",
            "!23000 a * a = 22193521 already",
        ),
        ("SELECT COUNT(*) FROM t", "=9000"),
    ]);
    let facts = session.describe(Some("t")).unwrap();
    assert_eq!(facts[0].indexes[0].text, "UNIQUE INDEX (a * a)");
}
