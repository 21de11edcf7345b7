//! Estimates where columns go together, in one table and across tables: rows are looked at while a plan is made.

use crate::support::{check_near, run};
use garden_gate::{Database, Session};

/// 200 beds, of which every tenth lies in the shade; 40,000 tasks. Odd ones are in the beds 1 to 10 by turns and are watered; even ones are in
/// bed `1 + n / 2 mod 200`, those of shaded beds are mulched and all others weeded. Every task of the first 500 days has a note, no other.
fn garden() -> Session {
    let mut session = Database::in_memory().session();
    for sql in [
        "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, sun VARCHAR(8), row_no INTEGER)",
        "INSERT INTO bed SELECT n, CASE WHEN MOD(n, 10) = 0 THEN 'shade' ELSE 'sun' END, n / 20 FROM SERIES(1, 200) AS s(n)",
        "CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER, kind VARCHAR(8), day INTEGER)",
        "INSERT INTO task SELECT n, CASE WHEN MOD(n, 2) = 1 THEN 1 + MOD(n / 2, 10) ELSE 1 + MOD(n / 2, 200) END, \
         CASE WHEN MOD(n, 2) = 1 THEN 'water' WHEN MOD(1 + MOD(n / 2, 200), 10) = 0 THEN 'mulch' ELSE 'weed' END, n / 40 \
         FROM SERIES(1, 40000) AS s(n)",
        "CREATE INDEX task_bed ON task (bed_id)",
        "CREATE INDEX task_day ON task (day)",
        "CREATE TABLE note (note_id INTEGER PRIMARY KEY, task_id INTEGER, words INTEGER)",
        "INSERT INTO note SELECT n, n, MOD(n, 7) FROM SERIES(1, 20000) AS s(n)",
        "CREATE INDEX note_task ON note (task_id)",
        "ANALYZE bed",
        "ANALYZE task",
        "ANALYZE note",
    ] {
        session.execute(sql, ()).unwrap();
    }
    // Indexes are sorted when they are first used.
    for sql in [
        "SELECT COUNT(*) FROM task AS a JOIN task AS b ON b.day = a.day + 1 WHERE a.task_id = 5",
        "SELECT COUNT(*) FROM task AS a JOIN task AS b ON b.bed_id = a.day WHERE a.task_id = 45",
        "SELECT COUNT(*) FROM task AS a JOIN task AS b ON b.task_id = a.task_id + 1 WHERE a.task_id < 9",
        "SELECT COUNT(*) FROM task AS a JOIN note AS b ON b.task_id = a.task_id + 1 WHERE a.task_id < 9",
        "SELECT COUNT(*) FROM task AS a JOIN bed AS b ON b.bed_id = a.bed_id + 1 WHERE a.task_id < 9",
    ] {
        run(&mut session, sql).unwrap();
    }
    session
}

