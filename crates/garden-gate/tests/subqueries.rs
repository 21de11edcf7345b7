//! Queries inside expressions: in every clause, with NULLs, over no rows, at any depth. Rows are computed by hand.

use crate::support::{check_problems, check_rows, session};

#[test]
fn membership_has_three_values() {
    // The list holds a NULL: a row that is not in it is unknown, not false.
    check_rows(&[
        ("SELECT 1 IN (SELECT x FROM (VALUES (1), (NULL)) AS v (x))", "TRUE"),
        ("SELECT 2 IN (SELECT x FROM (VALUES (1), (NULL)) AS v (x))", "NULL"),
        ("SELECT 2 NOT IN (SELECT x FROM (VALUES (1), (NULL)) AS v (x))", "NULL"),
        ("SELECT NULL IN (SELECT 1 WHERE FALSE), NULL NOT IN (SELECT 1 WHERE FALSE)", "FALSE|TRUE"),
        ("SELECT 1 < ALL (SELECT x FROM (VALUES (2), (NULL)) AS v (x)), 3 < ALL (VALUES (2), (NULL))", "NULL|FALSE"),
        ("SELECT 1 < ANY (SELECT x FROM (VALUES (2), (NULL)) AS v (x)), 3 < SOME (VALUES (2), (NULL))", "TRUE|NULL"),
        (
            "SELECT (1, NULL) IN (SELECT 2, 2), (1, NULL) IN (SELECT 1, 2), (1, NULL) NOT IN (SELECT 2, 2)",
            "FALSE|NULL|TRUE",
        ),
        ("SELECT EXISTS (SELECT NULL), NOT EXISTS (SELECT 1 WHERE FALSE)", "TRUE|TRUE"),
        ("SELECT task_id FROM task WHERE bed_id = ALL (SELECT 1 WHERE FALSE) AND task_id > 5 ORDER BY 1", "6; 7"),
        (
            "SELECT task_id FROM task t WHERE hours > ALL (SELECT hours FROM task u WHERE u.kind = t.kind AND u.task_id <> t.task_id)",
            "5; 6",
        ),
    ]);
}

#[test]
fn queries_stand_in_every_clause() {
    check_rows(&[
        (
            "SELECT (SELECT COUNT(*) FROM task), name FROM bed WHERE bed_id = (SELECT MIN(bed_id) FROM task)",
            "7|Fern gully",
        ),
        (
            "SELECT b.bed_id FROM bed b JOIN task t ON t.bed_id = b.bed_id AND t.hours = (SELECT MAX(hours) FROM task)",
            "3",
        ),
        ("SELECT sun FROM bed GROUP BY sun HAVING COUNT(*) > (SELECT 1) ORDER BY 1", "full sun; shade"),
        (
            "SELECT bed_id FROM bed b ORDER BY (SELECT COUNT(*) FROM task t WHERE t.bed_id = b.bed_id) DESC, bed_id DESC",
            "3; 1; 2; 5; 4",
        ),
        ("SELECT SUM((SELECT COUNT(*) FROM task t WHERE t.bed_id = b.bed_id)) FROM bed b", "5"),
        ("SELECT COUNT(*) FILTER (WHERE EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id)) FROM bed b", "3"),
        (
            "SELECT n, COUNT(*) FROM (SELECT (SELECT COUNT(*) FROM task t WHERE t.bed_id = b.bed_id) AS n FROM bed b) AS x GROUP BY n ORDER BY 1",
            "0|2; 1|1; 2|2",
        ),
        (
            "SELECT RANK() OVER (ORDER BY (SELECT COUNT(*) FROM task t WHERE t.bed_id = b.bed_id)) FROM bed b ORDER BY 1",
            "1; 1; 3; 4; 4",
        ),
        (
            "SELECT CASE WHEN EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b.bed_id) THEN 'busy' ELSE 'idle' END FROM bed b ORDER BY bed_id",
            "busy; busy; busy; idle; idle",
        ),
        ("SELECT x FROM (VALUES ((SELECT MAX(bed_id) FROM bed)), (0)) AS v (x) ORDER BY x", "0; 5"),
        ("SELECT COALESCE((SELECT hours FROM task WHERE task_id = 2), 0), ARRAY[(SELECT 1), 2]", "0.00|[1, 2]"),
        ("SELECT (SELECT name, sun FROM bed WHERE bed_id = 1) = ('Fern gully', 'shade')", "TRUE"),
    ]);
}

