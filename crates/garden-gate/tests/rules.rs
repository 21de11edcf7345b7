//! Rewrite rules, each by the plans and the rows it must and must not change: fires, must not fire, the NULL trap, the duplicate trap,
//! fires once and then rests.

use crate::support::{run, session};
use garden_gate::Plan;

fn plan(sql: &str) -> Plan {
    session().plan(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"))
}

fn fired(sql: &str, rule: &str) -> usize {
    plan(sql).rewrites.iter().filter(|rewrite| rewrite.rule.name() == rule).count()
}

/// The conditions of a query's plan with the target of the operator they stand in.
fn conditions(sql: &str) -> Vec<(String, String)> {
    let plan = plan(sql);
    let mut found = Vec::new();
    for node in plan.nodes() {
        let place =
            node.alias.clone().or_else(|| node.target.clone()).unwrap_or_else(|| node.operator.name().to_owned());
        found.extend(node.predicates.iter().map(|predicate| (place.clone(), predicate.text.clone())));
    }
    found
}

#[test]
fn constants_are_folded_where_nothing_can_fail() {
    for (sql, expected) in [
        ("SELECT name FROM bed WHERE bed_id > 1 + 2", "bed.bed_id > 3"),
        (
            "SELECT name FROM bed WHERE opened > DATE '2020-01-31' + INTERVAL '1' MONTH",
            "bed.opened > DATE '2020-02-29'",
        ),
        ("SELECT name FROM bed WHERE name = 'a' || 'b'", "bed.name = 'ab'"),
        ("SELECT name FROM bed WHERE name = CASE WHEN 1 < 2 THEN 'x' ELSE 'y' END", "bed.name = 'x'"),
        ("SELECT name FROM bed WHERE bed_id > 1 AND 2 > 1", "bed.bed_id > 1"),
        ("SELECT name FROM bed WHERE bed_id > 1 OR 2 < 1", "bed.bed_id > 1"),
        ("SELECT name FROM bed WHERE bed_id > COALESCE(NULL, 3)", "bed.bed_id > 3"),
        ("SELECT name FROM bed WHERE bed_id > NULLIF(4, 5)", "bed.bed_id > 4"),
    ] {
        assert_eq!(conditions(sql), [("bed".to_owned(), expected.to_owned())], "{sql}");
        assert!(fired(sql, "fold constants") >= 1, "{sql}");
    }
    // What fails is left for a row to reach, and no row reaches it here.
    let sql = "SELECT name FROM bed WHERE bed_id > 99 AND bed_id > 1 / 0";
    assert_eq!(conditions(sql)[1].1, "bed.bed_id > 1 / 0");
    assert_eq!(run(&mut session(), sql).unwrap(), "");
    assert_eq!(
        run(&mut session(), "SELECT name FROM bed WHERE bed_id = 1 OR bed_id > 1 / 0").unwrap_err().sqlstate().as_str(),
        "22012"
    );
    assert_eq!(fired("SELECT name FROM bed WHERE bed_id > 1", "fold constants"), 0);
}

#[test]
fn conditions_that_are_never_true_leave_no_rows_to_read() {
    for sql in [
        "SELECT name FROM bed WHERE 1 = 2",
        "SELECT name FROM bed WHERE NULL",
        "SELECT name FROM bed WHERE sun = NULL",
        "SELECT name FROM bed WHERE NULL <> sun AND bed_id > 0",
        "SELECT name FROM bed WHERE bed_id > 0 AND FALSE",
        "SELECT name FROM bed JOIN task USING (bed_id) WHERE 'a' = 'b'",
        "SELECT b.name FROM bed b JOIN task t ON b.bed_id = t.bed_id AND 1 = 0",
    ] {
        assert_eq!(plan(sql).nodes().iter().filter(|node| node.target.is_some()).count(), 0, "{sql}");
        assert_eq!(run(&mut session(), sql).unwrap(), "", "{sql}");
    }
    // The NULL trap: NOT of UNKNOWN is UNKNOWN; IS UNKNOWN of it is TRUE.
    assert_eq!(run(&mut session(), "SELECT COUNT(*) FROM bed WHERE NOT (sun = NULL)").unwrap(), "0");
    assert_eq!(run(&mut session(), "SELECT COUNT(*) FROM bed WHERE (sun = NULL) IS UNKNOWN").unwrap(), "5");
    assert_eq!(run(&mut session(), "SELECT COUNT(*) FROM bed WHERE sun = NULL OR bed_id = 1").unwrap(), "1");
}

#[test]
fn filters_go_to_the_one_table_they_concern() {
    let sql = "SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id AND t.hours > 1 AND b.area > t.hours
               WHERE b.sun = 'shade' AND t.kind = 'weeding' AND (b.ph > 5 OR t.done)";
    let mut found = conditions(sql);
    found.sort();
    let expected = [
        ("b", "b.sun = 'shade'"),
        ("hash join", "b.area > CAST(t.hours AS NUMERIC(6,2))"),
        ("hash join", "b.ph > 5.0 OR t.done"),
        ("hash join", "t.bed_id = b.bed_id"),
        ("t", "t.hours > 1.00"),
        ("t", "t.kind = 'weeding'"),
    ];
    assert_eq!(found, expected.map(|(place, text)| (place.to_owned(), text.to_owned())));
    assert_eq!(fired(sql, "predicate pushdown"), 3, "each once, and no more");
}

#[test]
fn filters_that_can_fail_stay_above_the_join() {
    // Task 6 has no bed and no join match; dividing by what it has there would fail.
    let sql =
        "SELECT t.task_id FROM task t JOIN bed b ON t.bed_id = b.bed_id WHERE 12 / (t.task_id - 6) < 0 ORDER BY 1";
    assert_eq!(run(&mut session(), sql).unwrap(), "1; 2; 3; 4; 5");
    assert_eq!(fired(sql, "predicate pushdown"), 0);
    assert_eq!(conditions(sql)[0], ("filter".to_owned(), "12 / (t.task_id - 6) < 0".to_owned()));
    assert_eq!(
        run(&mut session(), "SELECT task_id FROM task WHERE 12 / (task_id - 6) < 0").unwrap_err().sqlstate().as_str(),
        "22012"
    );
    // Decimals with digits to spare cannot overflow, so this one moves.
    assert_eq!(
        fired("SELECT 1 FROM task t JOIN bed b ON t.bed_id = b.bed_id WHERE t.hours * 2.5 > 3", "predicate pushdown"),
        1
    );
}

#[test]
fn having_on_grouping_columns_becomes_a_filter_of_rows() {
    let sql = "SELECT kind, COUNT(*) FROM task GROUP BY kind HAVING kind <> 'pruning' AND COUNT(*) > 0";
    assert_eq!(
        conditions(sql),
        [("filter".to_owned(), "COUNT(*) > 0".to_owned()), ("task".to_owned(), "task.kind <> 'pruning'".to_owned())]
    );
    assert_eq!(run(&mut session(), sql).unwrap(), "weeding|4; watering|1");
    // The duplicate trap: an aggregate over all rows gives its one row whatever HAVING says of constants.
    for (sql, expected) in [
        ("SELECT COUNT(*) FROM task HAVING 1 = 1", "7"),
        ("SELECT COUNT(*) FROM task HAVING 1 = 2", ""),
        ("SELECT COUNT(*) FROM task WHERE 1 = 2 HAVING COUNT(*) = 0", "0"),
        ("SELECT hours > 1, COUNT(*) FROM task GROUP BY hours > 1 HAVING hours > 1", "TRUE|4"),
        ("SELECT sun, COUNT(*) FROM bed GROUP BY sun HAVING sun IS NULL", "NULL|1"),
    ] {
        assert_eq!(run(&mut session(), sql).unwrap(), expected, "{sql}");
    }
}

#[test]
fn the_same_query_is_rewritten_the_same_way_again() {
    for sql in
        ["SELECT 1 FROM task t, bed b WHERE t.bed_id = b.bed_id AND b.sun = 'a' || 'b' AND t.done", "SELECT 1 + 1"]
    {
        let (first, second) = (plan(sql), plan(sql));
        let changes = |plan: &Plan| plan.rewrites.iter().map(|rewrite| rewrite.change.clone()).collect::<Vec<_>>();
        assert_eq!(changes(&first), changes(&second), "{sql}");
        assert_eq!(first.fingerprint, second.fingerprint, "{sql}");
    }
}
