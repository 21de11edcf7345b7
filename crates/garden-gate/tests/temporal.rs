//! Dates, times, timestamps and intervals.

use crate::support::{check_problems, check_rows, check_values, show};
use garden_gate::Database;

#[test]
fn arithmetic_of_dates_and_intervals() {
    check_values(&[
        ("DATE '2024-01-31' + INTERVAL '1' MONTH", "2024-02-29", "DATE"),
        ("DATE '2023-01-31' + INTERVAL '1' MONTH", "2023-02-28", "DATE"),
        ("DATE '2024-03-31' - INTERVAL '1' MONTH", "2024-02-29", "DATE"),
        ("DATE '2024-02-29' + INTERVAL '1' YEAR", "2025-02-28", "DATE"),
        ("INTERVAL '1-2' YEAR TO MONTH + DATE '2020-12-31'", "2022-02-28", "DATE"),
        ("DATE '2024-02-28' + INTERVAL '2' DAY", "2024-03-01", "DATE"),
        ("CAST(DATE '2024-03-01' AS TIMESTAMP) - INTERVAL '36' HOUR", "2024-02-28 12:00:00", "TIMESTAMP"),
        ("DATE '2024-03-01' - DATE '2024-02-01'", "29 00:00:00", "INTERVAL DAY TO SECOND"),
        ("TIMESTAMP '2024-01-01 10:00:00' + INTERVAL '90' MINUTE", "2024-01-01 11:30:00", "TIMESTAMP"),
        ("TIMESTAMP '2024-01-31 10:00' + INTERVAL '1' MONTH", "2024-02-29 10:00:00", "TIMESTAMP"),
        (
            "TIMESTAMP '2024-01-02 00:00:00' - TIMESTAMP '2024-01-01 12:00:00.5'",
            "0 11:59:59.5",
            "INTERVAL DAY TO SECOND",
        ),
        ("TIME '23:30:00' + INTERVAL '1' HOUR", "00:30:00", "TIME"),
        ("TIME '10:00:00' - TIME '09:30:00'", "0 00:30:00", "INTERVAL DAY TO SECOND"),
        ("INTERVAL '1' YEAR + INTERVAL '2' MONTH", "1-02", "INTERVAL YEAR TO MONTH"),
        ("INTERVAL '1' DAY * 3", "3 00:00:00", "INTERVAL DAY TO SECOND"),
        ("2 * INTERVAL '18' MONTH", "3-00", "INTERVAL YEAR TO MONTH"),
        ("INTERVAL '1' DAY / 2", "0 12:00:00", "INTERVAL DAY TO SECOND"),
        ("-INTERVAL '1 02:00' DAY TO MINUTE", "-1 02:00:00", "INTERVAL DAY TO SECOND"),
        ("DATE '2024-01-01' < DATE '2024-01-02'", "TRUE", "BOOLEAN"),
        ("INTERVAL '24' HOUR = INTERVAL '1' DAY", "TRUE", "BOOLEAN"),
    ]);
}

#[test]
fn columns_move_as_literals_do() {
    check_rows(&[
        ("SELECT opened + INTERVAL '1' MONTH FROM bed", "1990-02-28; 2000-03-29; 2010-07-15; NULL; 2021-01-31"),
        (
            "SELECT task_id FROM task WHERE day >= DATE '2024-02-29' AND day < DATE '2024-02-29' + INTERVAL '2' DAY",
            "4; 5",
        ),
        ("SELECT MAX(day) - MIN(day) FROM task", "52 00:00:00"),
        ("SELECT MIN(opened), MAX(opened) FROM bed", "1990-01-31|2020-12-31"),
    ]);
}

#[test]
fn the_present_is_one_moment_in_a_statement() {
    check_rows(&[
        ("SELECT CURRENT_TIMESTAMP = CURRENT_TIMESTAMP, CAST(CURRENT_TIMESTAMP AS DATE) = CURRENT_DATE", "TRUE|TRUE"),
        ("SELECT CAST(LOCALTIMESTAMP AS TIME) = LOCALTIME, CURRENT_DATE > DATE '2024-01-01'", "TRUE|TRUE"),
        ("SELECT COUNT(*) FROM bed WHERE opened < CURRENT_DATE", "4"),
    ]);
}

