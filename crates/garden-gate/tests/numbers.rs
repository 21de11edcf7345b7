//! Exact and approximate numbers: result types, rounding, overflow.

use crate::support::{check_problems, check_rows, check_values, notes};

#[test]
fn result_types_of_arithmetic() {
    check_values(&[
        ("1 + 2", "3", "INTEGER"),
        ("2147483647 - 1", "2147483646", "INTEGER"),
        ("2147483648 + 1", "2147483649", "BIGINT"),
        ("CAST(1 AS SMALLINT) + CAST(2 AS SMALLINT)", "3", "SMALLINT"),
        ("7 / 2", "3", "INTEGER"),
        ("-7 / 2", "-3", "INTEGER"),
        ("1.5 + 1", "2.5", "NUMERIC(12,1)"),
        ("1.25 - 0.5", "0.75", "NUMERIC(4,2)"),
        ("1.25 * 0.5", "0.625", "NUMERIC(4,3)"),
        ("CAST(7 AS NUMERIC(2,1)) / CAST(2 AS NUMERIC(1,0))", "3.500000", "NUMERIC(7,6)"),
        ("1.0 / 3.0", "0.333333", "NUMERIC(8,6)"),
        ("-2.0 / 3.0", "-0.666667", "NUMERIC(8,6)"),
        ("1e0 + 1", "2.0", "DOUBLE PRECISION"),
        ("0.1 + 0.2", "0.3", "NUMERIC(2,1)"),
        ("1e0 / 3 * 3", "1.0", "DOUBLE PRECISION"),
        ("-(3)", "-3", "INTEGER"),
        ("- 1.50", "-1.50", "NUMERIC(3,2)"),
        ("2 + 3 * 4", "14", "INTEGER"),
        ("(2 + 3) * 4", "20", "INTEGER"),
        ("10 - 4 - 3", "3", "INTEGER"),
        ("NULL + 1", "NULL", "INTEGER"),
        ("99999999999999999999 + 1", "100000000000000000000", "NUMERIC(21,0)"),
        ("12345678901234567890123456789012345678", "12345678901234567890123456789012345678", "NUMERIC(38,0)"),
        ("123456789012345678.5 * 2.0", "246913578024691357.00", "NUMERIC(21,2)"),
    ]);
}

#[test]
fn what_does_not_fit_is_an_error() {
    check_problems(&[
        ("SELECT 2147483647 + 1", "22003", "2147483647 + 1", "does not fit INTEGER … BIGINT"),
        ("SELECT -2147483647 - 2", "22003", "-2147483647 - 2", "INTEGER"),
        ("SELECT 65536 * 65536", "22003", "65536 * 65536", "INTEGER"),
        ("SELECT 9223372036854775807 + 1", "22003", "9223372036854775807 + 1", "BIGINT … NUMERIC"),
        (
            "SELECT CAST(30000 AS SMALLINT) + CAST(30000 AS SMALLINT)",
            "22003",
            "CAST(30000 AS SMALLINT) + CAST(30000 AS SMALLINT)",
            "SMALLINT",
        ),
        (
            "SELECT 99999999999999999999999999999999999999 + 1",
            "22003",
            "99999999999999999999999999999999999999 + 1",
            "NUMERIC(38,0)",
        ),
        ("SELECT 1e308 * 10", "22003", "1e308 * 10", "DOUBLE PRECISION"),
        ("SELECT 1 / 0", "22012", "1 / 0", "NULLIF"),
        ("SELECT 1.5 / 0.0", "22012", "1.5 / 0.0", "division by zero"),
        ("SELECT 1e0 / 0", "22012", "1e0 / 0", "division by zero"),
        (
            "SELECT 123456789012345678901234567890123456789",
            "22003",
            "123456789012345678901234567890123456789",
            "38 digits",
        ),
        ("SELECT bed_id / (bed_id - 2) FROM bed", "22012", "bed_id / (bed_id - 2)", "division"),
    ]);
}

#[test]
fn null_lanes_never_raise() {
    check_rows(&[
        ("SELECT 10 / NULLIF(bed_id - 3, 0) FROM bed", "-5; -10; NULL; 10; 5"),
        ("SELECT area / NULLIF(area - 8, 0) FROM bed WHERE bed_id = 2", "NULL"),
        ("SELECT hours * 2 FROM task WHERE task_id = 2", "NULL"),
    ]);
}

#[test]
fn sums_and_averages_are_exact() {
    // Hours: 2.00 + 1.50 + 4.25 + 0.75 + 3.00 + 1.00 = 12.50 over six tasks.
    check_rows(&[
        ("SELECT SUM(hours), AVG(hours), COUNT(hours), COUNT(*) FROM task", "12.50|2.083333|6|7"),
        ("SELECT SUM(bed_id), AVG(bed_id) FROM bed", "15|3.000000"),
        ("SELECT AVG(bed_id) FROM bed WHERE bed_id < 3", "1.500000"),
        ("SELECT SUM(hours * 1e0) FROM task", "12.5"),
        ("SELECT SUM(NULLIF(bed_id, bed_id)), AVG(NULLIF(bed_id, bed_id)) FROM bed", "NULL|NULL"),
        ("SELECT MIN(area), MAX(area) FROM bed", "8.00|30.00"),
    ]);
    let digits = "9".repeat(38);
    let sql = format!("SELECT SUM({digits}) FROM bed");
    check_problems(&[(&sql, "22003", &format!("SUM({digits})"), "NUMERIC(38,0)")]);
}

#[test]
fn sum_of_integers_is_bigint_and_does_not_wrap() {
    check_rows(&[
        ("SELECT SUM(2147483647) FROM bed", "10737418235"),
        ("SELECT SUM(9223372036854775807 - 9223372036854775806) FROM bed", "5"),
    ]);
    check_problems(&[("SELECT SUM(9223372036854775807) FROM bed", "22003", "SUM(9223372036854775807)", "BIGINT")]);
}

#[test]
fn integer_division_is_noted() {
    assert_eq!(notes("SELECT 7 / 2"), ["integer-division"]);
    assert_eq!(notes("SELECT 7.0 / 2"), [""; 0]);
}

#[test]
fn numbers_compare_by_value() {
    check_values(&[
        ("1 = 1.00", "TRUE", "BOOLEAN"),
        ("0.1 + 0.2 = 0.3", "TRUE", "BOOLEAN"),
        ("1 < 1.5", "TRUE", "BOOLEAN"),
        ("0e0 = -0e0", "TRUE", "BOOLEAN"),
        ("1e0 = 1", "TRUE", "BOOLEAN"),
        ("2147483648 > 1", "TRUE", "BOOLEAN"),
    ]);
    check_rows(&[
        ("SELECT task_id FROM task WHERE hours > 2", "4; 6"),
        ("SELECT task_id FROM task WHERE hours >= 2.005", "4; 6"),
        ("SELECT task_id FROM task WHERE hours < 1000000", "1; 3; 4; 5; 6; 7"),
        ("SELECT bed_id FROM bed WHERE bed_id < 2.5", "1; 2"),
        ("SELECT bed_id FROM bed WHERE bed_id = 99999999999", ""),
    ]);
}
