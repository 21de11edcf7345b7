//! Notes on what is legal and probably not meant, or simpler in another form: code, place, and what to write. Each has a query beside it that
//! looks alike and is fine.

use garden_gate::{Database, Session, error::Note};

fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(20), sun VARCHAR(9) NOT NULL, opened DATE);
             CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER, hours NUMERIC(4,2), day DATE);
             CREATE INDEX bed_name_ix ON bed (name); CREATE INDEX task_day_ix ON task (day); CREATE INDEX task_hours_ix ON task (hours);
             INSERT INTO bed VALUES (1, 'Fern gully', 'shade', NULL), (2, 'Scree', 'sun', DATE '2020-05-01');
             INSERT INTO task SELECT value, MOD(value, 3), 1.5, DATE '2026-01-01' + CAST(value AS INTEGER) * INTERVAL '1' DAY FROM SERIES(1, 500);
             SET index_cost_factor = 0.01",
        )
        .unwrap();
    session
}

fn notes(session: &mut Session, sql: &str) -> Vec<Note> {
    session.plan(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}")).notes
}

#[track_caller]
fn check(code: &str, noted: &[(&str, &str, &str)], fine: &[&str]) {
    let mut session = garden();
    for (sql, text, help) in noted {
        let found = notes(&mut session, sql);
        let note =
            found.iter().find(|note| note.code == code).unwrap_or_else(|| panic!("{sql}: no {code} in {found:?}"));
        let span = note.span.unwrap_or_else(|| panic!("{sql}: no place"));
        assert_eq!(&sql[span.range()], *text, "{sql}: the place of {note:?}");
        assert!(note.help.as_deref().unwrap_or_default().contains(help), "{sql}: {help} in {note:?}");
        assert!(note.position().is_some());
        // What is a matter of style is omitted where only rows are wanted.
        let shown = session.query(sql, ()).unwrap().notes().iter().any(|note| note.code == code);
        assert_eq!(shown, !note.style, "{sql}");
    }
    for sql in fine {
        let found = notes(&mut session, sql);
        assert!(found.iter().all(|note| note.code != code), "{sql}: {found:?}");
    }
}

#[test]
fn not_in_over_a_query_that_may_give_null() {
    check(
        "not-in-nulls",
        &[
            (
                "SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task)",
                "SELECT bed_id FROM task",
                "NOT IN (SELECT bed_id FROM task WHERE bed_id IS NOT NULL)",
            ),
            (
                "SELECT name FROM bed WHERE bed_id NOT IN (SELECT t.bed_id FROM task t WHERE hours > 1)",
                "SELECT t.bed_id FROM task t WHERE hours > 1",
                "WHERE hours > 1 AND t.bed_id IS NOT NULL), or NOT EXISTS",
            ),
            (
                "SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id + 1 FROM task)",
                "SELECT bed_id + 1 FROM task",
                "WHERE bed_id + 1 IS NOT NULL",
            ),
            (
                "SELECT task_id FROM task WHERE task_id NOT IN (SELECT b.bed_id FROM task t LEFT JOIN bed b ON b.bed_id = t.bed_id)",
                "SELECT b.bed_id FROM task t LEFT JOIN bed b ON b.bed_id = t.bed_id",
                "b.bed_id IS NOT NULL",
            ),
            (
                "SELECT name FROM bed WHERE bed_id NOT IN (SELECT MAX(bed_id) FROM bed)",
                "SELECT MAX(bed_id) FROM bed",
                "NOT EXISTS",
            ),
            (
                "SELECT name FROM bed WHERE bed_id NOT IN (SELECT CASE WHEN hours > 1 THEN task_id END FROM task)",
                "SELECT CASE WHEN hours > 1 THEN task_id END FROM task",
                "",
            ),
            (
                "SELECT name FROM bed WHERE bed_id <> ALL (SELECT bed_id FROM task)",
                "SELECT bed_id FROM task",
                "IS NOT NULL",
            ),
        ],
        &[
            "SELECT name FROM bed WHERE bed_id IN (SELECT bed_id FROM task)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task WHERE bed_id IS NOT NULL)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task WHERE bed_id > 0)",
            "SELECT task_id FROM task WHERE bed_id NOT IN (SELECT bed_id FROM bed)",
            "SELECT task_id FROM task WHERE 'sun' NOT IN (SELECT sun FROM bed)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT COUNT(*) FROM task)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT bed_id + 1 FROM task WHERE bed_id < 5)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT COALESCE(bed_id, 0) FROM task)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT MAX(task_id) FROM task GROUP BY bed_id)",
            "SELECT name FROM bed WHERE bed_id NOT IN (SELECT t.task_id + 1 FROM task t LEFT JOIN bed b ON b.bed_id = t.bed_id)",
        ],
    );
}

