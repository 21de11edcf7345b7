//! CAST (clause 6.13).

use crate::support::{check_problems, check_rows, check_values};

#[test]
fn casts_between_types() {
    check_values(&[
        ("CAST('12' AS INTEGER)", "12", "INTEGER"),
        ("CAST(' -12 ' AS BIGINT)", "-12", "BIGINT"),
        ("CAST('12.6' AS INTEGER)", "13", "INTEGER"),
        ("CAST(2.5 AS INTEGER)", "3", "INTEGER"),
        ("CAST(-2.5 AS INTEGER)", "-3", "INTEGER"),
        ("CAST(2.4e0 AS INTEGER)", "2", "INTEGER"),
        ("CAST(12.345 AS NUMERIC(4,2))", "12.35", "NUMERIC(4,2)"),
        ("CAST(-12.345 AS NUMERIC(4,2))", "-12.35", "NUMERIC(4,2)"),
        ("CAST('1e2' AS NUMERIC(5,1))", "100.0", "NUMERIC(5,1)"),
        ("CAST(0.1e0 AS NUMERIC(20,18))", "0.100000000000000000", "NUMERIC(20,18)"),
        ("CAST(5 AS NUMERIC(20,2))", "5.00", "NUMERIC(20,2)"),
        ("CAST(1.5 AS DOUBLE PRECISION)", "1.5", "DOUBLE PRECISION"),
        ("CAST('1.5e3' AS DOUBLE PRECISION)", "1500.0", "DOUBLE PRECISION"),
        ("CAST(1.5 AS REAL)", "1.5", "REAL"),
        ("CAST(12 AS VARCHAR)", "12", "VARCHAR"),
        ("CAST(1.50 AS VARCHAR)", "1.50", "VARCHAR"),
        ("CAST(TRUE AS VARCHAR)", "TRUE", "VARCHAR"),
        ("CAST(DATE '2024-02-29' AS VARCHAR)", "2024-02-29", "VARCHAR"),
        ("CAST('abc  ' AS VARCHAR(3))", "abc", "VARCHAR(3)"),
        ("CAST('true' AS BOOLEAN)", "TRUE", "BOOLEAN"),
        ("CAST('2024-02-29' AS DATE)", "2024-02-29", "DATE"),
        ("CAST('2024-02-29 10:11:12.5' AS TIMESTAMP)", "2024-02-29 10:11:12.5", "TIMESTAMP"),
        ("CAST(DATE '2024-02-29' AS TIMESTAMP)", "2024-02-29 00:00:00", "TIMESTAMP"),
        ("CAST(TIMESTAMP '2024-02-29 23:59:59' AS DATE)", "2024-02-29", "DATE"),
        ("CAST(TIMESTAMP '1969-12-31 23:59:59' AS TIME)", "23:59:59", "TIME"),
        ("CAST(NULL AS DATE)", "NULL", "DATE"),
        ("'a' || CAST(1 AS VARCHAR) || 'b'", "a1b", "VARCHAR"),
        ("'a' || NULL", "NULL", "VARCHAR"),
    ]);
}

#[test]
fn casts_of_columns() {
    check_rows(&[
        ("SELECT CAST(area AS INTEGER) FROM bed", "13; 8; 20; 30; NULL"),
        ("SELECT CAST(bed_id AS VARCHAR) || '.' || name FROM bed WHERE bed_id < 3", "1.Fern gully; 2.Scree"),
        ("SELECT CAST(ph AS DOUBLE PRECISION) FROM bed WHERE bed_id = 1", "5.5"),
        ("SELECT CAST(CAST(done AS VARCHAR) AS BOOLEAN) FROM task WHERE task_id IN (2, 4)", "FALSE; NULL"),
    ]);
}

#[test]
fn what_can_not_be_cast() {
    check_problems(&[
        ("SELECT CAST('abc' AS INTEGER)", "22018", "CAST('abc' AS INTEGER)", "'abc' is not a valid INTEGER"),
        ("SELECT CAST('' AS INTEGER)", "22018", "CAST('' AS INTEGER)", "'' is not a valid INTEGER"),
        ("SELECT CAST('99999999999' AS INTEGER)", "22003", "CAST('99999999999' AS INTEGER)", "does not fit INTEGER"),
        ("SELECT CAST(99999 AS SMALLINT)", "22003", "CAST(99999 AS SMALLINT)", "99999 does not fit SMALLINT"),
        ("SELECT CAST(100 AS NUMERIC(3,1))", "22003", "CAST(100 AS NUMERIC(3,1))", "100 does not fit NUMERIC(3,1)"),
        ("SELECT CAST(1e20 AS BIGINT)", "22003", "CAST(1e20 AS BIGINT)", "does not fit BIGINT"),
        ("SELECT CAST('abcd' AS VARCHAR(3))", "22001", "CAST('abcd' AS VARCHAR(3))", "4 characters"),
        ("SELECT CAST('2024-13-01' AS DATE)", "22007", "CAST('2024-13-01' AS DATE)", "is not a valid DATE"),
        ("SELECT CAST('maybe' AS BOOLEAN)", "22018", "CAST('maybe' AS BOOLEAN)", "is not a valid BOOLEAN"),
        (
            "SELECT CAST(name AS INTEGER) FROM bed",
            "22018",
            "CAST(name AS INTEGER)",
            "'Fern gully' is not a valid INTEGER",
        ),
        ("SELECT CAST(DATE '2024-01-01' AS INTEGER)", "42000", "CAST(DATE '2024-01-01' AS INTEGER)", "EXTRACT(YEAR"),
        ("SELECT CAST(1 AS DATE)", "42000", "CAST(1 AS DATE)", "INTEGER can't be cast to DATE … INTERVAL '1' DAY"),
        ("SELECT CAST(TRUE AS INTEGER)", "42000", "CAST(TRUE AS INTEGER)", "BOOLEAN can't be cast to INTEGER"),
        (
            "SELECT CAST(DATE '2024-01-01' AS TIME)",
            "42000",
            "CAST(DATE '2024-01-01' AS TIME)",
            "DATE can't be cast to TIME",
        ),
        ("SELECT CAST(1 AS NUMERIC(39,0))", "42000", "39", "precision must be from 1 to 38"),
        ("SELECT CAST(1 AS NUMERIC(3,4))", "42000", "4", "scale must be from 0 to 3"),
        ("SELECT CAST(1 AS NOTHING)", "42000", "NOTHING", "neither a type nor a domain"),
    ]);
}