#[test]
fn bad_dates_and_intervals() {
    check_problems(&[
        ("SELECT DATE '2023-02-29'", "22007", "'2023-02-29'", "is not a valid date … YYYY-MM-DD"),
        ("SELECT TIME '25:00'", "22007", "'25:00'", "is not a valid time"),
        ("SELECT TIMESTAMP '2024-01-01'", "22007", "'2024-01-01'", "is not a valid timestamp"),
        ("SELECT INTERVAL '1-13' YEAR TO MONTH", "22007", "'1-13'", "interval"),
        ("SELECT INTERVAL '1' MONTH TO DAY", "22007", "'1'", "interval"),
        ("SELECT INTERVAL 1 DAY", "42000", "1", "single quotes"),
        ("SELECT DATE '9999-12-31' + INTERVAL '1' DAY", "22008", "DATE '9999-12-31' + INTERVAL '1' DAY", "1 to 9999"),
        (
            "SELECT DATE '0001-01-01' - INTERVAL '1' MONTH",
            "22008",
            "DATE '0001-01-01' - INTERVAL '1' MONTH",
            "1 to 9999",
        ),
        (
            "SELECT DATE '2024-01-01' + INTERVAL '1' HOUR",
            "42000",
            "DATE '2024-01-01' + INTERVAL '1' HOUR",
            "HOUR … TIMESTAMP",
        ),
        (
            "SELECT -INTERVAL '1' MINUTE + DATE '2024-01-01'",
            "42000",
            "-INTERVAL '1' MINUTE + DATE '2024-01-01'",
            "TIMESTAMP",
        ),
        (
            "SELECT opened + INTERVAL '1 02:00:00' DAY TO SECOND FROM bed",
            "22008",
            "opened + INTERVAL '1 02:00:00' DAY TO SECOND",
            "whole days … TIMESTAMP",
        ),
        ("SELECT INTERVAL '99' DAY * 1000000000000", "22015", "INTERVAL '99' DAY * 1000000000000", "does not fit"),
        ("SELECT CAST(9999999999 AS INTERVAL YEAR)", "22015", "CAST(9999999999 AS INTERVAL YEAR)", "does not fit"),
        (
            "SELECT CAST(INTERVAL '1 10:00' DAY TO MINUTE AS INTEGER)",
            "42000",
            "CAST(INTERVAL '1 10:00' DAY TO MINUTE AS INTEGER)",
            "which field is counted",
        ),
        (
            "SELECT DATE '2024-01-01' + 1",
            "42000",
            "DATE '2024-01-01' + 1",
            "write DATE '2024-01-01' + INTERVAL '1' DAY",
        ),
        (
            "SELECT INTERVAL '1' DAY + INTERVAL '1' MONTH",
            "42000",
            "INTERVAL '1' DAY + INTERVAL '1' MONTH",
            "does not apply",
        ),
        (
            "SELECT bed_id FROM bed WHERE opened = '2020-01-01'",
            "42000",
            "opened = '2020-01-01'",
            "DATE can't be compared with VARCHAR … DATE '2020-01-01'",
        ),
    ]);
}