#[test]
fn tables_that_nothing_ties() {
    check(
        "cross-product",
        &[
            ("SELECT name FROM bed b, task t WHERE hours > 1", "FROM bed b, task t", "b.… = t.…"),
            ("SELECT 1 FROM bed b JOIN task t ON t.hours > 1", "FROM bed b JOIN task t ON t.hours > 1", "CROSS JOIN"),
            ("SELECT 1 FROM bed b, task t, task u WHERE b.bed_id = t.bed_id", "FROM bed b, task t, task u", "u.…"),
        ],
        &[
            "SELECT name FROM bed b, task t WHERE b.bed_id = t.bed_id",
            "SELECT name FROM bed b CROSS JOIN task t",
            "SELECT name FROM bed b, task t, task u WHERE b.bed_id = t.bed_id AND t.day < u.day",
            "SELECT name, value FROM bed, SERIES(1, 3) AS s",
            "SELECT name FROM bed b, (VALUES (1), (2)) AS v (n)",
            "SELECT 1 FROM bed b, task t WHERE b.bed_id + t.bed_id > 4",
            "SELECT 1 FROM SERIES(1, 3) AS s (n) JOIN bed ON bed.bed_id = n JOIN task ON task_id = n",
            "WITH RECURSIVE r (n) AS (VALUES (1) UNION ALL SELECT n + 1 FROM r JOIN bed ON bed.bed_id = n JOIN task ON task_id = n) \
             SELECT n FROM r",
        ],
    );
}

#[test]
fn conditions_that_hide_an_index() {
    check(
        "hidden-index",
        &[
            (
                "SELECT task_id FROM task WHERE EXTRACT(YEAR FROM day) = 2025",
                "EXTRACT(YEAR FROM day) = 2025",
                "write day >= DATE '2025-01-01' AND day < DATE '2026-01-01'",
            ),
            (
                "SELECT task_id FROM task WHERE day + INTERVAL '7' DAY > DATE '2026-09-01'",
                "day + INTERVAL '7' DAY > DATE '2026-09-01'",
                "write day > DATE '2026-09-01' - INTERVAL '7' DAY",
            ),
            (
                "SELECT name FROM bed WHERE UPPER(name) = 'SCREE'",
                "UPPER(name) = 'SCREE'",
                "CREATE INDEX … ON bed (UPPER(name))",
            ),
            (
                "SELECT name FROM bed WHERE CAST(name AS VARCHAR(12)) = 'Scree'",
                "CAST(name AS VARCHAR(12)) = 'Scree'",
                "ON bed (CAST(name AS VARCHAR(12)))",
            ),
            (
                "SELECT task_id FROM task WHERE CAST(hours AS DOUBLE PRECISION) = 9e0",
                "CAST(hours AS DOUBLE PRECISION) = 9e0",
                "type NUMERIC(4,2)",
            ),
        ],
        &[
            "SELECT task_id FROM task WHERE day = DATE '2026-02-02'",
            "SELECT task_id FROM task WHERE MOD(task_id, 7) = 1 AND day = DATE '2026-02-02'",
            "SELECT name FROM bed WHERE UPPER(sun) = 'SUN'",
        ],
    );
    check(
        "leading-wildcard",
        &[("SELECT name FROM bed WHERE name LIKE '%ully'", "name LIKE '%ully'", "begins with text")],
        &["SELECT name FROM bed WHERE name LIKE 'F%'", "SELECT name FROM bed WHERE sun LIKE '%e'"],
    );
}

