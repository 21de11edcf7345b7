//! Windows: every function, frame and exclusion, over rows with ties and NULLs. Expected rows are computed by hand.

use crate::support::{check_problems, check_rows, run, session};

/// A query over the readings `(k, g, x)`: two groups, a tie in x within each, one NULL.
fn over(columns: &str, tail: &str) -> String {
    format!(
        "SELECT k, {columns} FROM (VALUES (1, 'a', 10), (2, 'a', 20), (3, 'a', 20), (4, 'a', NULL), (5, 'b', 5), \
         (6, 'b', 5), (7, 'b', 8)) AS r (k, g, x) {tail} ORDER BY k"
    )
}

/// The value of one window call in each of the seven rows.
fn check(cases: &[(&str, &str)]) {
    let mut session = session();
    let mut wrong = Vec::new();
    for (call, expected) in cases {
        let found = match run(&mut session, &over(call, "")) {
            Ok(rows) => rows.split("; ").map(|row| row.split_once('|').unwrap().1).collect::<Vec<_>>().join(" "),
            Err(error) => error.to_string(),
        };
        if found != *expected {
            wrong.push(format!("{call}\n  expected {expected}\n  found    {found}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn ranks_count_ties_in_their_own_way() {
    check(&[
        ("ROW_NUMBER() OVER (PARTITION BY g ORDER BY k)", "1 2 3 4 1 2 3"),
        // NULL comes last in ascending order unless told otherwise.
        ("RANK() OVER (PARTITION BY g ORDER BY x)", "1 2 2 4 1 1 3"),
        ("DENSE_RANK() OVER (PARTITION BY g ORDER BY x)", "1 2 2 3 1 1 2"),
        ("RANK() OVER (PARTITION BY g ORDER BY x NULLS FIRST)", "2 3 3 1 1 1 3"),
        ("RANK() OVER (PARTITION BY g ORDER BY x DESC NULLS LAST)", "3 1 1 4 2 2 1"),
        ("RANK() OVER (ORDER BY g)", "1 1 1 1 5 5 5"),
        (
            "PERCENT_RANK() OVER (PARTITION BY g ORDER BY k)",
            "0.0 0.3333333333333333 0.6666666666666666 1.0 0.0 0.5 1.0",
        ),
        (
            "CUME_DIST() OVER (PARTITION BY g ORDER BY x)",
            "0.25 0.75 0.75 1.0 0.6666666666666666 0.6666666666666666 1.0",
        ),
        // Parts as even as can be, the larger ones first.
        ("NTILE(3) OVER (ORDER BY k)", "1 1 1 2 2 3 3"),
        ("NTILE(9) OVER (ORDER BY k)", "1 2 3 4 5 6 7"),
    ]);
}

#[test]
fn neighbours_are_found_by_place() {
    check(&[
        ("LAG(x) OVER (ORDER BY k)", "NULL 10 20 20 NULL 5 5"),
        ("LEAD(x) OVER (PARTITION BY g ORDER BY k)", "20 20 NULL NULL 5 8 NULL"),
        ("LAG(x, 2) OVER (PARTITION BY g ORDER BY k)", "NULL NULL 10 20 NULL NULL 5"),
        ("LAG(x, 0) OVER (ORDER BY k)", "10 20 20 NULL 5 5 8"),
        ("LEAD(x, 1, -1) OVER (PARTITION BY g ORDER BY k)", "20 20 NULL -1 5 8 -1"),
        ("LEAD(x) IGNORE NULLS OVER (ORDER BY k)", "20 20 5 5 5 8 NULL"),
        ("LAG(x, 2) IGNORE NULLS OVER (ORDER BY k)", "NULL NULL 10 20 20 20 5"),
        ("FIRST_VALUE(k) OVER (PARTITION BY g ORDER BY x DESC NULLS LAST, k)", "2 2 2 2 7 7 7"),
        (
            "FIRST_VALUE(x) IGNORE NULLS OVER (ORDER BY k ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING)",
            "10 20 20 5 5 5 8",
        ),
        ("LAST_VALUE(x) OVER (PARTITION BY g ORDER BY k)", "10 20 20 NULL 5 5 8"),
        ("LAST_VALUE(x) IGNORE NULLS OVER (PARTITION BY g ORDER BY k)", "10 20 20 20 5 5 8"),
        ("NTH_VALUE(x, 2) OVER (PARTITION BY g ORDER BY k)", "NULL 20 20 20 NULL 5 5"),
        (
            "NTH_VALUE(k, 2) FROM LAST OVER (PARTITION BY g ORDER BY k RANGE BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)",
            "3 3 3 3 6 6 6",
        ),
    ]);
}

#[test]
fn frames_are_counted_in_rows_values_or_groups() {
    check(&[
        // Without a frame: up to the last peer; without an order: the entire partition.
        ("SUM(k) OVER (PARTITION BY g ORDER BY x)", "1 6 6 10 11 11 18"),
        ("SUM(k) OVER (PARTITION BY g)", "10 10 10 10 18 18 18"),
        ("SUM(k) OVER ()", "28 28 28 28 28 28 28"),
        ("SUM(x) OVER (ORDER BY k ROWS 1 PRECEDING)", "10 30 40 20 5 10 13"),
        ("SUM(k) OVER (ORDER BY k ROWS BETWEEN 2 PRECEDING AND 1 PRECEDING)", "NULL 1 3 5 7 9 11"),
        ("COUNT(*) OVER (ORDER BY k ROWS BETWEEN 1 FOLLOWING AND 3 FOLLOWING)", "3 3 3 3 2 1 0"),
        ("SUM(k) OVER (ORDER BY k ROWS BETWEEN UNBOUNDED PRECEDING AND 5 PRECEDING)", "NULL NULL NULL NULL NULL 1 3"),
        ("MIN(x) OVER (ORDER BY k ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING)", "10 10 20 5 5 5 5"),
        ("MAX(x) OVER (ORDER BY k ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING)", "20 20 20 20 5 8 8"),
        ("AVG(k) OVER (ORDER BY k ROWS BETWEEN CURRENT ROW AND CURRENT ROW) = k", "TRUE TRUE TRUE TRUE TRUE TRUE TRUE"),
        // Values: 5 5 8 10 20 20 NULL in this order; NULL is only near NULL.
        ("COUNT(*) OVER (ORDER BY x RANGE BETWEEN 3 PRECEDING AND 2 FOLLOWING)", "2 2 2 1 2 2 4"),
        ("COUNT(*) OVER (ORDER BY x DESC RANGE BETWEEN 3 PRECEDING AND 2 FOLLOWING)", "2 2 2 1 3 3 2"),
        ("COUNT(*) OVER (ORDER BY x RANGE BETWEEN 10 FOLLOWING AND UNBOUNDED FOLLOWING)", "3 1 1 1 3 3 3"),
        ("SUM(k) OVER (ORDER BY x RANGE CURRENT ROW)", "1 5 5 4 11 11 7"),
        // Groups of peers: {5 6} {7} {1} {2 3} {4}.
        ("SUM(k) OVER (ORDER BY x GROUPS BETWEEN 1 PRECEDING AND 1 FOLLOWING)", "13 10 10 9 18 18 19"),
        ("COUNT(*) OVER (ORDER BY x GROUPS BETWEEN 2 FOLLOWING AND 3 FOLLOWING)", "1 0 0 0 3 3 3"),
        ("COUNT(*) OVER (PARTITION BY g ORDER BY x GROUPS UNBOUNDED PRECEDING)", "1 3 3 4 2 2 3"),
    ]);
}

#[test]
fn exclusions_leave_out_the_row_its_peers_or_its_ties() {
    let frame = "ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING";
    let call = |exclude: &str| format!("SUM(k) OVER (PARTITION BY g ORDER BY x {frame} EXCLUDE {exclude})");
    let owned = [
        (call("NO OTHERS"), "10 10 10 10 18 18 18"),
        (call("CURRENT ROW"), "9 8 7 6 13 12 11"),
        (call("GROUP"), "9 5 5 6 7 7 11"),
        (call("TIES"), "10 7 8 10 12 13 18"),
        // The only row of a frame is omitted: no rows.
        (format!("COUNT(x) OVER (ORDER BY k ROWS CURRENT ROW EXCLUDE {})", "CURRENT ROW"), "0 0 0 0 0 0 0"),
        (
            "FIRST_VALUE(k) OVER (ORDER BY k ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE CURRENT ROW)".to_owned(),
            "2 1 2 3 4 5 6",
        ),
    ];
    check(&owned.iter().map(|(call, expected)| (call.as_str(), *expected)).collect::<Vec<_>>());
}

#[test]
fn every_aggregate_is_a_window() {
    let frame = "OVER (PARTITION BY g ORDER BY k ROWS BETWEEN 1 PRECEDING AND CURRENT ROW)";
    let cases = [
        ("COUNT(x)", "1 2 2 1 1 2 2"),
        ("COUNT(*) FILTER (WHERE x > 5)", "1 2 2 1 0 0 1"),
        ("EVERY(x > 5)", "TRUE TRUE TRUE TRUE FALSE FALSE FALSE"),
        ("SOME(x > 5)", "TRUE TRUE TRUE TRUE FALSE FALSE TRUE"),
        ("VAR_POP(x)", "0.0 25.0 0.0 0.0 0.0 0.0 2.25"),
        ("VAR_SAMP(x)", "NULL 50.0 0.0 NULL NULL 0.0 4.5"),
        ("STDDEV_POP(x)", "0.0 5.0 0.0 0.0 0.0 0.0 1.5"),
        ("COVAR_POP(x, k)", "0.0 2.5 0.0 0.0 0.0 0.0 0.75"),
        ("REGR_COUNT(x, k)", "1 2 2 1 1 2 2"),
        ("BIT_OR_AGG(x)", "10 30 20 20 5 5 13"),
        ("BIT_AND_AGG(x)", "10 0 20 20 5 5 0"),
        ("ARRAY_AGG(x)", "[10] [10, 20] [20, 20] [20, NULL] [5] [5, 5] [5, 8]"),
        ("ANY_VALUE(g)", "a a a a b b b"),
    ];
    let owned: Vec<(String, &str)> =
        cases.iter().map(|(call, expected)| (format!("{call} {frame}"), *expected)).collect();
    check(&owned.iter().map(|(call, expected)| (call.as_str(), *expected)).collect::<Vec<_>>());
}

#[test]
fn named_windows_are_refined() {
    let mut session = session();
    for (columns, tail, expected) in [
        ("SUM(k) OVER w", "WINDOW w AS (PARTITION BY g)", "1|10; 2|10; 3|10; 4|10; 5|18; 6|18; 7|18"),
        ("SUM(k) OVER (w ORDER BY k)", "WINDOW w AS (PARTITION BY g)", "1|1; 2|3; 3|6; 4|10; 5|5; 6|11; 7|18"),
        (
            "SUM(k) OVER (v ROWS 1 PRECEDING), COUNT(*) OVER w",
            "WINDOW w AS (PARTITION BY g), v AS (w ORDER BY k)",
            "1|1|4; 2|3|4; 3|5|4; 4|7|4; 5|5|3; 6|11|3; 7|13|3",
        ),
    ] {
        assert_eq!(run(&mut session, &over(columns, tail)).unwrap(), expected, "{columns} {tail}");
    }
    check_problems(&[
        (
            "SELECT SUM(area) OVER (w PARTITION BY sun) FROM bed WINDOW w AS (ORDER BY area)",
            "42000",
            "(w PARTITION BY sun)",
            "add PARTITION BY",
        ),
        (
            "SELECT SUM(area) OVER (w ORDER BY sun) FROM bed WINDOW w AS (ORDER BY area)",
            "42000",
            "(w ORDER BY sun)",
            "ORDER BY",
        ),
        ("SELECT 1 FROM bed WINDOW w AS (ORDER BY area), w AS (ORDER BY sun)", "42000", "w", "two windows"),
        ("SELECT 1 FROM bed WINDOW v AS (w), w AS (ORDER BY sun)", "42000", "w", "no window"),
    ]);
}

#[test]
fn windows_stand_beside_grouping_distinct_and_order() {
    check_rows(&[
        // After grouping.
        (
            "SELECT kind, COUNT(*), RANK() OVER (ORDER BY COUNT(*) DESC) FROM task GROUP BY kind ORDER BY 3",
            "weeding|4|1; pruning|2|2; watering|1|3",
        ),
        // Before DISTINCT.
        ("SELECT DISTINCT COUNT(*) OVER (PARTITION BY sun) FROM bed ORDER BY 1", "1; 2"),
        // In ORDER BY, and filtered in a query around it.
        ("SELECT bed_id FROM bed ORDER BY RANK() OVER (ORDER BY area DESC NULLS LAST) FETCH FIRST 2 ROWS ONLY", "4; 3"),
        (
            "SELECT kind, task_id FROM (SELECT t.*, ROW_NUMBER() OVER (PARTITION BY kind ORDER BY hours DESC NULLS LAST) AS n \
             FROM task t) AS x WHERE n = 1 ORDER BY kind",
            "pruning|6; watering|5; weeding|4",
        ),
        // Dates and intervals as a range.
        (
            "SELECT task_id, COUNT(*) OVER (ORDER BY day RANGE BETWEEN INTERVAL '1' DAY PRECEDING AND CURRENT ROW) \
             FROM task ORDER BY task_id",
            "1|1; 2|2; 3|1; 4|1; 5|2; 6|3; 7|3",
        ),
        // No rows.
        ("SELECT ROW_NUMBER() OVER (ORDER BY bed_id) FROM bed WHERE FALSE", ""),
    ]);
}
