//! Laws of estimates over random tables: they lie between none and all rows, the TRUE, FALSE and UNKNOWN parts of a condition come to all
//! rows, and what is exact stays exact. And how definitions are described.

use crate::random_queries::Draw;
use crate::story::check;
use crate::support::check_near;
use garden_gate::{Column, Database, Parameters, Session, SqlType, Value};

/// 3,000 rows: a skewed number with NULLs, one that is spread, a text of few values, a day.
fn table(draw: &mut Draw) -> Session {
    let mut session = Database::in_memory().session();
    let (common, values, nulls) = (draw.below(50), 2 + draw.below(900), 2 + draw.below(20));
    session
        .run(format!(
            "CREATE TABLE t AS SELECT CASE WHEN MOD(value, {nulls}) = 0 THEN NULL WHEN MOD(value, 7) < 3 THEN {common} ELSE MOD(value * 7919, {values}) END AS a,
               MOD(value * 104729, 5000) AS b, 'w' || CAST(MOD(value * 31, 9) AS VARCHAR(3)) AS c,
               DATE '2026-01-01' + CAST(MOD(value * 17, 365) AS INTEGER) * INTERVAL '1' DAY AS d FROM SERIES(1, 3000)"
        ))
        .unwrap();
    session
}

/// A condition on one column.
fn condition(draw: &mut Draw) -> String {
    let op = draw.word(&["=", "<>", "<", "<=", ">", ">="]);
    match draw.below(6) {
        0 | 1 => format!("a {op} {}", draw.below(950)),
        2 => format!("b {op} {}", draw.below(5200)),
        3 => format!("c {op} 'w{}'", draw.below(11)),
        4 => format!("d {op} DATE '2026-{:02}-{:02}'", 1 + draw.below(12), 1 + draw.below(28)),
        _ => format!("a IN ({}, {}, {})", draw.below(950), 950 + draw.below(9), 970 + draw.below(9)),
    }
}

fn estimate(session: &mut Session, condition: &str) -> f64 {
    let sql = format!("SELECT b FROM t WHERE {condition}");
    session.plan(&sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}")).root.estimated_rows
}

fn count(session: &mut Session, condition: &str) -> f64 {
    let rows =
        session.query(format!("SELECT CAST(COUNT(*) AS DOUBLE PRECISION) FROM t WHERE {condition}"), ()).unwrap();
    rows.rows().next().unwrap().value(0).to_string().parse().unwrap()
}

#[test]
fn the_parts_of_a_condition_come_to_all_rows() {
    for seed in 0..12 {
        let mut draw = Draw::new(9_000 + seed);
        let mut session = table(&mut draw);
        for _ in 0..40 {
            let condition = condition(&mut draw);
            let parts = [condition.clone(), format!("NOT ({condition})"), format!("({condition}) IS UNKNOWN")];
            let estimates = parts.clone().map(|part| estimate(&mut session, &part));
            let sum: f64 = estimates.iter().sum();
            assert!((sum - 3_000.0).abs() < 60.0, "seed {seed}: {condition}: {estimates:?}");
            for (part, estimate) in parts.iter().zip(estimates) {
                let rows = count(&mut session, part);
                let error = (estimate.max(1.0) / rows.max(1.0)).max(rows.max(1.0) / estimate.max(1.0));
                assert!((-1e-6..=3_000.001).contains(&estimate), "seed {seed}: {part}: {estimate}");
                // Few rows are hard to tell; off by a handful is as good as right.
                assert!(error < 2.0 || (estimate - rows).abs() < 25.0, "seed {seed}: {part}: {estimate} for {rows}");
            }
        }
    }
}