#[test]
fn outer_joins_that_where_undoes() {
    check(
        "outer-join-undone",
        &[(
            "SELECT name FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id WHERE t.hours > 1",
            "t.hours > 1",
            "from WHERE to ON: … AND t.hours > 1",
        )],
        &[
            "SELECT name FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id AND t.hours > 1",
            "SELECT name FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id WHERE t.hours IS NULL",
            "SELECT name FROM bed b LEFT JOIN task t ON t.bed_id = b.bed_id WHERE b.bed_id = 1",
            "SELECT name FROM bed WHERE (SELECT MAX(hours) FROM task WHERE task.bed_id = bed.bed_id) > 1",
        ],
    );
}

#[test]
fn a_column_compared_with_itself() {
    check(
        "self-comparison",
        &[
            (
                "SELECT name FROM bed b WHERE EXISTS (SELECT 1 FROM task WHERE bed_id = bed_id)",
                "bed_id = bed_id",
                "write b.bed_id",
            ),
            ("SELECT name FROM bed JOIN task t ON t.hours <> t.hours", "t.hours <> t.hours", "with its table's name"),
        ],
        &[
            "SELECT name FROM bed b WHERE EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id)",
            "SELECT b.name FROM bed b JOIN bed c ON b.name = c.name",
        ],
    );
}

/// What a view says is not for who reads it to mend.
#[test]
fn views_are_not_noted() {
    let mut session = garden();
    session
        .run("CREATE VIEW odd AS SELECT name, bed_id / 2 AS half FROM bed WHERE sun = NULL OR bed_id = bed_id")
        .unwrap();
    assert_eq!(notes(&mut session, "SELECT * FROM odd"), []);
}

#[test]
fn names_that_mean_a_column_of_the_query_around() {
    check(
        "outer-name",
        &[
            ("SELECT task_id FROM task WHERE hours IN (SELECT hours FROM bed)", "hours", "with its table's name"),
            (
                "SELECT name FROM bed WHERE EXISTS (SELECT 1 FROM task WHERE sun = 'shade')",
                "sun",
                "look for its right name",
            ),
            (
                "SELECT (SELECT MAX(day) FROM task WHERE DATE '2020-01-01' < opened) FROM bed",
                "opened",
                "its table's name",
            ),
        ],
        &[
            "SELECT name FROM bed WHERE EXISTS (SELECT 1 FROM task WHERE bed.sun = 'shade')",
            "SELECT name FROM bed WHERE EXISTS (SELECT 1 FROM task WHERE day > opened)",
            "SELECT name FROM bed WHERE EXISTS (SELECT 1 FROM task WHERE hours = 1) AND sun = 'shade'",
            "SELECT task_id FROM task WHERE bed_id IN (SELECT bed_id FROM bed)",
            "SELECT task_id FROM task t WHERE hours IN (SELECT t.hours FROM bed)",
            "SELECT task_id FROM task t WHERE EXISTS (SELECT hours FROM bed)",
        ],
    );
}