#[test]
fn columns_that_go_together_are_seen() {
    let mut session = garden();
    // Each with the rows that come.
    let cases = [
        // Rows that an index leads to: bed 150 is a shaded one, all of its 100 tasks are mulched; bed 55 has weeds only.
        ("SELECT task_id FROM task WHERE bed_id = 150 AND kind = 'mulch'", 100.0),
        ("SELECT task_id FROM task WHERE bed_id = 55 AND kind = 'mulch'", 0.0),
        ("SELECT task_id FROM task WHERE day = 7 AND MOD(task_id, 40) < 10", 10.0),
        // Across tables: a tenth of the beds, and all mulched tasks, a twentieth of all.
        (
            "SELECT t.task_id FROM task AS t JOIN bed AS b ON b.bed_id = t.bed_id WHERE b.sun = 'shade' AND t.kind = 'mulch'",
            2000.0,
        ),
        (
            "SELECT t.task_id FROM task AS t JOIN bed AS b ON b.bed_id = t.bed_id WHERE b.sun = 'sun' AND t.kind = 'weed'",
            18000.0,
        ),
        (
            "SELECT t.task_id FROM task AS t JOIN bed AS b ON b.bed_id = t.bed_id WHERE b.row_no = 0 AND t.kind = 'water'",
            20000.0,
        ),
        // Notes on tasks of the first days, all of them; a seventh of them has no word.
        (
            "SELECT n.note_id FROM task AS t JOIN note AS n ON n.task_id = t.task_id JOIN bed AS b ON b.bed_id = t.bed_id \
             WHERE t.day < 700 AND b.sun = 'shade' AND t.kind = 'mulch'",
            1000.0,
        ),
        (
            "SELECT n.note_id FROM task AS t JOIN note AS n ON n.task_id = t.task_id JOIN bed AS b ON b.bed_id = t.bed_id \
             WHERE t.kind = 'water' AND b.row_no = 0 AND n.words = 3",
            1429.0,
        ),
        // The beds of a kind of task: ten are watered, twenty mulched.
        (
            "SELECT bed_id FROM bed AS b WHERE EXISTS (SELECT 1 FROM task AS t WHERE t.bed_id = b.bed_id AND t.kind = 'water')",
            10.0,
        ),
        ("SELECT bed_id FROM bed WHERE bed_id IN (SELECT bed_id FROM task WHERE kind = 'mulch')", 20.0),
        ("SELECT bed_id, COUNT(*) FROM task WHERE kind = 'water' GROUP BY bed_id", 10.0),
        // As many groups as the other side of the join has beds.
        (
            "SELECT t.bed_id, COUNT(*) FROM task AS t JOIN bed AS b ON b.bed_id = t.bed_id WHERE b.row_no = 5 GROUP BY t.bed_id",
            20.0,
        ),
    ];
    for (sql, rows) in cases {
        let (_, found) = check_near(&mut session, sql, 1.7);
        assert!((found - rows).abs() < 0.5, "{sql}: {found} rows");
    }
}

/// A sample that is too small to tell says between what the rows may lie.
#[test]
fn what_hardly_comes_is_bounded() {
    let mut session = garden();
    let none =
        "SELECT t.task_id FROM task AS t JOIN bed AS b ON b.bed_id = t.bed_id WHERE b.sun = 'sun' AND t.kind = 'mulch'";
    let plan = session.plan(none, ()).unwrap();
    assert_eq!(run(&mut session, none).unwrap(), "");
    // 192 mulched tasks of 2,000 were tried: not one of them is in the sun.
    assert!(plan.root.estimated_rows <= 25.0, "{}", plan.root.estimated_rows);
}

/// Columns of UNION ALL have the values of all of its queries, in every use of a common table expression over it.
#[test]
fn uses_of_a_step_over_a_union_do_not_multiply() {
    let mut session = garden();
    let both = "WITH u AS (SELECT 't' AS kind, bed_id, day FROM task UNION ALL SELECT 'n', words, note_id FROM note), \
                y AS (SELECT kind, bed_id, COUNT(*) AS n FROM u GROUP BY kind, bed_id)";
    // Tasks have 200 beds, notes 7 numbers of words: 0 is no bed.
    for (sql, rows) in [
        (format!("{both} SELECT n FROM y"), 207.0),
        (format!("{both} SELECT n FROM y WHERE kind = 'n'"), 7.0),
        (
            format!(
                "{both} SELECT a.n FROM y AS a JOIN y AS b ON a.bed_id = b.bed_id WHERE a.kind = 't' AND b.kind = 't'"
            ),
            200.0,
        ),
        (
            format!(
                "{both} SELECT a.n FROM y AS a JOIN y AS b ON a.bed_id = b.bed_id JOIN y AS c ON c.bed_id = b.bed_id \
                 WHERE a.kind = 't' AND b.kind = 't' AND c.kind = 't'"
            ),
            200.0,
        ),
    ] {
        let (_, found) = check_near(&mut session, &sql, 3.0);
        assert!((found - rows).abs() < 0.5, "{sql}: {found} rows");
    }
}