#[test]
fn conditions_together_leave_no_more_than_each() {
    let mut draw = Draw::new(77);
    let mut session = table(&mut draw);
    for _ in 0..120 {
        let (one, other) = (condition(&mut draw), condition(&mut draw));
        let alone = [estimate(&mut session, &one), estimate(&mut session, &other)];
        let both = estimate(&mut session, &format!("{one} AND {other}"));
        let either = estimate(&mut session, &format!("{one} OR {other}"));
        let rows = count(&mut session, &format!("{one} AND {other}"));
        // A sample of 2,000 rows is off by a few hundredths of all rows at most.
        assert!(both <= alone[0].min(alone[1]) + 100.0, "{one} AND {other}: {both} of {alone:?}");
        assert!(either >= alone[0].max(alone[1]) - 150.0, "{one} OR {other}: {either} of {alone:?}");
        assert!((both - rows).abs() < 130.0, "{one} AND {other}: {both} for {rows}");
    }
}

/// Rows fall into groups by chance: how many groups have a count, a sum, an average past a bound is estimated from their spread.
#[test]
fn conditions_on_aggregates_go_by_their_spread() {
    let mut draw = Draw::new(5);
    let mut number = |below: usize| Value::Integer(i64::try_from(draw.below(below)).unwrap());
    let rows: Vec<Vec<Value>> = (0..40_000).map(|_| vec![number(2_000), number(101)]).collect();
    let db = Database::in_memory();
    db.add_rows("t", &["k", "x"].map(|name| Column::new(name, SqlType::Integer)), &rows).unwrap();
    let mut session = db.session();
    for condition in [
        "COUNT(*) > 20",
        "COUNT(*) > 25",
        "COUNT(*) < 14",
        "SUM(x) > 1000",
        "SUM(x) > 1300",
        "SUM(x) < 700",
        "AVG(x) > 50",
        "AVG(x) > 57",
        "AVG(x) BETWEEN 45 AND 55",
        "MAX(x) > 5",
        "SUM(x) > 100000",
        "COUNT(*) > 1000",
        "COUNT(*) > 0",
    ] {
        let (found, plan) = session.measure(format!("SELECT k FROM t GROUP BY k HAVING {condition}"), ()).unwrap();
        let (estimate, rows) = (plan.root.estimated_rows, f64::from(u32::try_from(found.row_count()).unwrap()));
        let error = (estimate.max(1.0) / rows.max(1.0)).max(rows.max(1.0) / estimate.max(1.0));
        assert!(error < 2.5 || (estimate - rows).abs() < 60.0, "{condition}: {estimate} for {rows}");
    }
    // What is joined with the groups goes by their keys.
    let sql =
        "SELECT t.x FROM t JOIN (SELECT k, COUNT(*) AS n FROM t GROUP BY k HAVING COUNT(*) > 25) AS g ON g.k = t.k";
    let (found, plan) = session.measure(sql, ()).unwrap();
    let rows = f64::from(u32::try_from(found.row_count()).unwrap());
    assert!((0.4..2.5).contains(&(plan.root.estimated_rows / rows)), "{} for {rows}", plan.root.estimated_rows);
}

/// Each use of a common table expression knows what its conditions left, and that a grouping gives a value a group.
#[test]
fn uses_of_a_step_know_its_values() {
    let mut session = table(&mut Draw::new(77));
    for sql in [
        // Each value of b appears in one row.
        "WITH low AS (SELECT b, MAX(a) AS most FROM t WHERE b < 1000 GROUP BY b) SELECT x.b FROM low x JOIN low y ON x.b = y.b",
        // Of 3,000 groups of a row each one has the most.
        "WITH g (b, s) AS (SELECT b, SUM(b * 2) FROM t GROUP BY b) SELECT g.b FROM g WHERE s = (SELECT MAX(s) FROM g)",
    ] {
        let (rows, plan) = session.measure(sql, ()).unwrap();
        assert!(plan.nodes().iter().any(|node| node.operator.name() == "shared step"), "{sql}");
        let joins = plan.nodes().into_iter().filter(|node| node.operator.name().ends_with("join")).collect::<Vec<_>>();
        let [join] = joins.as_slice() else { panic!("{sql}: {} joins", joins.len()) };
        assert_eq!(join.actual_rows, Some(rows.row_count() as u64));
        assert!(join.estimate_error.unwrap() < 1.2, "{sql}: {} for {:?}", join.estimated_rows, join.actual_rows);
    }
}

