//! A database file in which bytes were changed: it reads as it was, or is an error; never a panic, never other rows.

use crate::random_queries::Draw;
use crate::support::show;
use garden_gate::{Database, Error};
use std::path::Path;

const MAKE: &str = "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(40));
    INSERT INTO bed SELECT n, 'bed number ' || CAST(n AS VARCHAR(9)) FROM SERIES(1, 500) AS s (n);
    DELETE FROM bed WHERE bed_id < 9;
    CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER NOT NULL REFERENCES bed);
    INSERT INTO task SELECT n, 9 + MOD(n, 400) FROM SERIES(1, 300) AS s (n)";

/// Of beds 9 to 500: 492, which sum up to 492 * 509 / 2. Of tasks 1 to 300 the beds 10 to 309: 300 * 319 / 2.
const READ: [(&str, &str); 3] = [
    ("SELECT COUNT(*), SUM(bed_id), COUNT(DISTINCT name) FROM bed", "492|125214|492"),
    ("SELECT COUNT(*), SUM(bed_id) FROM task", "300|47850"),
    ("SELECT COUNT(*) FROM task JOIN bed USING (bed_id) WHERE name = 'bed number 10'", "1"),
];

/// What reads as it should, before and after a commit.
fn read(path: &Path, seed: u64) -> Result<(), Error> {
    let db = Database::open(path)?;
    let mut session = db.session();
    for (sql, rows) in READ {
        assert_eq!(show(&session.query(sql, ())?), rows, "seed {seed}: {sql}");
    }
    session.run("INSERT INTO task VALUES (301, 9)")?;
    assert_eq!(show(&session.query("SELECT COUNT(*) FROM task", ())?), "301", "seed {seed}");
    drop(session);
    drop(db);
    let mut session = Database::open(path)?.session();
    assert_eq!(show(&session.query("SELECT COUNT(*) FROM task", ())?), "301", "seed {seed}: opened again");
    Ok(())
}

#[test]
fn changed_bytes_are_told_of() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.gate");
    Database::open(&path).unwrap().session().run(MAKE).unwrap();
    let whole = std::fs::read(&path).unwrap();
    // Bytes that are not 0 are where something is written.
    let written: Vec<usize> = (0..whole.len()).filter(|at| whole[*at] != 0).collect();
    let mut told = 0;
    for seed in 0..200 {
        let mut draw = Draw::new(seed);
        let mut bytes = whole.clone();
        for _ in 0..=draw.below(3) {
            let at = if draw.coin() { draw.below(bytes.len()) } else { *draw.pick(&written) };
            bytes[at] = u8::try_from(draw.below(256)).unwrap();
        }
        std::fs::write(&path, bytes).unwrap();
        if let Err(error) = read(&path, seed) {
            assert!(["22000", "58030"].contains(&error.sqlstate().as_str()), "seed {seed}: {error}");
            told += 1;
        }
    }
    assert!(told > 20, "only {told} of 200 were told of");
}