#[test]
fn depth_and_shape_do_not_matter() {
    check_rows(&[
        // Two levels out.
        (
            "SELECT bed_id FROM bed b WHERE EXISTS (SELECT 1 FROM task t WHERE EXISTS (SELECT 1 FROM task u \
             WHERE u.bed_id = b.bed_id AND u.kind = t.kind AND t.task_id > u.task_id)) ORDER BY 1",
            "1; 2; 3",
        ),
        // The best row of each group, three ways.
        (
            "SELECT task_id FROM task t WHERE hours = (SELECT MAX(hours) FROM task u WHERE u.kind = t.kind) ORDER BY 1",
            "4; 5; 6",
        ),
        (
            "SELECT task_id FROM task t WHERE NOT EXISTS (SELECT 1 FROM task u WHERE u.kind = t.kind AND u.hours > t.hours) \
             AND hours IS NOT NULL ORDER BY 1",
            "4; 5; 6",
        ),
        (
            "SELECT x.task_id FROM (SELECT DISTINCT kind FROM task) AS k, LATERAL (SELECT task_id FROM task t \
             WHERE t.kind = k.kind ORDER BY hours DESC NULLS LAST FETCH FIRST ROW ONLY) AS x ORDER BY 1",
            "4; 5; 6",
        ),
        // A window, a grouping, DISTINCT, OFFSET and a set operator inside.
        (
            "SELECT bed_id, (SELECT MAX(n) FROM (SELECT ROW_NUMBER() OVER (ORDER BY task_id) AS n FROM task t \
             WHERE t.bed_id <= b.bed_id) AS x) FROM bed b ORDER BY 1",
            "1|2; 2|3; 3|5; 4|5; 5|5",
        ),
        (
            "SELECT bed_id, (SELECT COUNT(*) FROM (SELECT kind FROM task t WHERE t.bed_id >= b.bed_id GROUP BY kind) AS x) \
             FROM bed b ORDER BY 1",
            "1|3; 2|3; 3|2; 4|1; 5|1",
        ),
        (
            "SELECT bed_id, (SELECT task_id FROM task t WHERE t.bed_id = b.bed_id ORDER BY task_id OFFSET 1 ROW FETCH NEXT ROW ONLY) \
             FROM bed b ORDER BY 1",
            "1|2; 2|NULL; 3|5; 4|NULL; 5|NULL",
        ),
        // A dependent query beside dependent queries, all inside one that depends on the row around it.
        (
            "SELECT bed_id, (SELECT SUM((SELECT COUNT(*) FROM task u WHERE u.kind = t.kind) + (SELECT COUNT(*) FROM task v \
             WHERE v.bed_id = b.bed_id)) FROM task t WHERE t.bed_id = b.bed_id) FROM bed b ORDER BY 1",
            "1|12; 2|3; 3|9; 4|NULL; 5|NULL",
        ),
        // UNIQUE of a dependent query.
        ("SELECT bed_id FROM bed b WHERE NOT UNIQUE (SELECT kind FROM task t WHERE t.bed_id = b.bed_id)", "1"),
    ]);
}

#[test]
fn a_single_value_is_one_row() {
    check_rows(&[
        ("SELECT (SELECT task_id FROM task WHERE bed_id = 2), (SELECT task_id FROM task WHERE FALSE)", "3|NULL"),
        (
            "SELECT bed_id, (SELECT MAX(task_id) FROM task t WHERE t.bed_id = b.bed_id) FROM bed b WHERE bed_id > 2 ORDER BY 1",
            "3|5; 4|NULL; 5|NULL",
        ),
        // An error that no row asks for is none.
        ("SELECT CASE WHEN FALSE THEN (SELECT task_id FROM task) END", "NULL"),
        ("SELECT COALESCE(1, (SELECT task_id FROM task))", "1"),
    ]);
    check_problems(&[
        (
            "SELECT (SELECT task_id FROM task t WHERE t.bed_id = b.bed_id) FROM bed b",
            "21000",
            "(SELECT task_id FROM task t WHERE t.bed_id = b.bed_id)",
            "more than one row",
        ),
        (
            "SELECT bed_id FROM bed WHERE bed_id = (SELECT bed_id FROM task)",
            "21000",
            "(SELECT bed_id FROM task)",
            "more than one row",
        ),
        ("SELECT (SELECT 1, 2) + 1", "42000", "SELECT 1, 2", "a scalar subquery gives one column, this one 2"),
    ]);
}

