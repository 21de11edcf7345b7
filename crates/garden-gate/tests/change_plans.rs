//! Plans of INSERT, UPDATE, DELETE and MERGE, before and after they run; types of columns that change; looking a database over.

use crate::support::run;
use garden_gate::{Database, Session};

fn garden() -> Session {
    let mut session = Database::in_memory().session();
    session
        .run(
            "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, area NUMERIC(5,2) CHECK (area > 0));
             CREATE TABLE planting (id INTEGER PRIMARY KEY, bed_id INTEGER REFERENCES bed ON DELETE CASCADE);
             CREATE TABLE sensor (id INTEGER, bed_id INTEGER REFERENCES bed);
             INSERT INTO bed SELECT i, 'bed ' || CAST(i AS VARCHAR(5)), i FROM SERIES(1, 900) AS s (i);
             INSERT INTO planting SELECT i, i FROM SERIES(1, 900) AS s (i)",
        )
        .unwrap();
    session
}

#[test]
fn a_change_has_a_plan_and_is_not_carried_out() {
    let mut session = garden();
    let cases: [(&str, &str, &[&str], &str); 6] = [
        (
            "UPDATE bed SET area = 2 WHERE bed_id = 7",
            "update",
            &["checks key bed_primary_key", "checks bed_check: area > 0"],
            "index lookup",
        ),
        (
            "UPDATE bed SET bed_id = 2000 WHERE bed_id = 7",
            "update",
            &["looks for planting_bed_id_reference in planting"],
            "index lookup",
        ),
        (
            "DELETE FROM bed WHERE bed_id > 890",
            "delete",
            &["deletes from planting by", "looks for"],
            "index range scan",
        ),
        (
            "INSERT INTO planting SELECT id + 1000, bed_id FROM planting",
            "insert",
            &["checks planting_bed_id_reference: a row of bed"],
            "table scan",
        ),
        (
            "MERGE INTO bed USING planting AS p ON bed.bed_id = p.bed_id WHEN MATCHED THEN UPDATE SET area = 1",
            "merge",
            &["checks key"],
            "hash join",
        ),
        ("TRUNCATE TABLE planting", "delete", &[], "table scan"),
    ];
    for (sql, operator, details, below) in cases {
        let plan = session.plan(sql, ()).unwrap();
        assert_eq!(plan.root.operator.name(), operator, "{sql}");
        for detail in details {
            assert!(plan.root.details.iter().any(|shown| shown.starts_with(detail)), "{sql}: {:?}", plan.root.details);
        }
        assert!(plan.nodes().iter().any(|node| node.operator.name() == below), "{sql}");
        assert!(plan.root.cost > plan.root.children[0].cost, "{sql}");
    }
    assert_eq!(run(&mut session, "SELECT COUNT(*), SUM(area) FROM bed").unwrap(), "900|405450.00");
    assert!(session.plan("DELETE FROM bed WHERE bed_id = :b", ()).unwrap().root.operator.name() == "delete");
    assert_ne!(
        session.plan("DELETE FROM bed WHERE bed_id = 1", ()).unwrap().fingerprint,
        session.plan("SELECT * FROM bed WHERE bed_id = 1", ()).unwrap().fingerprint
    );
}

#[test]
fn a_measured_change_is_taken_back() {
    let mut session = garden();
    let (rows, plan) = session.measure("DELETE FROM bed WHERE bed_id <= 10", ()).unwrap();
    assert_eq!((rows.affected(), plan.root.actual_rows), (Some(10), Some(10)));
    assert_eq!(
        run(&mut session, "SELECT (SELECT COUNT(*) FROM bed), (SELECT COUNT(*) FROM planting)").unwrap(),
        "900|900"
    );
    let (rows, _) = session.measure("UPDATE bed SET area = 1 WHERE bed_id < 3 RETURNING bed_id", ()).unwrap();
    assert_eq!((rows.affected(), rows.row_count()), (Some(2), 2));
    assert_eq!(session.measure("INSERT INTO bed VALUES (11, 'x', 1)", ()).unwrap_err().sqlstate().as_str(), "23000");
    // Inside a transaction the changes made before it stay.
    session.run("START TRANSACTION; UPDATE bed SET area = 0.5 WHERE bed_id = 1").unwrap();
    session.measure("UPDATE bed SET area = 7", ()).unwrap();
    session.run("COMMIT").unwrap();
    assert_eq!(run(&mut session, "SELECT SUM(area) FROM bed").unwrap(), "405449.50");
    assert_eq!(session.plan("DROP TABLE bed", ()).unwrap_err().sqlstate().as_str(), "42000");
}

#[test]
fn columns_get_other_types() {
    let mut session = garden();
    let cases = [
        ("ALTER TABLE bed ALTER COLUMN area SET DATA TYPE INTEGER", ""),
        ("INSERT INTO bed VALUES (901, 'new', 0)", "23000"),
        ("ALTER TABLE bed ALTER name SET DATA TYPE VARCHAR(5)", "22001"),
        ("ALTER TABLE bed ALTER name SET DATA TYPE INTEGER", "22018"),
        ("ALTER TABLE bed ALTER name SET DATA TYPE VARCHAR(7)", ""),
        ("INSERT INTO bed VALUES (901, 'too long', 1)", "22001"),
        ("ALTER TABLE bed ALTER area SET DATA TYPE DATE", "42000"),
        ("ALTER TABLE bed ALTER bed_id SET DATA TYPE BIGINT", "42000"),
        ("ALTER TABLE planting ALTER bed_id SET DATA TYPE BIGINT", "42000"),
        ("ALTER TABLE planting ALTER id SET DATA TYPE VARCHAR(9)", ""),
        ("ALTER TABLE bed ALTER nothing SET DATA TYPE INTEGER", "42S22"),
    ];
    for (sql, expected) in cases {
        let state = session.run(sql).err().map(|error| error.sqlstate().as_str().to_owned());
        assert_eq!(state.unwrap_or_default(), expected, "{sql}");
    }
    assert_eq!(run(&mut session, "SELECT MAX(id), MAX(area) FROM planting JOIN bed USING (bed_id)").unwrap(), "99|900");
}

#[test]
fn a_whole_database_is_looked_over() {
    let mut session = garden();
    assert!(session.verify().iter().all(|check| check.problem.is_none()));
    let folder = tempfile::tempdir().unwrap();
    session.allow_folder(folder.path()).unwrap();
    std::fs::write(folder.path().join("s.csv"), "1,77777\n").unwrap();
    let load = format!("INSERT INTO sensor FROM FILE '{}/s.csv' (NO HEADER, CHECKS OFF)", folder.path().display());
    session.run(&load).unwrap();
    let checks = session.verify();
    let wrong: Vec<_> = checks.iter().filter(|check| check.problem.is_some()).collect();
    assert_eq!((wrong.len(), wrong[0].name.as_str(), wrong[0].rows), (1, "sensor", 1));
    assert!(wrong[0].problem.as_ref().unwrap().message().contains("sensor_bed_id_reference"));
}
