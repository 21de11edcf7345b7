//! Formulations of one question come to one plan, with one estimate, and the same rows.

use crate::support::run;
use garden_gate::plan::PlanNode;
use garden_gate::{Database, Session};

/// 200 beds, 20 of them without a task; 3,000 tasks, every tenth of no bed that there is.
fn beds_and_tasks() -> Session {
    let mut session = Database::in_memory().session();
    for sql in [
        "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, sun VARCHAR(8) NOT NULL, shade_of INTEGER)",
        "INSERT INTO bed SELECT n, CASE MOD(n, 4) WHEN 0 THEN 'shade' ELSE 'sun' END, NULLIF(MOD(n, 7), 0) FROM SERIES(1, 200) AS s(n)",
        "CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER NOT NULL, hours INTEGER)",
        "INSERT INTO task SELECT n, CASE MOD(n, 10) WHEN 0 THEN 1000 + n ELSE 1 + MOD(n, 180) END, NULLIF(MOD(n, 9), 0) \
         FROM SERIES(1, 3000) AS s(n)",
        "ANALYZE bed",
        "ANALYZE task",
    ] {
        session.execute(sql, ()).unwrap();
    }
    session
}

/// Each group is one question; the rows of the first are counted by hand.
const QUESTIONS: &[(&[&str], usize)] = &[
    (
        // Beds without a task: 181 to 200, and those that only multiples of ten would name: 1 + n with n a multiple of 10 below 180.
        &[
            "SELECT bed_id FROM bed AS b WHERE NOT EXISTS (SELECT 1 FROM task AS t WHERE t.bed_id = b.bed_id)",
            "SELECT bed_id FROM bed WHERE bed_id NOT IN (SELECT bed_id FROM task)",
            "SELECT bed_id FROM bed WHERE bed_id <> ALL (SELECT bed_id FROM task)",
            "SELECT bed_id FROM bed WHERE NOT bed_id = ANY (SELECT bed_id FROM task)",
            "SELECT b.bed_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id WHERE t.bed_id IS NULL",
            "SELECT b.bed_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id WHERE t.task_id IS NULL",
            "SELECT b.bed_id FROM task AS t RIGHT JOIN bed AS b ON t.bed_id = b.bed_id WHERE t.task_id IS NULL",
            "SELECT bed_id FROM bed EXCEPT SELECT bed_id FROM task",
        ],
        38,
    ),
    (
        // Beds with a task.
        &[
            "SELECT bed_id FROM bed AS b WHERE EXISTS (SELECT 1 FROM task AS t WHERE t.bed_id = b.bed_id)",
            "SELECT bed_id FROM bed WHERE bed_id IN (SELECT bed_id FROM task)",
            "SELECT bed_id FROM bed WHERE bed_id = ANY (SELECT bed_id FROM task)",
            "SELECT bed_id FROM bed WHERE NOT bed_id NOT IN (SELECT bed_id FROM task)",
            "SELECT bed_id FROM bed INTERSECT SELECT bed_id FROM task",
            "SELECT DISTINCT b.bed_id FROM bed AS b JOIN task AS t ON t.bed_id = b.bed_id",
            "SELECT b.bed_id FROM bed AS b JOIN task AS t ON t.bed_id = b.bed_id GROUP BY b.bed_id",
        ],
        162,
    ),
    (
        // Tasks in the shade: of the 2,700 with a bed those whose bed is a multiple of four.
        &[
            "SELECT task_id FROM task WHERE bed_id IN (SELECT bed_id FROM bed WHERE sun = 'shade')",
            "SELECT task_id FROM task AS t WHERE EXISTS (SELECT 1 FROM bed AS b WHERE b.bed_id = t.bed_id AND b.sun = 'shade')",
            "SELECT task_id FROM task AS t WHERE bed_id = ANY (SELECT bed_id FROM bed WHERE sun = 'shade')",
        ],
        750,
    ),
    (
        &[
            "SELECT t.task_id, b.sun FROM task AS t LEFT JOIN bed AS b ON t.bed_id = b.bed_id",
            "SELECT t.task_id, b.sun FROM bed AS b RIGHT JOIN task AS t ON t.bed_id = b.bed_id",
        ],
        3000,
    ),
    (
        &[
            "SELECT task_id FROM task WHERE hours IN (1, 2)",
            "SELECT task_id FROM task WHERE hours = 1 OR hours = 2",
            "SELECT task_id FROM task WHERE hours = 1 OR 2 = hours",
            "SELECT task_id FROM task WHERE hours = 1 UNION ALL SELECT task_id FROM task WHERE hours = 2",
        ],
        668,
    ),
    (
        // The last task of each bed: of the 180 beds that are named those whose tasks are not all multiples of ten, and 300 other numbers.
        &[
            "SELECT task_id FROM task AS t WHERE task_id = (SELECT MAX(u.task_id) FROM task AS u WHERE u.bed_id = t.bed_id)",
            "SELECT t.task_id FROM task AS t JOIN (SELECT bed_id, MAX(task_id) AS last FROM task GROUP BY bed_id) AS m \
             ON m.bed_id = t.bed_id AND m.last = t.task_id",
            "SELECT t.task_id FROM (SELECT bed_id, MAX(task_id) AS last FROM task GROUP BY bed_id) AS m, task AS t \
             WHERE t.task_id = m.last AND t.bed_id = m.bed_id",
            "WITH m AS (SELECT bed_id, MAX(task_id) AS last FROM task GROUP BY bed_id) \
             SELECT task_id FROM task AS t JOIN m ON m.bed_id = t.bed_id WHERE task_id = last",
            "SELECT task_id FROM (SELECT task_id, MAX(task_id) OVER (PARTITION BY bed_id) AS last FROM task) AS t \
             WHERE task_id = last",
        ],
        462,
    ),
];