#[test]
fn frequent_values_and_small_tables_are_exact() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE t AS SELECT MOD(value, 4) AS a, CASE WHEN value < 11 THEN NULL ELSE value END AS b FROM SERIES(1, 50)").unwrap();
    for (condition, rows) in [
        ("a = 1", 13.0),
        ("a = 0", 12.0),
        ("a <> 1", 37.0),
        ("a IN (1, 2)", 26.0),
        ("a > 1", 25.0),
        ("a BETWEEN 1 AND 2", 26.0),
        ("a = 9", 0.0),
        ("b IS NULL", 10.0),
        ("b IS NOT NULL", 40.0),
        ("b = 20", 1.0),
        ("b >= 41", 10.0),
        ("b > 45 OR a = 9", 5.0),
        ("b = 11 AND b = 12", 0.0),
        ("b > 20 AND b <= 30", 10.0),
    ] {
        let sql = format!("SELECT a FROM t WHERE {condition}");
        let (found, plan) = session.measure(&sql, ()).unwrap();
        let estimate = plan.root.estimated_rows;
        assert!((estimate - rows).abs() < 0.01, "{condition}: {estimate} for {rows}");
        assert_eq!(found.row_count().to_string(), format!("{rows:.0}"), "{condition}");
    }
}

#[test]
fn a_parameter_without_a_value_is_an_average_one() {
    let mut session = Database::in_memory().session();
    session
        .run("CREATE TABLE t AS SELECT CASE WHEN value <= 600 THEN 0 ELSE value END AS a FROM SERIES(1, 1000)")
        .unwrap();
    let sql = "SELECT a FROM t WHERE a = :a";
    let generic = session.plan(sql, ()).unwrap();
    // 401 values in 1,000 rows.
    assert!(generic.generic && (generic.root.estimated_rows - 1_000.0 / 401.0).abs() < 0.01);
    for (value, rows) in [(0, 600.0), (700, 1.0), (5_000, 0.0)] {
        let plan = session.plan(sql, Parameters::new().set("a", value)).unwrap();
        assert!(
            !plan.generic && (plan.root.estimated_rows - rows).abs() < 0.01,
            "{value}: {}",
            plan.root.estimated_rows
        );
    }
}

#[test]
fn definitions_are_described_as_they_were_made() {
    let mut session = Database::in_memory().session();
    for sql in [
        "CREATE TABLE bed (id INTEGER, part INTEGER, PRIMARY KEY (id), UNIQUE NULLS NOT DISTINCT (id, part))",
        "CREATE TABLE task (id INTEGER, at TIMESTAMP(0), bed INTEGER, part INTEGER, other INTEGER,
           CONSTRAINT a FOREIGN KEY (bed) REFERENCES bed ON DELETE CASCADE ON UPDATE SET NULL,
           CONSTRAINT b FOREIGN KEY (other, part) REFERENCES bed (id, part) MATCH FULL ON DELETE RESTRICT DEFERRABLE,
           CONSTRAINT c CHECK (part > 0) DEFERRABLE INITIALLY DEFERRED)",
        "CREATE VIEW v AS SELECT id FROM task WHERE part = 1 WITH LOCAL CHECK OPTION",
        "CREATE VIEW w AS SELECT id FROM task",
    ] {
        check(&mut session, (sql, ""));
    }
    let texts = |session: &Session, table: &str| -> Vec<String> {
        let facts = session.describe(Some(table)).unwrap().remove(0);
        facts.constraints.iter().map(|constraint| constraint.text.clone()).collect()
    };
    assert_eq!(texts(&session, "bed"), ["PRIMARY KEY (id)", "UNIQUE NULLS NOT DISTINCT (id, part)"]);
    assert_eq!(
        texts(&session, "task"),
        [
            "CHECK (part > 0) DEFERRABLE INITIALLY DEFERRED",
            "FOREIGN KEY (bed) REFERENCES bed ON DELETE CASCADE ON UPDATE SET NULL",
            "FOREIGN KEY (other, part) REFERENCES bed (id, part) MATCH FULL ON DELETE RESTRICT DEFERRABLE",
        ]
    );
    let facts = session.describe(Some("task")).unwrap().remove(0);
    assert_eq!(facts.columns[1].declared, "TIMESTAMP(0)");
    let query = |name: &str| session.describe(Some(name)).unwrap().remove(0).query.unwrap();
    assert!(query("v").ends_with("WHERE part = 1 WITH LOCAL CHECK OPTION"), "{}", query("v"));
    assert!(query("w").ends_with("FROM task"));
}

