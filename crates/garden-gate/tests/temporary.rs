//! Temporary tables: of one session, and of all of them for a while.

use crate::support::run;
use garden_gate::{Database, Session};

fn state(session: &mut Session, sql: &str) -> String {
    session.run(sql).err().map_or_else(String::new, |error| error.sqlstate().as_str().to_owned())
}

#[test]
fn a_table_of_ones_own_is_seen_by_nobody_else() {
    let db = Database::in_memory();
    let (mut ann, mut ben) = (db.session(), db.session());
    ann.run("CREATE TABLE bed (bed_id INTEGER); INSERT INTO bed VALUES (1), (2); CREATE VIEW beds AS SELECT COUNT(*) AS n FROM bed").unwrap();
    ann.run("CREATE LOCAL TEMPORARY TABLE bed (bed_id INTEGER PRIMARY KEY, note VARCHAR); CREATE INDEX bed_note ON bed (note)").unwrap();
    ann.run("INSERT INTO bed VALUES (7, 'a'), (8, 'b'), (9, 'b')").unwrap();
    let cases = [
        ("SELECT COUNT(*) FROM bed", "3", "2"),
        ("SELECT COUNT(*) FROM home.bed", "2", "2"),
        ("SELECT n FROM beds", "2", "2"),
        ("SELECT COUNT(*) FROM INFORMATION_SCHEMA.TABLES WHERE TABLE_TYPE = 'LOCAL TEMPORARY'", "1", "0"),
    ];
    for (sql, of_ann, of_ben) in cases {
        assert_eq!(run(&mut ann, sql).unwrap(), of_ann, "{sql}");
        assert_eq!(run(&mut ben, sql).unwrap(), of_ben, "{sql}");
    }
    assert_eq!(state(&mut ann, "INSERT INTO bed VALUES (7, 'c')"), "23000");
    assert!(ann.plan("SELECT * FROM bed WHERE note = 'b' AND bed_id = 8", ()).unwrap().reads("bed").times() == 1);
    // What a transaction did to it is undone with the transaction.
    ann.run("START TRANSACTION; DELETE FROM bed; CREATE LOCAL TEMPORARY TABLE other (a INTEGER); ROLLBACK").unwrap();
    assert_eq!(run(&mut ann, "SELECT COUNT(*) FROM bed").unwrap(), "3");
    assert_eq!(state(&mut ann, "SELECT * FROM other"), "42S02");
    ann.run("START TRANSACTION; UPDATE bed SET note = 'z'; INSERT INTO home.bed VALUES (3); COMMIT").unwrap();
    assert_eq!(run(&mut ann, "SELECT MIN(note) FROM bed").unwrap(), "z");
    assert_eq!(run(&mut ben, "SELECT COUNT(*) FROM bed").unwrap(), "3");
    // Dropped, it hides nothing any more.
    ann.run("ALTER TABLE bed ADD COLUMN more INTEGER; DROP TABLE bed").unwrap();
    assert_eq!(run(&mut ann, "SELECT COUNT(*) FROM bed").unwrap(), "3");
    for sql in [
        "CREATE LOCAL TEMPORARY TABLE home.t (a INTEGER)",
        "CREATE TEMPORARY TABLE t (a INTEGER)",
        "CREATE SCHEMA local",
        "CREATE LOCAL TEMPORARY TABLE p (a INTEGER PRIMARY KEY); CREATE TABLE c (a INTEGER REFERENCES p)",
    ] {
        assert_eq!(state(&mut ann, sql), "42000", "{sql}");
    }
}

#[test]
fn rows_may_go_with_each_commit() {
    let mut session = Database::in_memory().session();
    session
        .run("CREATE LOCAL TEMPORARY TABLE step (a INTEGER) ON COMMIT DELETE ROWS; CREATE LOCAL TEMPORARY TABLE kept AS SELECT 1 AS a ON COMMIT PRESERVE ROWS")
        .unwrap();
    session.run("INSERT INTO step VALUES (1)").unwrap();
    assert_eq!(run(&mut session, "SELECT (SELECT COUNT(*) FROM step), (SELECT COUNT(*) FROM kept)").unwrap(), "0|1");
    session.run("START TRANSACTION; INSERT INTO step VALUES (1), (2)").unwrap();
    assert_eq!(run(&mut session, "SELECT COUNT(*) FROM step").unwrap(), "2");
    session.run("COMMIT").unwrap();
    assert_eq!(run(&mut session, "SELECT COUNT(*) FROM step").unwrap(), "0");
}

#[test]
fn a_shared_one_goes_with_its_last_user_and_is_in_no_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let db = Database::open(&path).unwrap();
    let (mut ann, mut ben, mut cat) = (db.session(), db.session(), db.session());
    ann.run("CREATE SHARED TEMPORARY TABLE board (note VARCHAR(20)); INSERT INTO board VALUES ('from Ann')").unwrap();
    ben.run("INSERT INTO board VALUES ('from Ben')").unwrap();
    drop(ann);
    assert_eq!(run(&mut cat, "SELECT COUNT(*) FROM board").unwrap(), "2");
    drop(ben);
    assert_eq!(run(&mut cat, "SELECT note FROM board").unwrap(), "from Ann; from Ben");
    let mut dan = db.session();
    drop(cat);
    assert_eq!(state(&mut dan, "SELECT * FROM board"), "42S02");
    dan.run("CREATE SHARED TEMPORARY TABLE board (note VARCHAR(20)); CREATE TABLE kept (a INTEGER)").unwrap();
    drop((dan, db));
    let mut again = Database::open(&path).unwrap().session();
    assert_eq!(
        run(&mut again, "SELECT TABLE_NAME FROM INFORMATION_SCHEMA.TABLES WHERE TABLE_SCHEMA = 'home'").unwrap(),
        "kept"
    );
}

