//! Predicates of clause 8.

use crate::support::{check_problems, check_rows, check_values, notes};

#[test]
fn between_includes_its_bounds() {
    check_rows(&[
        ("SELECT bed_id FROM bed WHERE bed_id BETWEEN 2 AND 4", "2; 3; 4"),
        ("SELECT bed_id FROM bed WHERE bed_id BETWEEN 4 AND 2", ""),
        ("SELECT bed_id FROM bed WHERE bed_id BETWEEN SYMMETRIC 4 AND 2", "2; 3; 4"),
        ("SELECT bed_id FROM bed WHERE bed_id BETWEEN ASYMMETRIC 4 AND 2", ""),
        ("SELECT bed_id FROM bed WHERE bed_id NOT BETWEEN 2 AND 4", "1; 5"),
        ("SELECT bed_id FROM bed WHERE ph NOT BETWEEN 5 AND 7", "4; 5"),
        ("SELECT bed_id FROM bed WHERE opened BETWEEN DATE '2000-01-01' AND DATE '2010-12-31'", "2; 3"),
        ("SELECT bed_id FROM bed WHERE name BETWEEN 'B' AND 'G'", "1; 4"),
    ]);
    // A bound that is NULL: FALSE when the other one fails, else UNKNOWN.
    check_values(&[
        ("1 BETWEEN 2 AND CAST(NULL AS INTEGER)", "FALSE", "BOOLEAN"),
        ("3 BETWEEN 2 AND CAST(NULL AS INTEGER)", "NULL", "BOOLEAN"),
        ("3 NOT BETWEEN 5 AND CAST(NULL AS INTEGER)", "TRUE", "BOOLEAN"),
    ]);
}

#[test]
fn in_list_and_its_nulls() {
    check_rows(&[
        ("SELECT bed_id FROM bed WHERE bed_id IN (1, 3, 99)", "1; 3"),
        ("SELECT bed_id FROM bed WHERE bed_id NOT IN (1, 3, 99)", "2; 4; 5"),
        ("SELECT bed_id FROM bed WHERE sun IN ('shade', 'x')", "1; 5"),
        ("SELECT bed_id FROM bed WHERE sun NOT IN ('shade', 'x')", "2; 3"),
        ("SELECT bed_id FROM bed WHERE bed_id NOT IN (1, NULL)", ""),
        ("SELECT bed_id FROM bed WHERE bed_id IN (1, NULL)", "1"),
        ("SELECT bed_id FROM bed WHERE bed_id IN (bed_id, 7)", "1; 2; 3; 4; 5"),
        ("SELECT bed_id FROM bed WHERE area IN (8, 30, 31, 32, 33, 34)", "2; 4"),
        ("SELECT bed_id FROM bed WHERE bed_id IN (1, 2, 3, 4, 6, 7, NULL)", "1; 2; 3; 4"),
        ("SELECT bed_id FROM bed WHERE bed_id NOT IN (1, 2, 3, 4, 6, 7, NULL)", ""),
        ("SELECT bed_id FROM bed WHERE name IN ('a', 'b', 'c', 'd', 'Bog', NULL)", "4"),
        ("SELECT bed_id FROM bed WHERE name NOT IN ('a', 'b', 'c', 'd', 'Bog')", "1; 2; 3; 5"),
        ("SELECT bed_id FROM bed WHERE opened IN (DATE '2000-02-29')", "2"),
    ]);
    check_values(&[
        ("2 IN (1, NULL)", "NULL", "BOOLEAN"),
        ("1 IN (1, NULL)", "TRUE", "BOOLEAN"),
        ("NULL IN (1, 2)", "NULL", "BOOLEAN"),
        ("1.0 IN (1)", "TRUE", "BOOLEAN"),
    ]);
}

