//! Crashes of a durable database: the file's writes stop at a point, the last one torn and those since the last sync lost in part; what
//! is opened then must be a state that was committed, with its constraints holding.

use super::{Database, Session};
use crate::storage::{FileAccess, Store};
use redb::StorageBackend;
use std::io::Error as BackendIoError;
use std::path::Path;
use std::sync::{Arc, Mutex};

/// A file in memory that may stop writing.
#[derive(Clone, Debug, Default)]
struct Disk(Arc<Mutex<Image>>);

#[derive(Debug, Default)]
struct Image {
    bytes: Vec<u8>,
    /// What was synced last, and the writes since then.
    synced: Vec<u8>,
    since: Vec<Write>,
    writes: usize,
    /// The write at which everything stops.
    stops_at: usize,
}

#[derive(Clone, Debug)]
enum Write {
    At(usize, Vec<u8>),
    Length(usize),
}

fn apply(bytes: &mut Vec<u8>, write: &Write) {
    match write {
        Write::At(offset, data) => {
            if bytes.len() < offset + data.len() {
                bytes.resize(offset + data.len(), 0);
            }
            bytes[*offset..offset + data.len()].copy_from_slice(data);
        }
        Write::Length(length) => bytes.resize(*length, 0),
    }
}

fn stopped() -> BackendIoError {
    BackendIoError::other("the disk is gone")
}

impl Image {
    fn write(&mut self, write: Write) -> Result<(), BackendIoError> {
        self.writes += 1;
        if self.writes > self.stops_at {
            return Err(stopped());
        }
        let write = match write {
            // The last write is torn.
            Write::At(offset, data) if self.writes == self.stops_at => {
                Write::At(offset, data[..data.len() / 2].to_vec())
            }
            whole => whole,
        };
        apply(&mut self.bytes, &write);
        self.since.push(write);
        if self.writes == self.stops_at { Err(stopped()) } else { Ok(()) }
    }

    /// What is on the disk after the crash. Of the writes since the last sync some are lost: pattern 0 loses none, each other pattern
    /// others.
    fn after_crash(&self, pattern: usize) -> Vec<u8> {
        let mut bytes = self.synced.clone();
        for (number, write) in self.since.iter().enumerate() {
            let mixed = (number + 1).wrapping_mul(pattern.wrapping_mul(0x9e37_79b9)) >> 7;
            if pattern == 0 || mixed % 3 != self.stops_at % 3 {
                apply(&mut bytes, write);
            }
        }
        bytes
    }
}

impl StorageBackend for Disk {
    fn len(&self) -> Result<u64, BackendIoError> {
        Ok(self.0.lock().unwrap().bytes.len() as u64)
    }

    fn read(&self, offset: u64, out: &mut [u8]) -> Result<(), BackendIoError> {
        let image = self.0.lock().unwrap();
        let start = usize::try_from(offset).unwrap();
        let found = image.bytes.get(start..start + out.len()).ok_or_else(stopped)?;
        out.copy_from_slice(found);
        Ok(())
    }

    fn set_len(&self, len: u64) -> Result<(), BackendIoError> {
        self.0.lock().unwrap().write(Write::Length(usize::try_from(len).unwrap()))
    }

    fn sync_data(&self) -> Result<(), BackendIoError> {
        let mut image = self.0.lock().unwrap();
        if image.writes >= image.stops_at {
            return Err(stopped());
        }
        image.synced = image.bytes.clone();
        image.since.clear();
        Ok(())
    }

    fn write(&self, offset: u64, data: &[u8]) -> Result<(), BackendIoError> {
        self.0.lock().unwrap().write(Write::At(usize::try_from(offset).unwrap(), data.to_vec()))
    }
}

fn open(disk: &Disk) -> crate::Result<Database> {
    let file = redb::Builder::new().create_with_backend(disk.clone());
    let file = file.map_err(|error| crate::Error::new(crate::SqlState::FILE_ACCESS, error.to_string()))?;
    let gone = |_| Err(crate::Error::new(crate::SqlState::FILE_ACCESS, "the disk is gone"));
    let opener = Store::opener(Path::new("disk"), gone);
    Store::of(file, opener, FileAccess::ReadWrite).map(Database::stored)
}

/// The statements of the story; after each the two tables agree.
const STORY: [&str; 14] = [
    "CREATE TABLE bed (id INTEGER PRIMARY KEY, name VARCHAR(40)) WITH SYSTEM VERSIONING",
    "CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER REFERENCES bed ON DELETE CASCADE) WITH SYSTEM VERSIONING",
    "INSERT INTO bed SELECT value, 'a name that is longer than a view ' || CAST(value AS VARCHAR(9)) FROM SERIES(1, 300)",
    "START TRANSACTION; INSERT INTO task SELECT id * 10, id FROM bed; DELETE FROM bed WHERE id > 250; COMMIT",
    "UPDATE bed SET name = 'short' WHERE MOD(id, 2) = 0",
    "DELETE FROM bed WHERE id <= 100",
    "UPDATE task SET id = id + 1",
    "ALTER TABLE task SET HISTORY (ROLL EVERY 60 ROWS, KEEP 2)",
    "START TRANSACTION; DELETE FROM task WHERE bed > 200; UPDATE task SET id = id + 1; COMMIT",
    "ALTER TABLE bed ADD COLUMN sun VARCHAR(9) DEFAULT 'shade'",
    "CREATE VIEW shady AS SELECT id FROM bed WHERE sun = 'shade'",
    "START TRANSACTION; INSERT INTO bed (id, name) FROM FILE 'FOLDER/more.csv'; ROLLBACK",
    "INSERT INTO bed (id, name) FROM FILE 'FOLDER/more.csv'",
    "INSERT INTO bed VALUES (301, 'last', 'sun')",
];

