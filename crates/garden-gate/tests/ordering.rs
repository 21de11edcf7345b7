//! ORDER BY, OFFSET, FETCH FIRST, LIMIT.

use crate::support::{check_problems, check_rows, session, show};

#[test]
fn sort_keys() {
    check_rows(&[
        ("SELECT name FROM bed ORDER BY name", "100%_lime; Bog; Fern gully; Rose walk; Scree"),
        ("SELECT bed_id FROM bed ORDER BY area DESC", "4; 3; 1; 2; 5"),
        ("SELECT bed_id FROM bed ORDER BY area", "2; 1; 3; 4; 5"),
        ("SELECT bed_id FROM bed ORDER BY area NULLS FIRST", "5; 2; 1; 3; 4"),
        ("SELECT bed_id FROM bed ORDER BY area DESC NULLS FIRST", "5; 4; 3; 1; 2"),
        ("SELECT bed_id FROM bed ORDER BY area DESC NULLS LAST", "4; 3; 1; 2; 5"),
        ("SELECT sun, bed_id FROM bed ORDER BY sun DESC, 2 DESC", "shade|5; shade|1; full sun|3; full sun|2; NULL|4"),
        ("SELECT area * 2 AS twice FROM bed ORDER BY twice", "16.00; 25.00; 40.50; 60.00; NULL"),
        ("SELECT bed_id FROM bed ORDER BY -bed_id", "5; 4; 3; 2; 1"),
        ("SELECT bed_id AS area FROM bed ORDER BY area DESC", "5; 4; 3; 2; 1"),
        ("SELECT name FROM bed ORDER BY opened, name", "Fern gully; Scree; Rose walk; 100%_lime; Bog"),
        ("SELECT task_id FROM task ORDER BY kind", "3; 6; 5; 1; 2; 4; 7"),
        ("SELECT task_id FROM task ORDER BY done, task_id DESC", "6; 2; 7; 5; 3; 1; 4"),
        ("SELECT bed_id, bed_id + 1 FROM bed ORDER BY bed_id + 1 DESC FETCH FIRST 2 ROWS ONLY", "5|6; 4|5"),
    ]);
}

#[test]
fn windows_of_rows() {
    check_rows(&[
        ("SELECT bed_id FROM bed FETCH FIRST 2 ROWS ONLY", "1; 2"),
        ("SELECT bed_id FROM bed FETCH NEXT ROW ONLY", "1"),
        ("SELECT bed_id FROM bed OFFSET 3 ROWS", "4; 5"),
        ("SELECT bed_id FROM bed OFFSET 1 ROW FETCH NEXT 2 ROWS ONLY", "2; 3"),
        ("SELECT bed_id FROM bed LIMIT 2", "1; 2"),
        ("SELECT bed_id FROM bed LIMIT 2 OFFSET 2", "3; 4"),
        ("SELECT bed_id FROM bed ORDER BY area DESC LIMIT 2 OFFSET 1", "3; 1"),
        ("SELECT bed_id FROM bed ORDER BY bed_id OFFSET 10 ROWS", ""),
        ("SELECT bed_id FROM bed ORDER BY bed_id OFFSET 3 ROWS", "4; 5"),
        ("SELECT bed_id FROM bed FETCH FIRST 0 ROWS ONLY", ""),
        ("SELECT bed_id FROM bed ORDER BY 1 FETCH FIRST 1 + 1 ROWS ONLY", "1; 2"),
        ("SELECT bed_id FROM bed LIMIT 99999999999", "1; 2; 3; 4; 5"),
        ("SELECT COUNT(*) FROM bed LIMIT 1 OFFSET 1", ""),
    ]);
}

#[test]
fn the_first_rows_are_those_of_the_whole_order() {
    let mut session = crate::support::garden();
    for by in ["hours DESC NULLS FIRST, task_id", "day, hours", "kind DESC"] {
        let all = show(&session.query(format!("SELECT task_id FROM task ORDER BY {by}"), ()).unwrap());
        let all: Vec<&str> = all.split("; ").collect();
        for (offset, fetch) in [(0, 1), (0, 100), (17, 5_000), (5_990, 100), (6_000, 5)] {
            let sql =
                format!("SELECT task_id FROM task ORDER BY {by} OFFSET {offset} ROWS FETCH FIRST {fetch} ROWS ONLY");
            let end = all.len().min(offset + fetch);
            assert_eq!(show(&session.query(&sql, ()).unwrap()), all[offset..end].join("; "), "{sql}");
        }
    }
}

#[test]
fn orders_that_mean_nothing() {
    check_problems(&[
        ("SELECT name FROM bed ORDER BY 2", "42000", "2", "position 2 … has 1 column"),
        ("SELECT name AS x, area AS x FROM bed ORDER BY x", "42000", "x", "two columns of the result … position"),
        ("SELECT name FROM bed ORDER BY 0", "42000", "0", "position 0"),
        ("SELECT DISTINCT name FROM bed ORDER BY area", "42000", "area", "DISTINCT … SELECT list"),
        ("SELECT name FROM bed ORDER BY nmae", "42S22", "nmae", "did you mean \"name\""),
        ("SELECT name FROM bed FETCH FIRST -1 ROWS ONLY", "2201W", "-1", "0 or more"),
        ("SELECT name FROM bed OFFSET -1 ROWS", "2201X", "-1", "OFFSET"),
        ("SELECT name FROM bed LIMIT 1.5", "2201W", "1.5", "integer"),
        ("SELECT name FROM bed LIMIT bed_id", "42000", "bed_id", "can't use columns"),
        ("SELECT name FROM bed FETCH FIRST 2 ROWS", "42000", "", "expected ONLY"),
        ("SELECT name FROM bed FETCH FIRST 2 ROWS WITH TIES", "42000", "2", "WITH TIES needs ORDER BY"),
    ]);
    assert!(session().query("SELECT name FROM bed LIMIT NULL", ()).is_err());
}