/// What conditions leave of one side counts for the rows of the other that have a match; so do inequalities between two tables.
#[test]
fn estimates_between_tables_are_near() {
    let mut garden = crate::support::garden();
    for sql in [
        "SELECT task_id FROM task WHERE bed_id IN (SELECT bed_id FROM bed WHERE sun = 'shade')",
        "SELECT task_id FROM task WHERE bed_id NOT IN (SELECT bed_id FROM bed WHERE sun = 'shade')",
        "SELECT bed_id FROM bed EXCEPT SELECT bed_id FROM income",
        "SELECT b.bed_id FROM bed AS b LEFT JOIN income AS i ON i.bed_id = b.bed_id WHERE i.bed_id IS NULL",
    ] {
        check_near(&mut garden, sql, 2.0);
    }
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE visit AS SELECT value AS id, TIMESTAMP '2024-01-01 00:00:00' + CAST(MOD(value * 7919, 1296000) AS INTEGER) * INTERVAL '1' MINUTE AS made
               FROM SERIES(1, 20000);
             CREATE TABLE day AS SELECT TIMESTAMP '2024-01-01 00:00:00' + CAST(value AS INTEGER) * INTERVAL '1' DAY AS d FROM SERIES(0, 899);
             CREATE TABLE stay AS SELECT value AS id, MOD(value * 104729, 100000) AS a, MOD(value * 104729, 100000) + 5 + MOD(value, 40) AS b FROM SERIES(1, 3000)",
        )
        .unwrap();
    for sql in [
        // Each visit lies in one day; each stay overlaps about as many as fit in fifty of a hundred thousand.
        "SELECT v.id FROM visit AS v JOIN day AS c ON v.made >= c.d AND v.made < c.d + INTERVAL '1' DAY",
        "SELECT v.id FROM visit AS v, day AS c WHERE v.made >= c.d AND v.made < c.d + INTERVAL '1' DAY AND v.id <= 5000",
        "SELECT v.id FROM visit AS v JOIN day AS c ON v.made BETWEEN c.d AND c.d + INTERVAL '10' DAY",
        "SELECT x.id FROM stay AS x JOIN stay AS y ON x.a < y.b AND y.a < x.b",
        "SELECT x.id FROM stay AS x JOIN stay AS y ON x.a < y.a",
        "SELECT x.id FROM stay AS x JOIN stay AS y ON x.a < y.a AND x.b > y.a",
    ] {
        check_near(&mut session, sql, 2.5);
    }
}

