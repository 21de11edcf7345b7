//! SET TIME ZONE: what casts, comparisons, functions and results make of the session's zone. Computed with a calendar of Vienna (an hour
//! ahead of UTC, two from 2024-03-31 02:00 to 2024-10-27 03:00), New York and Kolkata.

use crate::story::{check, tell};
use garden_gate::{Database, Parameters, Value};

/// Vienna, and later other zones.
const STORY: &[(&str, &str)] = &[
    ("SET TIME ZONE 'Europe/Vienna'", ""),
    ("CREATE TABLE t (id INTEGER, at TIMESTAMP WITH TIME ZONE)", ""),
    (
        "INSERT INTO t VALUES (1, TIMESTAMP '2024-06-01 12:00:00'), (2, TIMESTAMP '2024-01-01 00:30:00'), (3, TIMESTAMP '2024-01-01 00:30:00+00:00')",
        "3",
    ),
    (
        "SELECT at - TIMESTAMP '1970-01-01 00:00:00+00:00' FROM t WHERE id < 3 ORDER BY id",
        "=19875 10:00:00; 19722 23:30:00",
    ),
    (
        "SELECT CAST(at AS DATE), CAST(at AS TIME), CAST(at AS TIMESTAMP) FROM t ORDER BY id",
        "=2024-06-01|12:00:00|2024-06-01 12:00:00; 2024-01-01|00:30:00|2024-01-01 00:30:00; 2024-01-01|01:30:00|2024-01-01 01:30:00",
    ),
    (
        "SELECT CAST(at AS VARCHAR(30)), CAST(at AS CHAR(27)) FROM t WHERE id = 1",
        "=2024-06-01 12:00:00+02:00|2024-06-01 12:00:00+02:00  ",
    ),
    ("SELECT CAST(at AS VARCHAR(10)) FROM t", "!22001"),
    ("SELECT id FROM t WHERE at = TIMESTAMP '2024-01-01 00:30:00'", "=2"),
    ("SELECT id FROM t WHERE at > TIMESTAMP '2024-01-01 00:30:00' ORDER BY id", "=1; 3"),
    ("SELECT id FROM t WHERE CAST(at AS TIMESTAMP) IN (TIMESTAMP '2024-01-01 01:30:00')", "=3"),
    (
        "SELECT id FROM t WHERE at BETWEEN CAST(DATE '2024-06-01' AS TIMESTAMP) AND CAST(DATE '2024-06-02' AS TIMESTAMP)",
        "=1",
    ),
    (
        "SELECT CASE WHEN id = 1 THEN at ELSE TIMESTAMP '2024-06-01 00:00:00' END = at FROM t ORDER BY id",
        "=TRUE; FALSE; FALSE",
    ),
    ("SELECT COUNT(*) FROM (SELECT at FROM t UNION SELECT TIMESTAMP '2024-06-01 12:00:00') AS u", "=3"),
    (
        "SELECT EXTRACT(HOUR FROM at), EXTRACT(TIMEZONE_HOUR FROM at), EXTRACT(TIMEZONE_MINUTE FROM at) FROM t ORDER BY id",
        "=12|2|0; 0|1|0; 1|1|0",
    ),
    ("SELECT TRUNCATE(at TO DAY) = TIMESTAMP '2024-06-01 00:00:00+02:00' FROM t WHERE id = 1", "=TRUE"),
    (
        "SELECT TRUNCATE(TIMESTAMP '2024-07-01 00:30:00' AT LOCAL TO MONTH) = TIMESTAMP '2024-06-30 22:00:00+00:00'",
        "=TRUE",
    ),
    // Clocks go from 01:59:59 to 03:00:00, and from 02:59:59 back to 02:00:00.
    (
        "SELECT CAST(TIMESTAMP '2024-03-31 02:30:00' AS TIMESTAMP WITH TIME ZONE) = TIMESTAMP '2024-03-31 01:30:00+00:00'",
        "=TRUE",
    ),
    (
        "SELECT CAST(TIMESTAMP '2024-10-27 02:30:00' AS TIMESTAMP WITH TIME ZONE) = TIMESTAMP '2024-10-27 00:30:00+00:00'",
        "=TRUE",
    ),
    (
        "SELECT CAST(TIMESTAMP '2024-10-27 03:00:00' AS TIMESTAMP WITH TIME ZONE) = TIMESTAMP '2024-10-27 02:00:00+00:00'",
        "=TRUE",
    ),
    ("SELECT CAST('2024-06-01 12:00' AS TIMESTAMP WITH TIME ZONE) = TIMESTAMP '2024-06-01 10:00:00+00:00'", "=TRUE"),
    (
        "SELECT CAST('2024-06-01 12:00+05:30' AS TIMESTAMP WITH TIME ZONE) = TIMESTAMP '2024-06-01 06:30:00+00:00'",
        "=TRUE",
    ),
    ("SELECT CAST('today' AS TIMESTAMP WITH TIME ZONE)", "!22007 'today'"),
    (
        "SELECT CAST('01.06.2024 12:00' AS TIMESTAMP WITH TIME ZONE FORMAT 'DD.MM.YYYY HH24:MI') = TIMESTAMP '2024-06-01 10:00:00+00:00'",
        "=TRUE",
    ),
    ("SELECT CAST(at AS VARCHAR(5) FORMAT 'HH24:MI') FROM t WHERE id = 3", "=01:30"),
    (
        "SELECT CAST(ARRAY[TIMESTAMP '2024-06-01 12:00:00'] AS TIMESTAMP WITH TIME ZONE ARRAY)",
        "!0A000 elements or fields",
    ),
    // The zone of AT TIME ZONE goes before the session's.
    (
        "SELECT CAST(at AT TIME ZONE 'America/New_York' AS TIMESTAMP), EXTRACT(TIMEZONE_HOUR FROM at AT TIME ZONE 'America/New_York'), EXTRACT(TIMEZONE_MINUTE FROM at AT TIME ZONE 'Asia/Kolkata') FROM t WHERE id = 1",
        "=2024-06-01 06:00:00|-4|30",
    ),
    (
        "SELECT TRUNCATE(at AT TIME ZONE 'America/New_York' TO DAY) = TIMESTAMP '2023-12-31 05:00:00+00:00' FROM t WHERE id = 2",
        "=TRUE",
    ),
    ("SELECT CAST(TIMESTAMP '2024-06-01 12:00:00' AT TIME ZONE '-03:30' AS TIMESTAMP)", "=2024-06-01 06:30:00"),
    (
        "SELECT CURRENT_DATE = CAST(CURRENT_TIMESTAMP AS DATE), LOCALTIMESTAMP = CAST(CURRENT_TIMESTAMP AS TIMESTAMP), LOCALTIME = CAST(LOCALTIMESTAMP AS TIME)",
        "=TRUE|TRUE|TRUE",
    ),
    (
        "SELECT CAST(LOCALTIMESTAMP AS TIMESTAMP WITH TIME ZONE) = CURRENT_TIMESTAMP, CAST(LOCALTIME AS TIME WITH TIME ZONE) = CURRENT_TIME",
        "=TRUE|TRUE",
    ),
    ("SET TIME ZONE INTERVAL -'3:30' HOUR TO MINUTE", ""),
    (
        "SELECT CAST(at AS TIMESTAMP), EXTRACT(TIMEZONE_HOUR FROM at), EXTRACT(TIMEZONE_MINUTE FROM at) FROM t WHERE id = 1",
        "=2024-06-01 06:30:00|-3|-30",
    ),
    (
        "SELECT CAST(TIME '23:00:00' AS TIME WITH TIME ZONE), CAST(TIME '23:00:00+00:00' AS TIME), CAST('20:00' AS TIME WITH TIME ZONE)",
        "=02:30:00+00:00|19:30:00|23:30:00+00:00",
    ),
    ("SELECT CAST(TIME '23:00:00' AS TIMESTAMP) = CAST(CURRENT_DATE AS TIMESTAMP) + INTERVAL '23' HOUR", "=TRUE"),
    ("SET TIME ZONE LOCAL", ""),
    ("SELECT CAST(at AS TIMESTAMP) FROM t WHERE id = 1", "=2024-06-01 10:00:00"),
    ("SET time_zone = 'asia/kolkata'", ""),
    ("SELECT CAST(at AS TIMESTAMP) FROM t WHERE id = 1", "=2024-06-01 15:30:00"),
    ("SET time_zone = 'Mars'", "!HY024"),
    ("SET TIME ZONE 5", "!22009"),
];

