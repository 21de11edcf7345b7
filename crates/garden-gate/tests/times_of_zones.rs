//! TIME WITH TIME ZONE wherever a value may stand: columns, keys, groups, joins, windows, files. Worked out by hand: a time is what
//! it is in UTC.

use crate::story::{check, tell};
use garden_gate::{Database, Parameters, SqlType, Value};

#[test]
fn a_column_of_times_of_zones() {
    tell(&[
        ("CREATE TABLE shift (at TIME WITH TIME ZONE PRIMARY KEY, who VARCHAR(5) DEFAULT 'all')", ""),
        (
            "INSERT INTO shift VALUES (TIME '08:00:00+02:00', 'Ada'), (TIME '06:30:00+00:00', 'Bo'), (TIME '23:00:00-03:00', 'Cy')",
            "3",
        ),
        // The same moment of the day, written in another zone.
        ("INSERT INTO shift VALUES (TIME '04:30:00-01:30', 'Di')", "!23000 primary key at = 06:00:00+00:00 already"),
        ("INSERT INTO shift (at) VALUES (TIME '09:00:00')", "1"),
        (
            "SELECT at, who FROM shift ORDER BY at",
            "=02:00:00+00:00|Cy; 06:00:00+00:00|Ada; 06:30:00+00:00|Bo; 09:00:00+00:00|all",
        ),
        ("SELECT who FROM shift WHERE at = TIME '07:00:00+01:00'", "=Ada"),
        (
            "SELECT who FROM shift WHERE at BETWEEN TIME '06:00:00+00:00' AND TIME '06:45:00' ORDER BY at DESC",
            "=Bo; Ada",
        ),
        ("SELECT MIN(at), MAX(at), COUNT(DISTINCT at) FROM shift", "=02:00:00+00:00|09:00:00+00:00|4"),
        (
            "SELECT who, at - LAG(at) OVER (ORDER BY at) FROM shift ORDER BY at FETCH FIRST 2 ROWS ONLY",
            "=Cy|NULL; Ada|0 04:00:00",
        ),
        ("SELECT a.who, b.who FROM shift AS a JOIN shift AS b ON b.at = a.at + INTERVAL '30' MINUTE", "=Ada|Bo"),
        ("UPDATE shift SET at = at + INTERVAL '20' HOUR WHERE who = 'Bo'", "1"),
        (
            "SELECT at, EXTRACT(HOUR FROM at), at AT TIME ZONE '+01:00' FROM shift WHERE who = 'Bo'",
            "=02:30:00+00:00|2|02:30:00+00:00",
        ),
        ("CREATE INDEX early ON shift (at DESC) INCLUDE (who)", ""),
        ("SELECT who FROM shift WHERE at < TIME '03:00:00+00:00' ORDER BY at DESC", "=Bo; Cy"),
        (
            "SELECT COALESCE(NULL, at), CASE WHEN who = 'Ada' THEN TIME '01:00:00' ELSE at END FROM shift WHERE who IN ('Ada', 'Cy') ORDER BY who",
            "=06:00:00+00:00|01:00:00+00:00; 02:00:00+00:00|02:00:00+00:00",
        ),
        ("SELECT TIME '10:00:00' UNION SELECT TIME '11:00:00+01:00'", "=10:00:00+00:00"),
        ("SELECT at FROM shift WHERE at > 'x'", "!42000 TIME '12:30:00+00:00'"),
        ("SELECT at + 1 FROM shift", "!42000"),
        ("INSERT INTO shift (at) VALUES (DATE '2024-01-01')", "!42000"),
        ("SELECT EXTRACT(DAY FROM at) FROM shift", "!42000"),
        ("SELECT TIME '25:00:00+00:00'", "!22007"),
        ("SELECT CAST('10:00:00+99:00' AS TIME WITH TIME ZONE)", "!22007"),
    ]);
}

#[test]
fn times_of_zones_come_back_with_a_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    {
        let mut session = Database::open(&path).unwrap().session();
        check(&mut session, ("CREATE TABLE t (at TIME WITH TIME ZONE, n TIME)", ""));
        check(&mut session, ("INSERT INTO t VALUES (TIME '01:00:00+02:00', TIME '01:00:00'), (NULL, NULL)", "2"));
    }
    let mut session = Database::open(&path).unwrap().session();
    check(&mut session, ("SELECT at, n FROM t ORDER BY at", "=23:00:00+00:00|01:00:00; NULL|NULL"));
    session.allow_folder(folder.path()).unwrap();
    session.allow_writing(folder.path()).unwrap();
    for ending in ["csv", "jsonl", "parquet", "arrow"] {
        let file = folder.path().join(format!("t.{ending}"));
        let written = format!("INSERT INTO FILE '{}' TABLE t", file.display());
        check(&mut session, (&written, "2"));
        check(&mut session, (&format!("CREATE TABLE {ending} (at TIME WITH TIME ZONE, n TIME)"), ""));
        check(&mut session, (&format!("INSERT INTO {ending} FROM FILE '{}'", file.display()), "2"));
        check(&mut session, (&format!("SELECT * FROM {ending} EXCEPT ALL TABLE t"), "="));
    }
}

#[test]
fn a_program_gives_and_gets_them() {
    let mut session = Database::in_memory().session();
    let rows = session
        .query("SELECT :t AS t, CAST(:t AS TIME)", Parameters::new().set("t", Value::TimeTz(3_600_000_000)))
        .unwrap();
    assert_eq!(rows.columns()[0].sql_type, SqlType::TimeTz);
    let values = rows.rows().next().unwrap().values().to_vec();
    assert_eq!(values, [Value::TimeTz(3_600_000_000), Value::Time(3_600_000_000)]);
    let text = Parameters::new().set("t", Value::Untyped("12:00:00+12:00".into()));
    let found = session.query("SELECT 1 WHERE TIME '00:00:00+00:00' = :t", text).unwrap();
    assert_eq!(found.row_count(), 1);
}