#[test]
fn intervals_have_fields() {
    check_values(&[
        (
            "(TIMESTAMP '2024-03-05 12:00:00' - TIMESTAMP '2024-03-01 00:00:00') DAY",
            "4 00:00:00",
            "INTERVAL DAY TO SECOND",
        ),
        ("(DATE '2024-12-31' - DATE '2022-01-01') YEAR", "2-00", "INTERVAL YEAR TO MONTH"),
        ("CAST(INTERVAL '-50' HOUR AS INTERVAL DAY)", "-2 00:00:00", "INTERVAL DAY TO SECOND"),
        ("CAST(INTERVAL '14' MONTH AS INTERVAL YEAR)", "1-00", "INTERVAL YEAR TO MONTH"),
        ("CAST(90 AS INTERVAL MONTH)", "7-06", "INTERVAL YEAR TO MONTH"),
        ("CAST('02:30' AS INTERVAL HOUR TO MINUTE)", "0 02:30:00", "INTERVAL DAY TO SECOND"),
        ("CAST(INTERVAL '5' DAY AS INTEGER)", "5", "INTEGER"),
        ("CAST(-INTERVAL '3' YEAR AS SMALLINT)", "-3", "SMALLINT"),
        ("CAST(INTERVAL '1.5' SECOND AS NUMERIC(4,1))", "1.5", "NUMERIC(4,1)"),
        ("CAST((DATE '2024-03-01' - DATE '2024-02-01') DAY AS INTEGER)", "29", "INTEGER"),
    ]);
    let mut session = Database::in_memory().session();
    let script = "CREATE TABLE slot (i INTERVAL HOUR TO MINUTE, y INTERVAL YEAR, beds INTEGER ARRAY); \
                  INSERT INTO slot VALUES (INTERVAL '5:30:59' HOUR TO SECOND, INTERVAL '14' MONTH, ARRAY[])";
    session.run(script).unwrap();
    let stored = "SELECT 1 FROM slot WHERE i = INTERVAL '5:30' HOUR TO MINUTE AND y = INTERVAL '1' YEAR AND CARDINALITY(beds) = 0";
    assert_eq!(session.query(stored, ()).unwrap().row_count(), 1);
}

/// A result says the fields and the precision of its columns, and shows the values in these fields.
#[test]
fn results_have_the_fields_of_their_expressions() {
    let mut session = Database::in_memory().session();
    let stay = "CREATE TABLE stay (days INTERVAL DAY, slot INTERVAL HOUR TO MINUTE, age INTERVAL YEAR, at TIME(3), \
                made TIMESTAMP(0)); INSERT INTO stay VALUES (INTERVAL '3' DAY, INTERVAL '26:30' HOUR TO MINUTE, \
                INTERVAL '2' YEAR, TIME '10:11:12.123', TIMESTAMP '2020-01-05 00:00:00')";
    session.run(stay).unwrap();
    for (expression, type_text, shown) in [
        ("days", "INTERVAL DAY", "3"),
        ("slot", "INTERVAL HOUR TO MINUTE", "26:30"),
        ("-slot", "INTERVAL HOUR TO MINUTE", "-26:30"),
        ("age", "INTERVAL YEAR", "2"),
        ("at", "TIME(3)", "10:11:12.123"),
        ("made", "TIMESTAMP(0)", "2020-01-05 00:00:00"),
        ("(made - TIMESTAMP '2020-01-01 00:00:00') DAY", "INTERVAL DAY", "4"),
        ("INTERVAL '90.5' SECOND", "INTERVAL SECOND", "90.5"),
        ("days + slot", "INTERVAL DAY TO MINUTE", "4 02:30"),
        ("MAX(days)", "INTERVAL DAY", "3"),
        ("days / 2", "INTERVAL DAY TO SECOND", "1 12:00:00"),
        ("made - TIMESTAMP '2020-01-01 00:00:00'", "INTERVAL DAY TO SECOND", "4 00:00:00"),
        ("CAST(days AS INTEGER)", "INTEGER", "3"),
        ("CAST(days * 2 AS INTEGER)", "INTEGER", "6"),
        ("CAST(age AS BIGINT)", "BIGINT", "2"),
    ] {
        for sql in [
            format!("SELECT {expression} AS x FROM stay"),
            format!("SELECT x FROM (SELECT {expression} AS x FROM stay) AS s"),
        ] {
            let rows = session.query(&sql, ()).unwrap();
            assert_eq!(rows.columns()[0].type_text(), type_text, "{sql}");
            let row = rows.rows().next().unwrap();
            assert_eq!(row.shown(0).to_string(), shown, "{sql}");
        }
    }
    let error = session.query("SELECT CAST(slot AS INTEGER) FROM stay", ()).unwrap_err();
    assert_eq!(error.sqlstate().to_string(), "42000");
    session.run("CREATE TABLE copy AS SELECT days, slot, at FROM stay WHERE FALSE").unwrap();
    let types = "SELECT data_type FROM INFORMATION_SCHEMA.COLUMNS WHERE table_name = 'copy' ORDER BY ordinal_position";
    let found = show(&session.query(types, ()).unwrap());
    assert_eq!(found, "INTERVAL DAY; INTERVAL HOUR TO MINUTE; TIME(3)");
}