#[test]
fn casts_and_comparisons_go_by_the_zone() {
    tell(STORY);
}

#[test]
fn definitions_are_the_same_in_every_session() {
    tell(&[
        ("SET TIME ZONE 'Europe/Vienna'", ""),
        (
            "CREATE TABLE t (id INTEGER, at TIMESTAMP WITH TIME ZONE DEFAULT TIMESTAMP '2024-07-01 00:00:00', day DATE GENERATED ALWAYS AS (CAST(at AS DATE)), CHECK (CAST(at AS DATE) >= DATE '2024-06-30'))",
            "",
        ),
        // In UTC it is still the last of June.
        ("INSERT INTO t (id) VALUES (1)", "1"),
        ("SELECT CAST(at AS DATE), day FROM t", "=2024-07-01|2024-06-30"),
        ("INSERT INTO t (id, at) VALUES (2, TIMESTAMP '2024-06-30 01:00:00')", "!23000"),
        ("CREATE INDEX days ON t (CAST(at AS DATE))", ""),
        ("SELECT id FROM t WHERE CAST(at AS DATE) = DATE '2024-07-01'", "=1"),
        ("CREATE VIEW v AS SELECT id, CAST(at AS DATE) AS day FROM t", ""),
        ("SELECT day FROM v", "=2024-07-01"),
        ("SET TIME ZONE LOCAL", ""),
        ("SELECT id FROM t WHERE CAST(at AS DATE) = DATE '2024-07-01'", "="),
        ("SELECT day FROM v", "=2024-06-30"),
    ]);
}