/// A file of rows, more than a load keeps in memory in tests.
fn more_beds() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let rows: String = (1001..1200).map(|id| format!("{id},read from a file {id}\n")).collect();
    std::fs::write(folder.path().join("more.csv"), format!("id,name\n{rows}")).unwrap();
    folder
}

/// All that can be seen of the database.
fn picture(session: &mut Session) -> String {
    let mut shown = String::new();
    let tables = "SELECT TABLE_NAME, COLUMN_NAME FROM INFORMATION_SCHEMA.COLUMNS WHERE TABLE_SCHEMA = 'home'";
    for sql in [
        tables,
        "SELECT COUNT(*), SUM(id), COUNT(DISTINCT name), MAX(name) FROM bed",
        "SELECT COUNT(*), SUM(bed), SUM(id) FROM task",
        "SELECT COUNT(*), SUM(id) FROM shady",
        "SELECT COUNT(*), SUM(bed), SUM(id) FROM task FOR SYSTEM_TIME ALL",
        "SELECT COUNT(*), SUM(id), COUNT(DISTINCT name) FROM bed FOR SYSTEM_TIME ALL",
        "SELECT COUNT(*) FROM bed FOR SYSTEM_TIME ALL WHERE system_start NOT IN (SELECT commit_time FROM INFORMATION_SCHEMA.COMMITS)",
        "SELECT COUNT(*), SUM(id) FROM task FOR SYSTEM_TIME AS OF COMMIT 8",
        "SELECT COUNT(*), MAX(commit_number), SUM(rows_removed) FROM INFORMATION_SCHEMA.COMMITS",
    ] {
        let rows = session
            .query(sql, ())
            .map(|rows| rows.rows().map(|row| format!("{:?};", row.values())).collect::<String>());
        shown.push_str(&rows.unwrap_or_else(|error| error.sqlstate().to_string()));
    }
    shown
}

/// How far the story goes before the disk stops; gives the pictures after each of its statements that came through.
fn play(disk: &Disk, folder: &Path) -> Vec<String> {
    let mut pictures = Vec::new();
    let Ok(db) = open(disk) else { return pictures };
    let mut session = db.session();
    session.allow_folder(folder).unwrap();
    pictures.push(picture(&mut session));
    for statement in STORY {
        if session.run(statement.replace("FOLDER", folder.to_str().unwrap())).is_err() {
            return pictures;
        }
        pictures.push(picture(&mut session));
    }
    pictures
}

/// Crashes at every `step`th write, from `first` on, each with so many patterns of lost writes.
fn crash_points((first, step): (usize, usize), patterns: usize) -> usize {
    let (whole, folder) = (Disk::default(), more_beds());
    whole.0.lock().unwrap().stops_at = usize::MAX;
    let pictures = play(&whole, folder.path());
    assert_eq!(pictures.len(), STORY.len() + 1, "the story runs to its end");
    let writes = whole.0.lock().unwrap().writes;
    let mut points = 0;
    for stops_at in (first..writes).step_by(step) {
        let disk = Disk::default();
        disk.0.lock().unwrap().stops_at = stops_at;
        let reached = play(&disk, folder.path()).len();
        for pattern in 0..patterns {
            let bytes = disk.0.lock().unwrap().after_crash(pattern);
            let image = Image { synced: bytes.clone(), bytes, stops_at: usize::MAX, ..Image::default() };
            let Ok(db) = open(&Disk(Arc::new(Mutex::new(image)))) else {
                assert_eq!(
                    reached, 0,
                    "write {stops_at}: the file does not open, though {reached} states had been committed"
                );
                continue;
            };
            let mut session = db.session();
            let found = picture(&mut session);
            // The statement that met the crash may have come through, or not.
            let allowed = &pictures[reached.saturating_sub(1)..(reached + 1).min(pictures.len())];
            assert!(
                allowed.contains(&found),
                "write {stops_at}, {reached} states, pattern {pattern}\n{found}\n{allowed:#?}"
            );
            let wrong = session.verify().into_iter().find_map(|check| check.problem);
            assert!(wrong.is_none(), "write {stops_at}: {wrong:?}");
            // It goes on from there, and keys hold.
            if reached > 4 {
                assert!(session.run("INSERT INTO bed (id) SELECT MIN(id) FROM bed").is_err());
                session.run("INSERT INTO bed (id, name) VALUES (999, 'after')").unwrap();
            }
            points += 1;
        }
    }
    points
}

#[test]
fn a_crash_leaves_a_state_that_was_committed() {
    assert!(crash_points((7, 9), 2) > 10);
}

/// `cargo test --release every_crash_point -- --ignored`
#[test]
#[ignore = "takes a minute"]
fn every_crash_point() {
    println!("{} crash points", crash_points((1, 1), 12));
}