#[test]
fn like_and_escape() {
    check_rows(&[
        ("SELECT name FROM bed WHERE name LIKE '%o%'", "Rose walk; Bog"),
        ("SELECT name FROM bed WHERE name LIKE 'S____'", "Scree"),
        ("SELECT name FROM bed WHERE name NOT LIKE '%e%'", "Bog"),
        ("SELECT name FROM bed WHERE name LIKE '%!%!_%' ESCAPE '!'", "100%_lime"),
        ("SELECT name FROM bed WHERE sun LIKE '%'", "Fern gully; Scree; Rose walk; 100%_lime"),
        ("SELECT name FROM bed WHERE name LIKE sun", ""),
        ("SELECT bed_id FROM bed WHERE name LIKE name", "1; 2; 3; 4; 5"),
        ("SELECT name FROM bed WHERE name LIKE NULL", ""),
    ]);
    check_values(&[
        ("'' LIKE '%'", "TRUE", "BOOLEAN"),
        ("'bëd' LIKE 'b_d'", "TRUE", "BOOLEAN"),
        ("CAST(NULL AS VARCHAR) LIKE 'x'", "NULL", "BOOLEAN"),
        ("'Bed' LIKE 'bed'", "FALSE", "BOOLEAN"),
    ]);
    check_problems(&[
        ("SELECT 'a' LIKE 'a' ESCAPE 'xy'", "22019", "'a' LIKE 'a' ESCAPE 'xy'", "not one character"),
        ("SELECT 'a' LIKE 'a!' ESCAPE '!'", "22025", "'a' LIKE 'a!' ESCAPE '!'", "escape"),
        ("SELECT 5 LIKE '5'", "42000", "5", "LIKE needs text"),
    ]);
}

#[test]
fn distinct_from_takes_null_as_a_value() {
    check_rows(&[
        ("SELECT bed_id FROM bed WHERE sun IS DISTINCT FROM 'shade'", "2; 3; 4"),
        ("SELECT bed_id FROM bed WHERE sun IS NOT DISTINCT FROM NULL", "4"),
        ("SELECT bed_id FROM bed WHERE sun IS NOT DISTINCT FROM 'shade'", "1; 5"),
    ]);
    check_values(&[
        ("NULL IS NOT DISTINCT FROM NULL", "TRUE", "BOOLEAN"),
        ("1 IS DISTINCT FROM 1.0", "FALSE", "BOOLEAN"),
        ("CAST(NULL AS INTEGER) IS DISTINCT FROM 1", "TRUE", "BOOLEAN"),
    ]);
}

#[test]
fn case_takes_the_first_true_branch() {
    check_rows(&[
        ("SELECT CASE sun WHEN 'shade' THEN 's' WHEN 'full sun' THEN 'f' END FROM bed", "s; f; f; NULL; s"),
        (
            "SELECT CASE WHEN area > 10 THEN 'big' WHEN area > 5 THEN 'mid' ELSE 'none' END FROM bed",
            "big; mid; big; big; none",
        ),
        ("SELECT CASE WHEN sun = 'shade' THEN 1 ELSE 2.5 END FROM bed", "1.0; 2.5; 2.5; 2.5; 1.0"),
        ("SELECT COUNT(CASE WHEN sun = 'shade' THEN 1 END) FROM bed", "2"),
    ]);
    check_values(&[
        ("CASE WHEN NULL THEN 1 END", "NULL", "INTEGER"),
        ("CASE 1 WHEN 1 THEN 'x' ELSE NULL END", "x", "VARCHAR"),
        ("CASE NULL WHEN NULL THEN 1 ELSE 2 END", "2", "INTEGER"),
        ("COALESCE(NULL, 2, 1 / 0)", "2", "INTEGER"),
        ("COALESCE(NULL, NULL)", "NULL", "VARCHAR"),
        ("COALESCE(1, 2.50)", "1.00", "NUMERIC(12,2)"),
        ("NULLIF(3, 3)", "NULL", "INTEGER"),
        ("NULLIF(3, 4)", "3", "INTEGER"),
        ("NULLIF('a', NULL)", "a", "VARCHAR"),
    ]);
}

#[test]
fn comparisons_with_null_are_noted() {
    assert_eq!(notes("SELECT bed_id FROM bed WHERE sun = NULL"), ["null-comparison"]);
    assert_eq!(notes("SELECT bed_id FROM bed WHERE NULL <> sun"), ["null-comparison"]);
    assert_eq!(notes("SELECT bed_id FROM bed WHERE sun IS NULL"), [""; 0]);
}
