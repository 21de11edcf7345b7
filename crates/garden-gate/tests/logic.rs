//! Three-valued logic (ISO/IEC 9075-2, clause 6.39), computed from the standard's truth tables.

use crate::support::{check_rows, check_values, session};

const TRUTHS: [(&str, Option<bool>); 3] = [("TRUE", Some(true)), ("FALSE", Some(false)), ("UNKNOWN", None)];

fn word(truth: Option<bool>) -> &'static str {
    match truth {
        Some(true) => "TRUE",
        Some(false) => "FALSE",
        None => "NULL",
    }
}

#[test]
fn and_or_not_follow_the_truth_tables() {
    let mut session = session();
    for (a, x) in TRUTHS {
        for (b, y) in TRUTHS {
            let and = match (x, y) {
                (Some(false), _) | (_, Some(false)) => Some(false),
                (Some(true), Some(true)) => Some(true),
                _ => None,
            };
            let or = match (x, y) {
                (Some(true), _) | (_, Some(true)) => Some(true),
                (Some(false), Some(false)) => Some(false),
                _ => None,
            };
            for (sql, expected) in [
                (format!("SELECT {a} AND {b}"), and),
                (format!("SELECT {a} OR {b}"), or),
                (
                    format!("SELECT NOT {a} AND NOT NOT {b}"),
                    match (x.map(|x| !x), y) {
                        (Some(false), _) | (_, Some(false)) => Some(false),
                        (Some(true), Some(true)) => Some(true),
                        _ => None,
                    },
                ),
            ] {
                assert_eq!(crate::support::run(&mut session, &sql).unwrap(), word(expected), "{sql}");
            }
        }
    }
}

#[test]
fn is_tests_are_never_unknown() {
    let mut session = session();
    for (a, x) in TRUTHS {
        for (test, wanted) in [("TRUE", Some(true)), ("FALSE", Some(false)), ("UNKNOWN", None), ("NULL", None)] {
            for (not, expected) in [("", x == wanted), ("NOT ", x != wanted)] {
                let sql = format!("SELECT {a} IS {not}{test}");
                assert_eq!(crate::support::run(&mut session, &sql).unwrap(), word(Some(expected)), "{sql}");
            }
        }
    }
}

#[test]
fn where_keeps_only_true() {
    check_rows(&[
        ("SELECT bed_id FROM bed WHERE sun = 'shade'", "1; 5"),
        ("SELECT bed_id FROM bed WHERE sun <> 'shade'", "2; 3"),
        ("SELECT bed_id FROM bed WHERE NOT sun = 'shade'", "2; 3"),
        ("SELECT bed_id FROM bed WHERE (sun = 'shade') IS UNKNOWN", "4"),
        ("SELECT bed_id FROM bed WHERE (sun = 'shade') IS NOT TRUE", "2; 3; 4"),
        ("SELECT bed_id FROM bed WHERE sun IS NULL OR area > 25", "4"),
        ("SELECT bed_id FROM bed WHERE sun = 'shade' AND area > 10", "1"),
        ("SELECT bed_id FROM bed WHERE sun = 'shade' OR area > 10", "1; 3; 4; 5"),
        ("SELECT bed_id FROM bed WHERE NOT (sun = 'shade' OR area > 10)", "2"),
        ("SELECT bed_id FROM bed WHERE NULL", ""),
        ("SELECT task_id FROM task WHERE done", "1; 3; 5; 7"),
        ("SELECT task_id FROM task WHERE NOT done", "2; 6"),
        ("SELECT task_id FROM task WHERE done IS UNKNOWN", "4"),
    ]);
}

#[test]
fn every_comparison_with_null_is_unknown() {
    for op in ["=", "<>", "<", "<=", ">", ">="] {
        check_values(&[(&format!("(1 {op} CAST(NULL AS INTEGER)) IS UNKNOWN"), "TRUE", "BOOLEAN")]);
    }
}

#[test]
fn a_later_term_does_not_fail_for_rows_settled_before() {
    check_rows(&[
        ("SELECT bed_id FROM bed WHERE bed_id <> 3 AND 10 / (bed_id - 3) > 5", "4"),
        ("SELECT bed_id FROM bed WHERE bed_id = 3 OR 10 / (bed_id - 3) > 5", "3; 4"),
        ("SELECT CASE WHEN bed_id = 3 THEN 0 ELSE 10 / (bed_id - 3) END FROM bed", "-5; -10; 0; 10; 5"),
        ("SELECT COALESCE(bed_id, 1 / 0) FROM bed WHERE bed_id = 1", "1"),
        ("SELECT bed_id FROM bed WHERE FALSE AND 1 / 0 = 1", ""),
    ]);
}
