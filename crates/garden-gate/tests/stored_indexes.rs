//! Indexes and room in the database file.

use garden_gate::{Database, Plan, Session};

const ROWS: i64 = 12_000;

fn make(path: &std::path::Path) {
    let db = Database::open(path).unwrap();
    let mut session = db.session();
    session
        .run(format!(
            "CREATE TABLE reading (id INTEGER PRIMARY KEY, sensor INTEGER, name VARCHAR(12), note VARCHAR(40));
             CREATE INDEX reading_sensor_ix ON reading (sensor, id DESC);
             INSERT INTO reading SELECT n, NULLIF(MOD(n * 37, 101), 7), 'n' || CAST(MOD(n, 50) AS VARCHAR(4)), 'as it should be' FROM SERIES(1, {ROWS}) AS s (n);
             CREATE INDEX reading_name_ix ON reading (name)"
        ))
        .unwrap();
}

fn count(session: &mut Session, condition: &str) -> (u64, Plan) {
    let sql = format!("SELECT id, note FROM reading WHERE {condition}");
    let (rows, plan) = session.measure(&sql, ()).unwrap();
    (rows.row_count() as u64, plan)
}

/// The number of rows that fulfil a condition, computed from how the rows were made.
fn reckoned(holds: impl Fn(i64, Option<i64>, i64) -> bool) -> u64 {
    let sensor = |id: i64| Some(id * 37 % 101).filter(|sensor| *sensor != 7);
    (1..=ROWS).filter(|id| holds(*id, sensor(*id), id % 50)).count() as u64
}

#[test]
fn indexes_are_written_with_their_rows_and_found_again() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("reading.db");
    make(&path);
    for read_only in [false, true] {
        let db = if read_only {
            Database::open_read_only(&path, std::time::Duration::ZERO).unwrap()
        } else {
            Database::open(&path).unwrap()
        };
        let mut session = db.session();
        for (condition, index, wanted) in [
            ("id = 7777", Some("reading_pkey"), reckoned(|id, _, _| id == 7777)),
            ("id BETWEEN 4090 AND 4100", Some("reading_pkey"), reckoned(|id, _, _| (4090..=4100).contains(&id))),
            ("sensor = 5", Some("reading_sensor_ix"), reckoned(|_, sensor, _| sensor == Some(5))),
            ("sensor IS NULL", Some("reading_sensor_ix"), reckoned(|_, sensor, _| sensor.is_none())),
            ("sensor IN (0, 100, 55)", None, reckoned(|_, sensor, _| [Some(0), Some(100), Some(55)].contains(&sensor))),
            ("sensor > 98", None, reckoned(|_, sensor, _| sensor > Some(98))),
            ("sensor = 5 AND id >= 9000", None, reckoned(|id, sensor, _| sensor == Some(5) && id >= 9000)),
            ("name = 'n7'", Some("reading_name_ix"), reckoned(|_, _, name| name == 7)),
            ("name = 'n'", Some("reading_name_ix"), 0),
        ] {
            let (found, plan) = count(&mut session, condition);
            assert_eq!(found, wanted, "{condition}");
            assert!(plan.built.is_empty(), "{condition}: {:?}", plan.built);
            if let Some(index) = index.filter(|index| *index != "reading_pkey") {
                assert!(plan.reads("reading").by_index(index), "{condition}");
            }
        }
        // In the order of an index, by a join, and after so many lookups that the index is kept in memory.
        let ordered = session.query("SELECT id FROM reading ORDER BY id DESC FETCH FIRST 2 ROWS ONLY", ()).unwrap();
        assert_eq!(ordered.rows().map(|row| row.value(0).to_string()).collect::<Vec<_>>(), ["12000", "11999"]);
        let joined = "SELECT COUNT(*) FROM (VALUES (1), (2), (999999)) AS t (k) JOIN reading r ON r.id = t.k";
        assert_eq!(session.query(joined, ()).unwrap().rows().next().unwrap().value(0).to_string(), "2");
        for id in 1..200 {
            assert_eq!(
                count(&mut session, &format!("id = {id} AND sensor IS NOT NULL")).0,
                u64::from(id * 37 % 101 != 7)
            );
        }
    }
}

#[test]
fn changed_rows_are_found_by_indexes_of_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("reading.db");
    make(&path);
    Database::open(&path).unwrap().session().run("DELETE FROM reading WHERE MOD(id, 3) = 0; UPDATE reading SET sensor = 555 WHERE id < 11; INSERT INTO reading VALUES (20000, 555, 'new', NULL)").unwrap();
    let mut session = Database::open(&path).unwrap().session();
    assert_eq!(count(&mut session, "sensor = 555").0, 8);
    assert_eq!(
        count(&mut session, "sensor = 5").0,
        reckoned(|id, sensor, _| sensor == Some(5) && id % 3 > 0 && id > 10)
    );
    assert_eq!(count(&mut session, "id = 9").0, 0);
    assert_eq!(count(&mut session, "id = 10").0, 1);
    assert!(session.verify().iter().all(|check| check.problem.is_none()));
}

#[test]
fn what_is_made_for_a_measured_plan_is_said() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE t (a INTEGER, b INTEGER); INSERT INTO t SELECT n, MOD(n * 7, 1000) FROM SERIES(1, 5000) AS s (n); CREATE INDEX t_b_ix ON t (b)").unwrap();
    let (_, plan) = session.measure("SELECT a FROM t WHERE b = 3", ()).unwrap();
    assert!(plan.reads("t").by_index("t_b_ix"));
    // Made when it was first needed, or with the table: never twice.
    let (_, again) = session.measure("SELECT a FROM t WHERE b = 4", ()).unwrap();
    assert!(plan.built.len() <= 1 && plan.built.iter().all(|built| built.index == "t_b_ix" && built.rows == 5000));
    assert!(again.built.is_empty());
}

#[test]
fn room_of_rows_that_are_gone_is_used_again() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("room.db");
    let bytes = || path.metadata().unwrap().len();
    let run = |sql: &str| Database::open(&path).unwrap().session().run(sql).map(|_| ()).unwrap();
    run(
        "CREATE TABLE t (a INTEGER, b VARCHAR(40)); INSERT INTO t SELECT n, 'text ' || CAST(MOD(n * 7919, 9973) AS VARCHAR(9)) FROM SERIES(1, 200000) AS s (n)",
    );
    let first = bytes();
    for _ in 0..4 {
        run("UPDATE t SET a = a + 1");
    }
    assert!(bytes() < 2 * first, "{first} bytes, then {}", bytes());
    run("DELETE FROM t");
    let size = Database::open(&path).unwrap().compact().unwrap();
    assert!(size.after <= size.before && bytes() < first / 2, "{first}, then {}", bytes());
    assert_eq!(Database::in_memory().compact().unwrap().after, 0);
}