#[test]
fn forms_that_do_the_same_as_simpler_ones() {
    check(
        "mixed-and-or",
        &[(
            "SELECT 1 FROM bed WHERE sun = 'sun' OR name = 'x' AND bed_id > 1",
            "name = 'x' AND bed_id > 1",
            "write sun = 'sun' OR (name = 'x' AND bed_id > 1)",
        )],
        &[
            "SELECT 1 FROM bed WHERE sun = 'sun' OR (name = 'x' AND bed_id > 1)",
            "SELECT 1 FROM bed WHERE sun = 'sun' AND (name = 'x' OR bed_id > 1)",
            "SELECT 1 FROM bed WHERE sun = 'sun' OR name = 'x'",
        ],
    );
    check(
        "needless-distinct",
        &[
            ("SELECT DISTINCT bed_id, name FROM bed", "DISTINCT", "without DISTINCT"),
            ("SELECT DISTINCT sun, COUNT(*) FROM bed GROUP BY sun", "DISTINCT", ""),
            ("SELECT DISTINCT task_id, name FROM task t, bed b WHERE t.bed_id = b.bed_id", "DISTINCT", ""),
            (
                "SELECT DISTINCT t.task_id FROM task t JOIN bed b ON t.bed_id = b.bed_id JOIN bed c ON c.bed_id = b.bed_id + 1",
                "DISTINCT",
                "",
            ),
        ],
        &[
            "SELECT DISTINCT b.bed_id, name FROM task t, bed b WHERE t.bed_id = b.bed_id",
            "SELECT DISTINCT sun FROM bed",
            "SELECT DISTINCT COUNT(*) FROM bed GROUP BY sun",
        ],
    );
    check(
        "needless-union",
        &[
            ("SELECT 'bed' AS what, bed_id FROM bed UNION SELECT 'task', task_id FROM task", "UNION", "UNION ALL"),
            (
                "SELECT 'bed' AS what, bed_id FROM bed UNION SELECT 'task', task_id FROM task t, bed b WHERE t.bed_id = b.bed_id",
                "UNION",
                "UNION ALL",
            ),
        ],
        &[
            "SELECT bed_id FROM bed UNION SELECT task_id FROM task",
            "SELECT 'bed' AS what, sun FROM bed UNION SELECT 'task', 'x' FROM task",
            "SELECT 'bed' AS what, bed_id FROM bed UNION ALL SELECT 'task', task_id FROM task",
        ],
    );
    check(
        "needless-order",
        &[
            ("SELECT COUNT(*) FROM (SELECT name FROM bed ORDER BY name) AS x", "name", "order the whole"),
            ("WITH x AS (SELECT name FROM bed ORDER BY sun, name) SELECT COUNT(*) FROM x", "sun, name", ""),
        ],
        &[
            "SELECT COUNT(*) FROM (SELECT name FROM bed ORDER BY name FETCH FIRST ROW ONLY) AS x",
            "SELECT name FROM bed ORDER BY name",
        ],
    );
}

#[test]
fn old_statistics_are_told_when_they_are_kept() {
    let mut session = garden();
    session.run("ANALYZE task; SET keep_statistics = TRUE").unwrap();
    let sql = "SELECT task_id FROM task WHERE bed_id = 7";
    assert!(notes(&mut session, sql).is_empty());
    session.run("INSERT INTO task SELECT value, 7, 2, NULL FROM SERIES(501, 700)").unwrap();
    let found = notes(&mut session, sql);
    assert_eq!(found[0].code, "stale-statistics");
    assert_eq!(found[0].message, "the statistics of task are old: 200 rows have changed since it had 500");
    // Of three values each has a third: 7 is none of them.
    let estimated = |session: &mut Session| session.plan(sql, ()).unwrap().root.estimated_rows;
    assert!(estimated(&mut session) < 1.0);
    session.run("ANALYZE task").unwrap();
    assert!(notes(&mut session, sql).is_empty());
    assert!((estimated(&mut session) - 200.0).abs() < 1.0);
    session.run("DELETE FROM task WHERE bed_id = 7; SET keep_statistics = FALSE").unwrap();
    assert!(notes(&mut session, sql).is_empty(), "they are computed anew");
}

#[test]
fn views_keep_their_notes_to_themselves() {
    let mut session = garden();
    session
        .run("CREATE VIEW v AS SELECT DISTINCT bed_id, name FROM bed WHERE sun = 'a' OR name = 'x' AND bed_id > 1")
        .unwrap();
    assert_eq!(notes(&mut session, "SELECT * FROM v"), []);
}