#[test]
fn programs_and_prepared_statements_follow() {
    let mut session = Database::in_memory().session();
    check(&mut session, ("CREATE TABLE t (at TIMESTAMP WITH TIME ZONE PRIMARY KEY, n INTEGER)", ""));
    check(
        &mut session,
        (
            "INSERT INTO t VALUES (TIMESTAMP '2024-06-01 10:00:00+00:00', 1), (TIMESTAMP '2024-06-01 12:00:00+00:00', 2)",
            "2",
        ),
    );
    let by_text = session.prepare("SELECT n FROM t WHERE at = TIMESTAMP '2024-06-01 12:00:00'").unwrap();
    let by_value = session.prepare("SELECT n, at FROM t WHERE at = :at").unwrap();
    for (zone, of_text, of_value) in [("UTC", 2, 2), ("Europe/Vienna", 1, 1), ("UTC", 2, 2)] {
        session.set("time_zone", zone).unwrap();
        let rows = session.query_prepared(&by_text, ()).unwrap();
        assert_eq!(rows.rows().next().map(|row| row.value(0)), Some(Value::Integer(of_text)), "{zone}");
        for value in [Value::Untyped("2024-06-01 12:00:00".into()), Value::Timestamp(1_717_243_200_000_000)] {
            let rows = session.query_prepared(&by_value, Parameters::new().set("at", value)).unwrap();
            assert_eq!(rows.rows().next().map(|row| row.value(0)), Some(Value::Integer(of_value)), "{zone}");
        }
    }
    session.set("time_zone", "+05:30").unwrap();
    let rows = session.query("SELECT at, ARRAY[at] FROM t WHERE n = 1", ()).unwrap();
    let row = rows.rows().next().unwrap();
    // 10:00 UTC, 15:30 at +05:30.
    assert_eq!(row.value(0), Value::Instant(1_717_236_000_000_000));
    assert_eq!(row.shown(0).to_string(), "2024-06-01 15:30:00+05:30");
    assert_eq!(row.shown(1).to_string(), "[2024-06-01 15:30:00+05:30]");
}