/// The plan grows with the number of queries, not with its powers.
#[test]
fn many_queries_in_a_dependent_query_share_its_rows() {
    let inner = |count: usize| {
        let one =
            |n: usize| format!("(SELECT COUNT(*) FROM task u WHERE u.bed_id + {n} > t.bed_id AND u.hours < b.area)");
        let many: Vec<String> = (0..count).map(one).collect();
        format!("SELECT bed_id, (SELECT MAX({}) FROM task t WHERE t.bed_id = b.bed_id) FROM bed b", many.join(" + "))
    };
    let mut session = session();
    let mut nodes = |count| session.plan(inner(count), ()).unwrap().nodes().len();
    let (four, eight, sixteen) = (nodes(4), nodes(8), nodes(16));
    assert!(sixteen - eight <= 2 * (eight - four), "{four}, {eight} and {sixteen} operators");
}

/// A query that BETWEEN or CASE repeats is taken up once where its rows are among those of the first time, else with columns of its own.
#[test]
fn a_query_repeated_behind_a_condition() {
    let rows = "(VALUES ('ab'), (''), (NULL)) AS a (t)";
    let one = "(SELECT ABS((SELECT 1 WHERE 'a' IN (SELECT 'a'))))";
    check_rows(&[
        // All rows are kept; those with NULL give UNKNOWN, which EVERY skips.
        (
            &format!(
                "SELECT EVERY((a.t, a.t) IN (SELECT a.t, b.t FROM (VALUES ('ab'), (''), (NULL)) AS b (t)))
                 FROM {rows} WHERE UNKNOWN OR {one} BETWEEN 1 AND 1 GROUP BY GROUPING SETS (TRUE)"
            ),
            "TRUE",
        ),
        (&format!("SELECT COUNT(*) FROM {rows} WHERE a.t = '' OR {one} BETWEEN 2 AND 3"), "1"),
        (
            &format!(
                "SELECT CASE WHEN a.t = '' THEN {one} BETWEEN 1 AND 5 WHEN a.t = 'ab' THEN {one} NOT BETWEEN 1 AND 5 END FROM {rows}"
            ),
            "FALSE; TRUE; NULL",
        ),
        (&format!("SELECT COALESCE(NULLIF({one}, 1), NULLIF({one}, 2)) FROM {rows}"), "1; 1; 1"),
    ]);
}

/// The sides of an outer join whose ON holds a query are used twice, and computed once: the plan does not double with each join.
#[test]
fn outer_joins_with_queries_in_on_do_not_double() {
    let joined = |count: usize| {
        let join = |n: usize| {
            format!(
                " FULL JOIN bed b{n} ON b{n}.bed_id = b{}.bed_id AND EXISTS (SELECT 1 FROM task t WHERE t.bed_id = b{n}.bed_id + b{}.bed_id - b{n}.bed_id)",
                n - 1,
                n - 1
            )
        };
        format!("SELECT COUNT(*) FROM bed b0{}", (1..=count).map(join).collect::<String>())
    };
    let mut session = session();
    let mut nodes = |count| session.plan(joined(count), ()).unwrap().nodes().len();
    let (two, four, eight) = (nodes(2), nodes(4), nodes(8));
    assert!(eight - four <= 3 * (four - two), "{two}, {four} and {eight} operators");
    let beds = crate::support::run(&mut session, "SELECT COUNT(*) FROM bed").unwrap();
    let with_task =
        crate::support::run(&mut session, "SELECT COUNT(*) FROM bed WHERE bed_id IN (SELECT bed_id FROM task)")
            .unwrap();
    let (beds, with_task): (u64, u64) = (beds.parse().unwrap(), with_task.parse().unwrap());
    // Beds without a task meet nobody: each join adds them anew.
    let expected = with_task + 2 * (beds - with_task);
    assert_eq!(crate::support::run(&mut session, &joined(1)).unwrap(), expected.to_string());
}
