//! TABLESAMPLE (clause 7.6): what a share of the rows is, over every kind of table.

use crate::support::{check_problems, check_rows, run, shape};
use garden_gate::{Database, Parameters, Session};

/// 10,000 rows in one load, so that row n appears at place n - 1.
fn plants() -> Session {
    let mut session = Database::in_memory().session();
    let made = "CREATE TABLE plant AS (SELECT n AS id, MOD(n, 7) AS bed FROM SERIES(1, 10000) AS s (n)) WITH DATA";
    session.run(made).unwrap();
    session
}

fn number(session: &mut Session, sql: &str) -> i64 {
    run(session, sql).unwrap_or_else(|error| panic!("{sql}\n{error}")).parse().unwrap()
}

#[test]
fn nothing_and_everything() {
    check_rows(&[
        ("SELECT COUNT(*) FROM bed TABLESAMPLE BERNOULLI (0)", "0"),
        ("SELECT COUNT(*) FROM bed TABLESAMPLE SYSTEM (100)", "5"),
        ("SELECT b.name FROM bed AS b TABLESAMPLE BERNOULLI (100) REPEATABLE (3) WHERE bed_id = 2", "Scree"),
        ("SELECT COUNT(*) FROM (VALUES 1, 2, 3) AS v (n) TABLESAMPLE SYSTEM (50 + 50)", "3"),
        ("WITH w AS (TABLE task) SELECT COUNT(*) FROM w AS x TABLESAMPLE BERNOULLI (100)", "7"),
        ("SELECT COUNT(*) FROM bed TABLESAMPLE SYSTEM (0) RIGHT JOIN task USING (bed_id)", "7"),
        (
            "SELECT COUNT(*) FROM bed, LATERAL (SELECT * FROM task WHERE task.bed_id = bed.bed_id) AS t TABLESAMPLE BERNOULLI (100)",
            "5",
        ),
    ]);
}

#[test]
fn a_share_of_the_rows() {
    let mut session = plants();
    for table in ["plant", "(SELECT * FROM plant) AS p", "plant AS p"] {
        for method in ["BERNOULLI", "SYSTEM"] {
            let sampled = format!("{table} TABLESAMPLE {method} (30) REPEATABLE (17)");
            // 3,000 rows with a deviation of 46 by rows, and of 4.6 * 256 by the 40 pages.
            let found = number(&mut session, &format!("SELECT COUNT(*) FROM {sampled}"));
            let most = if method == "BERNOULLI" { 230 } else { 3 * 742 };
            assert!((found - 3000).abs() < most, "{found} rows of {sampled}");
            // The same sample again: the condition of WHERE takes from it and has no part in it.
            let rest = format!(
                "SELECT COUNT(*) FROM (SELECT id FROM {sampled} WHERE bed = 3 EXCEPT SELECT id FROM {sampled}) AS left_over"
            );
            assert_eq!(number(&mut session, &rest), 0, "{rest}");
            let kept = number(&mut session, &format!("SELECT COUNT(*) FROM {sampled} WHERE bed = 3"));
            assert!(0 < kept && kept < found / 3, "{kept} of {found} rows of {sampled}");
        }
    }
    let half = |seed: u32| format!("SELECT id FROM plant TABLESAMPLE BERNOULLI (50) REPEATABLE ({seed})");
    let both = number(&mut session, &format!("SELECT COUNT(*) FROM ({} INTERSECT {}) AS b", half(1), half(2)));
    assert!((both - 2500).abs() < 220, "{both} rows in both halves");
}

#[test]
fn system_takes_whole_pages() {
    let mut session = plants();
    let pages = "SELECT COUNT(*) FROM (SELECT (id - 1) / 256 AS page, COUNT(*) AS n FROM plant TABLESAMPLE SYSTEM (40) REPEATABLE (5) \
                 GROUP BY (id - 1) / 256) AS p";
    let all = number(&mut session, pages);
    assert!((5..30).contains(&all), "{all} pages");
    // 10,000 rows are 39 pages of 256 and one of 16.
    assert_eq!(number(&mut session, &format!("{pages} WHERE n NOT IN (256, 16)")), 0);
}

#[test]
fn each_statement_takes_other_rows() {
    let mut session = plants();
    let sample = "SELECT LISTAGG(CAST(id AS VARCHAR(5)), ',') FROM plant TABLESAMPLE BERNOULLI (1)";
    let first = run(&mut session, sample).unwrap();
    assert!((0..20).any(|_| run(&mut session, sample).unwrap() != first), "always {first}");
}

#[test]
fn a_sample_has_a_size() {
    let mut session = plants();
    let share = Parameters::new().set("share", 50);
    let plan = session.plan("SELECT id FROM plant TABLESAMPLE BERNOULLI (:share)", share).unwrap();
    assert_eq!(shape(&plan), "table scan plant");
    assert!((plan.root.estimated_rows - 5000.0).abs() < 1.0, "{}", plan.root.estimated_rows);
    let plan = session.plan("SELECT id FROM plant TABLESAMPLE SYSTEM (2.5) REPEATABLE (7)", ()).unwrap();
    assert_eq!(plan.root.predicates[0].text, "TABLESAMPLE SYSTEM (2.5) REPEATABLE (7)");
    check_problems(&[
        ("SELECT * FROM bed TABLESAMPLE SYSTEM (101)", "2202H", "TABLESAMPLE SYSTEM (101)", "0 and 100 percent … 101"),
        ("SELECT * FROM bed TABLESAMPLE BERNOULLI (-1)", "2202H", "TABLESAMPLE BERNOULLI (-1)", "-1"),
        ("SELECT * FROM bed TABLESAMPLE BERNOULLI (NULL)", "2202H", "TABLESAMPLE BERNOULLI (NULL)", "NULL"),
        (
            "SELECT * FROM bed TABLESAMPLE BERNOULLI (1) REPEATABLE (NULL)",
            "2202G",
            "TABLESAMPLE BERNOULLI (1) REPEATABLE (NULL)",
            "",
        ),
        ("SELECT * FROM bed TABLESAMPLE (10)", "42000", "(", "BERNOULLI or SYSTEM … for pages"),
        ("SELECT * FROM bed TABLESAMPLE SYSTEM ('x')", "42000", "'x'", ""),
        ("SELECT * FROM bed TABLESAMPLE SYSTEM (bed_id)", "42S22", "bed_id", "bed_id"),
        ("SELECT * FROM bed TABLESAMPLE SYSTEM ((SELECT 1))", "42000", "(SELECT 1)", ""),
        ("SELECT 1 FROM bed WINDOW w AS (ORDER BY no_such)", "42S22", "no_such", ""),
        ("SELECT 1 FROM bed WINDOW w AS (ORDER BY name RANGE 1 PRECEDING)", "42000", "1", ""),
    ]);
}