#[test]
fn conditions_that_keep_no_row() {
    check(
        "not-in-null",
        &[
            ("SELECT 1 FROM bed WHERE name NOT IN ('a', NULL)", "name NOT IN ('a', NULL)", "name NOT IN ('a')"),
            ("SELECT 1 FROM bed WHERE name NOT IN (NULL)", "name NOT IN (NULL)", "name IS NOT NULL"),
        ],
        &["SELECT 1 FROM bed WHERE name IN ('a', NULL)", "SELECT 1 FROM bed WHERE name NOT IN ('a', 'b')"],
    );
    check(
        "exchanged-bounds",
        &[
            ("SELECT 1 FROM bed WHERE bed_id BETWEEN 9 AND 2", "bed_id BETWEEN 9 AND 2", "bed_id BETWEEN 2 AND 9"),
            (
                "SELECT 1 FROM task WHERE day BETWEEN DATE '2026-02-01' AND DATE '2026-01-01'",
                "day BETWEEN DATE '2026-02-01' AND DATE '2026-01-01'",
                "BETWEEN SYMMETRIC",
            ),
            (
                "SELECT 1 FROM task WHERE hours NOT BETWEEN 2.5 AND 1",
                "hours NOT BETWEEN 2.5 AND 1",
                "hours NOT BETWEEN 1 AND 2.5",
            ),
        ],
        &[
            "SELECT 1 FROM bed WHERE bed_id BETWEEN 2 AND 9",
            "SELECT 1 FROM bed WHERE bed_id BETWEEN SYMMETRIC 9 AND 2",
            "SELECT 1 FROM bed WHERE bed_id BETWEEN 2 AND 2",
        ],
    );
    check(
        "contradiction",
        &[
            ("SELECT 1 FROM bed WHERE bed_id = 1 AND bed_id = 2", "bed_id = 1 AND bed_id = 2", "bed_id IN (1, 2)"),
            (
                "SELECT 1 FROM bed WHERE sun = 'a' AND name = 'x' AND 'b' = sun",
                "sun = 'a' AND name = 'x' AND 'b' = sun",
                "sun IN (",
            ),
        ],
        &[
            "SELECT 1 FROM bed WHERE bed_id = 1 OR bed_id = 2",
            "SELECT 1 FROM bed WHERE bed_id = 1 AND bed_id = 1",
            "SELECT 1 FROM bed b, task t WHERE b.bed_id = 1 AND t.bed_id = 2",
        ],
    );
}

#[test]
fn joins_and_subqueries_that_say_other_than_it_looks() {
    check(
        "natural-columns",
        &[(
            "SELECT 1 FROM task a NATURAL JOIN (SELECT bed_id, hours FROM task) b",
            "NATURAL JOIN",
            "JOIN … USING (bed_id)",
        )],
        &["SELECT 1 FROM bed NATURAL JOIN task", "SELECT 1 FROM task a JOIN task b USING (bed_id, hours)"],
    );
    check(
        "independent-exists",
        &[
            (
                "SELECT 1 FROM bed WHERE EXISTS (SELECT 1 FROM task WHERE hours > 1)",
                "EXISTS (SELECT 1 FROM task WHERE hours > 1)",
                "inner.key = outer.key",
            ),
            (
                "SELECT 1 FROM bed b WHERE NOT EXISTS (SELECT 1 FROM task t WHERE t.bed_id = t.task_id)",
                "EXISTS (SELECT 1 FROM task t WHERE t.bed_id = t.task_id)",
                "WHERE",
            ),
        ],
        &[
            "SELECT 1 FROM bed b WHERE EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id)",
            "SELECT EXISTS (SELECT 1 FROM task)",
        ],
    );
    check(
        "last-value-frame",
        &[(
            "SELECT LAST_VALUE(name) OVER (ORDER BY bed_id) FROM bed",
            "LAST_VALUE(name) OVER (ORDER BY bed_id)",
            "LAST_VALUE(name) OVER (ORDER BY bed_id ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)",
        )],
        &[
            "SELECT FIRST_VALUE(name) OVER (ORDER BY bed_id) FROM bed",
            "SELECT LAST_VALUE(name) OVER (PARTITION BY sun) FROM bed",
            "SELECT LAST_VALUE(name) OVER (ORDER BY bed_id ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING) FROM bed",
        ],
    );
}

#[test]
fn changes_of_every_row() {
    let mut session = garden();
    for (sql, noted) in [
        ("DELETE FROM task", true),
        ("UPDATE task SET hours = 1", true),
        ("DELETE FROM task WHERE TRUE", false),
        ("UPDATE task SET hours = 1 WHERE bed_id = 1", false),
        ("TRUNCATE TABLE task", false),
    ] {
        let found = notes(&mut session, sql);
        assert_eq!(found.iter().any(|note| note.code == "every-row" && note.style), noted, "{sql}: {found:?}");
    }
    // To measure a change is not to make it.
    let (_, plan) = session.measure("DELETE FROM task WHERE bed_id = 1", ()).unwrap();
    assert_eq!((plan.root.operator.name(), plan.root.actual_rows), ("delete", Some(167)));
    assert_eq!(session.query("SELECT COUNT(*) FROM task", ()).unwrap().rows().next().unwrap().value(0), 500.into());
}