#[test]
fn formulations_of_one_question_come_to_one_plan() {
    let mut session = beds_and_tasks();
    let mut apart = Vec::new();
    for (forms, count) in QUESTIONS {
        let mut first: Option<(String, f64, Vec<String>)> = None;
        for sql in *forms {
            let plan = session.plan(sql, ()).unwrap();
            let mut rows: Vec<String> = run(&mut session, sql).unwrap().split("; ").map(str::to_owned).collect();
            rows.sort_unstable();
            assert_eq!(rows.len(), *count, "{sql}");
            match &first {
                None => first = Some((plan.fingerprint.clone(), plan.root.estimated_rows, rows)),
                Some((fingerprint, estimated, known)) => {
                    assert_eq!(&rows, known, "{sql}");
                    if *fingerprint != plan.fingerprint || (estimated - plan.root.estimated_rows).abs() > 0.5 {
                        apart.push(format!(
                            "{sql}: {estimated} against {} rows\n{}",
                            plan.root.estimated_rows,
                            outline(&plan.root, 0)
                        ));
                    }
                }
            }
        }
    }
    assert!(apart.is_empty(), "{}", apart.join("\n"));
}

/// What keeps formulations apart: a NULL that one of them minds.
#[test]
fn where_a_null_counts_the_plans_differ() {
    let mut session = beds_and_tasks();
    let not_in = "SELECT bed_id FROM bed WHERE bed_id NOT IN (SELECT shade_of FROM bed)";
    let not_exists =
        "SELECT bed_id FROM bed AS b WHERE NOT EXISTS (SELECT 1 FROM bed AS c WHERE c.shade_of = b.bed_id)";
    assert_eq!(run(&mut session, not_in).unwrap(), "", "a NULL among them: NOT IN is never TRUE");
    let rows = run(&mut session, not_exists).unwrap();
    assert_eq!(rows.split("; ").count(), 194, "1 to 6 are named");
    assert_ne!(session.plan(not_in, ()).unwrap().fingerprint, session.plan(not_exists, ()).unwrap().fingerprint);
    let without = format!("{} WHERE shade_of IS NOT NULL)", not_in.trim_end_matches(')'));
    assert_eq!(run(&mut session, &without).unwrap(), rows);
    // The rows that an outer join adds are those that have NULL; a column that may be NULL in a match does not tell them.
    let may_be_null =
        "SELECT b.bed_id FROM bed AS b LEFT JOIN bed AS c ON c.bed_id = b.bed_id + 100 WHERE c.shade_of IS NULL";
    let wanted = "SELECT bed_id FROM bed WHERE bed_id > 100 OR MOD(bed_id + 100, 7) = 0";
    let sorted = |session: &mut Session, sql: &str| {
        let mut rows: Vec<String> = run(session, sql).unwrap().split("; ").map(str::to_owned).collect();
        rows.sort_unstable();
        rows
    };
    assert_eq!(sorted(&mut session, may_be_null), sorted(&mut session, wanted));
    // Columns of the right side are NULL where they are shown.
    let shown = "SELECT b.bed_id, t.hours, t.task_id FROM bed AS b LEFT JOIN task AS t ON t.bed_id = b.bed_id \
                 WHERE t.task_id IS NULL AND b.bed_id > 198 ORDER BY 1";
    assert_eq!(run(&mut session, shown).unwrap(), "199|NULL|NULL; 200|NULL|NULL");
    // Set operators take NULL for the same as NULL.
    let both = "SELECT shade_of FROM bed INTERSECT SELECT NULLIF(bed_id, 1) FROM bed ORDER BY 1";
    assert_eq!(run(&mut session, both).unwrap(), "2; 3; 4; 5; 6; NULL");
    let only = "SELECT shade_of FROM bed EXCEPT SELECT bed_id FROM bed";
    assert_eq!(run(&mut session, only).unwrap(), "NULL");
}