#[test]
fn each_session_has_rows_of_its_own_in_a_global_one() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    {
        let mut ann = Database::open(&path).unwrap().session();
        ann.run("CREATE GLOBAL TEMPORARY TABLE pick (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, note VARCHAR(9) UNIQUE)").unwrap();
        ann.run("CREATE INDEX note_of_pick ON pick (note); CREATE VIEW picks AS SELECT COUNT(*) AS n, MAX(id) AS last FROM pick").unwrap();
        ann.run(
            "CREATE GLOBAL TEMPORARY TABLE step (id INTEGER REFERENCES pick ON DELETE CASCADE) ON COMMIT DELETE ROWS",
        )
        .unwrap();
        ann.run("INSERT INTO pick (note) VALUES ('gone')").unwrap();
        ann.run("CREATE TABLE kept (a INTEGER PRIMARY KEY); INSERT INTO kept VALUES (1)").unwrap();
    }
    let db = Database::open(&path).unwrap();
    let (mut ann, mut ben) = (db.session(), db.session());
    assert_eq!(run(&mut ann, "SELECT n, last FROM picks").unwrap(), "0|NULL");
    ann.run("INSERT INTO pick (note) VALUES ('a'), ('b'); UPDATE kept SET a = 2").unwrap();
    ben.run("INSERT INTO pick (note) VALUES ('a')").unwrap();
    for (sql, of_ann, of_ben) in [
        ("SELECT n, last FROM picks", "2|2", "1|1"),
        ("SELECT note FROM pick WHERE note = 'b'", "b", ""),
        ("SELECT a FROM kept", "2", "2"),
        (
            "SELECT TABLE_TYPE FROM INFORMATION_SCHEMA.TABLES WHERE TABLE_NAME = 'pick'",
            "GLOBAL TEMPORARY",
            "GLOBAL TEMPORARY",
        ),
    ] {
        assert_eq!(run(&mut ann, sql).unwrap(), of_ann, "{sql}");
        assert_eq!(run(&mut ben, sql).unwrap(), of_ben, "{sql}");
    }
    assert_eq!(state(&mut ann, "INSERT INTO pick (note) VALUES ('b')"), "23000");
    // Both change rows of their own at the same time, and neither loses.
    ann.run("START TRANSACTION; DELETE FROM pick WHERE id = 1; INSERT INTO step VALUES (2)").unwrap();
    ben.run("START TRANSACTION; UPDATE pick SET note = 'z'; COMMIT").unwrap();
    assert_eq!(run(&mut ann, "SELECT COUNT(*) FROM step").unwrap(), "1");
    ann.run("SAVEPOINT s; DELETE FROM pick").unwrap();
    assert_eq!(run(&mut ann, "SELECT COUNT(*) FROM step").unwrap(), "0");
    ann.run("ROLLBACK TO SAVEPOINT s").unwrap();
    assert_eq!(run(&mut ann, "SELECT COUNT(*) FROM step").unwrap(), "1");
    ann.run("COMMIT").unwrap();
    assert_eq!(run(&mut ann, "SELECT (SELECT MIN(note) FROM pick), (SELECT COUNT(*) FROM step)").unwrap(), "b|0");
    assert_eq!(run(&mut ben, "SELECT note FROM pick").unwrap(), "z");
    ann.run("START TRANSACTION; DELETE FROM pick; ROLLBACK").unwrap();
    assert_eq!(run(&mut ann, "SELECT COUNT(*) FROM pick").unwrap(), "1");
    // Nobody takes the table away from another's rows.
    for sql in [
        "ALTER TABLE pick ADD COLUMN more INTEGER",
        "DROP TABLE pick CASCADE",
        "START TRANSACTION; DROP TABLE pick CASCADE; COMMIT",
    ] {
        assert_eq!(state(&mut ben, sql), "42000", "{sql}");
        ben.roll_back();
    }
    ann.run("DELETE FROM pick").unwrap();
    drop(ann);
    ben.run("ALTER TABLE pick ADD COLUMN more INTEGER DEFAULT 7").unwrap();
    assert_eq!(run(&mut ben, "SELECT note, more FROM pick").unwrap(), "z|7");
    let mut cat = db.session();
    assert_eq!(run(&mut cat, "SELECT COUNT(more) FROM pick").unwrap(), "0");
    for sql in [
        "CREATE TABLE c (a INTEGER REFERENCES pick)",
        "CREATE LOCAL TEMPORARY TABLE c (a INTEGER REFERENCES pick)",
        "CREATE GLOBAL TEMPORARY TABLE c (a INTEGER REFERENCES kept)",
    ] {
        assert_eq!(state(&mut cat, sql), "42000", "{sql}");
    }
    assert!(ben.verify().iter().all(|check| check.problem.is_none()));
    drop((ben, cat, db));
    let mut again = Database::open(&path).unwrap().session();
    assert_eq!(run(&mut again, "SELECT COUNT(more) FROM pick").unwrap(), "0");
}
