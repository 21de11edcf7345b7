//! UNION, INTERSECT and EXCEPT: multiplicities, precedence, NULLs, common types and order. Rows are computed by hand.

use crate::support::{check_problems, check_rows, session, shape};

#[test]
fn multiplicities_are_those_of_the_standard() {
    // m copies on the left and n on the right: UNION ALL m + n, INTERSECT ALL min, EXCEPT ALL max(m - n, 0).
    let left = "(VALUES (1), (1), (1), (2), (2), (NULL), (NULL), (4)) AS l (x)";
    let right = "(VALUES (1), (2), (2), (2), (NULL), (5)) AS r (x)";
    let cases = [
        ("UNION", "1; 2; 4; 5; NULL"),
        ("UNION ALL", "1; 1; 1; 1; 2; 2; 2; 2; 2; 4; 5; NULL; NULL; NULL"),
        ("INTERSECT", "1; 2; NULL"),
        ("INTERSECT ALL", "1; 2; 2; NULL"),
        ("EXCEPT", "4"),
        ("EXCEPT ALL", "1; 1; 4; NULL"),
    ];
    let owned: Vec<(String, &str)> = cases
        .iter()
        .map(|(op, rows)| (format!("SELECT x FROM {left} {op} SELECT x FROM {right} ORDER BY x"), *rows))
        .collect();
    check_rows(&owned.iter().map(|(sql, rows)| (sql.as_str(), *rows)).collect::<Vec<_>>());
}

#[test]
fn precedence_parentheses_and_order() {
    check_rows(&[
        ("VALUES (1) UNION VALUES (2) EXCEPT VALUES (1)", "2"),
        ("VALUES (1) UNION (VALUES (2) EXCEPT VALUES (2))", "1"),
        ("VALUES (1), (2) EXCEPT VALUES (1), (3) INTERSECT VALUES (1), (2) ORDER BY 1", "2"),
        ("(VALUES (1) UNION ALL VALUES (1)) UNION VALUES (1)", "1"),
        ("VALUES (1) UNION VALUES (1) UNION ALL VALUES (1)", "1; 1"),
        ("SELECT bed_id FROM bed UNION SELECT 9 ORDER BY bed_id DESC OFFSET 1 ROW FETCH FIRST 2 ROWS ONLY", "5; 4"),
        ("(SELECT bed_id AS n FROM bed ORDER BY n DESC FETCH FIRST 2 ROWS ONLY) EXCEPT VALUES (5)", "4"),
        ("SELECT COUNT(*) FROM (SELECT sun FROM bed UNION SELECT kind FROM task) AS x", "6"),
        // In a condition, dependent on the row around it.
        (
            "SELECT bed_id FROM bed b WHERE bed_id IN (SELECT bed_id FROM task UNION SELECT b.bed_id FROM task WHERE b.ph = 4) \
             ORDER BY 1",
            "1; 2; 3; 4",
        ),
        (
            "SELECT b.bed_id, (SELECT COUNT(*) FROM (SELECT kind FROM task t WHERE t.bed_id = b.bed_id INTERSECT \
             SELECT kind FROM task WHERE done) AS x) FROM bed b ORDER BY 1",
            "1|1; 2|1; 3|2; 4|0; 5|0",
        ),
    ]);
}

#[test]
fn columns_get_a_common_type_and_the_first_names() {
    let mut session = session();
    for (sql, types) in [
        ("SELECT 1 AS n UNION SELECT 2.5", "n NUMERIC(11,1)"),
        ("SELECT CAST(1 AS SMALLINT) AS n UNION ALL SELECT CAST(1 AS BIGINT)", "n BIGINT"),
        ("SELECT NULL AS n UNION SELECT DATE '2024-01-01'", "n DATE"),
        ("SELECT 1.5E0 AS n EXCEPT SELECT 1", "n DOUBLE PRECISION"),
        ("SELECT CAST('a' AS CHAR(2)) AS n UNION SELECT CAST('b' AS VARCHAR(5))", "n VARCHAR(5)"),
        ("SELECT CAST('a' AS VARCHAR(2)) AS n UNION SELECT CAST('b' AS VARCHAR(5)) UNION SELECT NULL", "n VARCHAR(5)"),
        ("VALUES (1, 'a') UNION VALUES (2, 'b')", "column_1 INTEGER, column_2 VARCHAR"),
    ] {
        let rows = session.query(sql, ()).unwrap();
        let found: Vec<String> =
            rows.columns().iter().map(|column| format!("{} {}", column.name, column.sql_type)).collect();
        assert_eq!(found.join(", "), types, "{sql}");
    }
    check_problems(&[
        ("SELECT 1 UNION SELECT DATE '2024-01-01'", "42000", "UNION", "no common type … DATE   <-- here"),
        ("SELECT 1, 2 EXCEPT ALL SELECT 1", "42000", "EXCEPT", "2 columns in query 1 with 1 in query 2"),
        ("SELECT bed_id FROM bed UNION CORRESPONDING SELECT kind FROM task", "42000", "UNION", "no column"),
        (
            "SELECT bed_id FROM bed UNION CORRESPONDING BY (bed_id, sun) SELECT bed_id FROM task",
            "42S22",
            "sun",
            "of CORRESPONDING BY",
        ),
        ("SELECT bed_id FROM bed UNION SELECT bed_id FROM task ORDER BY area", "42S22", "area", "no column"),
    ]);
}

#[test]
fn corresponding_takes_columns_by_name() {
    check_rows(&[
        ("SELECT 1 AS a, 2 AS b UNION CORRESPONDING SELECT 3 AS b, 4 AS c, 5 AS a ORDER BY 1", "1|2; 5|3"),
        ("SELECT 1 AS a, 2 AS b UNION CORRESPONDING BY (b) SELECT 3 AS b, 5 AS a ORDER BY 1", "2; 3"),
        ("SELECT bed_id, kind FROM task INTERSECT CORRESPONDING SELECT name, bed_id FROM bed ORDER BY 1", "1; 2; 3"),
    ]);
}

#[test]
fn plans_of_set_operators() {
    let mut session = session();
    for (sql, expected) in [
        ("SELECT bed_id FROM bed UNION ALL SELECT bed_id FROM task", "union all (table scan bed, table scan task)"),
        (
            "SELECT bed_id FROM bed UNION SELECT bed_id FROM task",
            "distinct (union all (table scan bed, table scan task))",
        ),
    ] {
        assert_eq!(shape(&session.plan(sql, ()).unwrap()), expected, "{sql}");
    }
}