/// UNION ALL of one table becomes one query only where no row is of two.
#[test]
fn queries_of_union_all_stay_apart_where_a_row_may_be_of_both() {
    let mut session = beds_and_tasks();
    let cases = [
        ("SELECT task_id FROM task WHERE hours = 1 UNION ALL SELECT task_id FROM task WHERE hours IN (2, 3)", 1, 1002),
        (
            "SELECT hours + 1 FROM task WHERE bed_id = 2 AND hours = 1 UNION ALL SELECT hours + 1 FROM task WHERE bed_id = 2 AND hours = 4",
            1,
            17,
        ),
        ("SELECT task_id FROM task WHERE hours = 1 UNION ALL SELECT task_id FROM task WHERE hours IN (2, 1)", 2, 1002),
        ("SELECT task_id FROM task WHERE hours = 1 UNION ALL SELECT bed_id FROM task WHERE hours = 2", 2, 668),
        ("SELECT task_id FROM task WHERE hours = 1 UNION ALL SELECT task_id FROM task WHERE bed_id = 2", 2, 351),
        ("SELECT bed_id FROM bed WHERE sun = 'sun' UNION ALL SELECT bed_id FROM bed WHERE sun = 'shade'", 1, 200),
        ("SELECT bed_id FROM bed WHERE sun = 'sun' UNION ALL SELECT bed_id FROM bed WHERE sun = 'sun '", 2, 150),
        ("SELECT bed_id, 1 FROM bed WHERE sun = 'sun' UNION ALL SELECT bed_id, 2 FROM bed WHERE sun = 'shade'", 2, 200),
    ];
    for (sql, scans, rows) in cases {
        let plan = session.plan(sql, ()).unwrap();
        let found = plan.nodes().into_iter().filter(|node| node.operator.name().contains("scan")).count();
        let came = run(&mut session, sql).unwrap().split("; ").count();
        assert_eq!((found, came), (scans, rows), "{sql}\n{}", outline(&plan.root, 0));
    }
}

/// A table beside groups of its own rows is read once, where each row is in a group; else it is not.
#[test]
fn a_table_beside_its_groups_is_a_window() {
    let mut session = beds_and_tasks();
    let cases = [
        // NULLs of the grouping column are in a group, which no row meets by an equality: 28 beds of 200 have none.
        (
            "SELECT COUNT(*) FROM bed AS b JOIN (SELECT shade_of, COUNT(*) AS n FROM bed GROUP BY shade_of) AS g ON g.shade_of = b.shade_of",
            "172",
            true,
        ),
        (
            "SELECT COUNT(*) FROM bed AS b JOIN (SELECT shade_of, COUNT(*) AS n FROM bed GROUP BY shade_of) AS g ON g.shade_of IS NOT DISTINCT FROM b.shade_of",
            "200",
            true,
        ),
        (
            "SELECT COUNT(n) FROM (SELECT (SELECT COUNT(*) FROM task AS u WHERE u.bed_id = t.bed_id) AS n FROM task AS t) AS x",
            "3000",
            true,
        ),
        // Bed 1 + r has the tasks r + 180 n: 17 up to r = 120, then 16.
        (
            "SELECT MIN(n), MAX(n) FROM (SELECT (SELECT COUNT(*) FROM task AS u WHERE u.bed_id = t.bed_id) AS n FROM task AS t WHERE t.bed_id < 1000) AS x",
            "16|17",
            false,
        ),
        // Beds without a value count none, which no group says.
        (
            "SELECT COUNT(*), MIN(n) FROM (SELECT (SELECT COUNT(*) FROM bed AS c WHERE c.shade_of = b.shade_of) AS n FROM bed AS b) AS x",
            "200|0",
            false,
        ),
        // All tasks of a bed take as long; 333 times five of nine take more than 3.
        (
            "SELECT COUNT(*) FROM task AS t WHERE hours >= (SELECT AVG(u.hours) FROM task AS u WHERE u.bed_id = t.bed_id AND u.hours > 3) AND hours > 3",
            "1665",
            true,
        ),
    ];
    let mut wrong = Vec::new();
    for (sql, rows, is_window) in cases {
        let plan = session.plan(sql, ()).unwrap();
        let reads = plan.nodes().into_iter().filter(|node| node.operator.name() == "table scan").count();
        let found = run(&mut session, sql).unwrap();
        if found != rows || (reads == 1) != is_window {
            wrong.push(format!("{sql}: {found}, {reads} scans\n{}", outline(&plan.root, 0)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// The operators of a plan, one a line, with what they are matched by.
fn outline(node: &PlanNode, depth: usize) -> String {
    let conditions: Vec<String> = node.predicates.iter().map(|predicate| predicate.text.clone()).collect();
    let own = format!(
        "{:depth$}{} {} [{}] {:.1}\n",
        "",
        node.operator,
        node.kind.map_or("", |kind| kind.name()),
        conditions.join(", "),
        node.estimated_rows
    );
    node.children.iter().fold(own, |text, child| text + &outline(child, depth + 2))
}