/// Rows without a match have NULL in the columns of the other side; the columns of one table make no more groups than it has rows.
#[test]
fn outer_joins_and_groups_are_reckoned_by_their_tables() {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, sun INTEGER, soil INTEGER, slope INTEGER);
             INSERT INTO bed SELECT value, MOD(value, 40), MOD(value * 7, 90), MOD(value * 11, 70) FROM SERIES(1, 200);
             CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER, hours INTEGER);
             INSERT INTO task SELECT value, 1 + MOD(value, 100), NULLIF(MOD(value, 4), 0) FROM SERIES(1, 4000)",
        )
        .unwrap();
    for sql in [
        // A hundred beds have forty tasks each, the others none.
        "SELECT b.bed_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id",
        "SELECT b.bed_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id WHERE t.hours IS NULL",
        "SELECT b.bed_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id AND t.hours = 3",
        "SELECT b.bed_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id WHERE t.hours IS NOT NULL",
        "SELECT b.bed_id FROM task AS t FULL JOIN bed AS b ON t.bed_id = b.bed_id",
        "SELECT b.sun, b.soil, b.slope, COUNT(*) FROM task AS t JOIN bed AS b ON t.bed_id = b.bed_id GROUP BY b.sun, b.soil, b.slope",
        "SELECT first FROM SERIES(DATE '2024-01-01', DATE '2024-12-31', INTERVAL '1' MONTH) AS s (first)",
        "SELECT b.bed_id, b.sun, b.soil, b.slope, COUNT(*) FROM task AS t JOIN bed AS b ON t.bed_id = b.bed_id \
         GROUP BY b.bed_id, b.sun, b.soil, b.slope",
    ] {
        check_near(&mut session, sql, 2.1);
    }
}

/// Rows that came after statistics were made: an index counts them; without one they are not taken for none.
#[test]
fn new_values_are_not_taken_for_none() {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, day INTEGER, kind INTEGER);
             CREATE INDEX t_day_ix ON t (day, kind);
             INSERT INTO t SELECT value, value / 100, MOD(value, 5) FROM SERIES(1, 50000);
             ANALYZE t;
             INSERT INTO t SELECT value, 999, 7 FROM SERIES(50001, 58000)",
        )
        .unwrap();
    for (sql, within) in [
        ("SELECT id FROM t WHERE day = 999", 1.0),
        ("SELECT id FROM t WHERE day = 998", 1.0),
        ("SELECT id FROM t WHERE day IN (3, 999)", 1.0),
        ("SELECT id FROM t WHERE day > 600", 1.0),
        ("SELECT id FROM t WHERE day = 999 AND kind = 7", 1.0),
        ("SELECT id FROM t WHERE day BETWEEN 10 AND 19", 1.0),
        ("SELECT id FROM t WHERE day = 999 AND id > 54000", 2.5),
        // No index on the kind: one in ten of the new rows, and a third of those on a side of it.
        ("SELECT id FROM t WHERE kind = 7", 10.0),
        ("SELECT id FROM t WHERE kind > 5", 4.0),
    ] {
        check_near(&mut session, sql, within + 1e-9);
    }
    let by_parameter = session.plan("SELECT id FROM t WHERE day = :day", Parameters::new().set("day", 999)).unwrap();
    assert!((by_parameter.root.estimated_rows - 8_000.0).abs() < 1e-6, "{by_parameter}");
    session.plan("SELECT id FROM t WHERE day = :day", Parameters::new()).unwrap();
}

/// Nothing can match an empty side: the other is not read, and its estimate was not wrong.
#[test]
fn an_operator_that_nobody_asked_for_rows_did_not_run() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE a AS SELECT value AS x FROM SERIES(1, 5000); CREATE TABLE b (x INTEGER)").unwrap();
    let (rows, plan) = session.measure("SELECT a.x FROM a JOIN b ON a.x = b.x", ()).unwrap();
    assert_eq!(rows.row_count(), 0);
    let ran = |table: &str| {
        let node = plan.nodes().into_iter().find(|node| node.target.as_deref() == Some(table)).unwrap();
        (node.ran, node.estimate_error.is_some())
    };
    assert_eq!((ran("a"), ran("b").0), ((Some(false), false), Some(true)), "{plan}");
}
