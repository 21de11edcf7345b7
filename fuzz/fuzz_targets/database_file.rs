//! A database file with bytes changed opens and reads as it was, or is an error, never a panic.

#![no_main]

use garden_gate::Database;
use libfuzzer_sys::fuzz_target;
use std::sync::OnceLock;

/// A whole file.
fn whole() -> &'static [u8] {
    static BYTES: OnceLock<Vec<u8>> = OnceLock::new();
    BYTES.get_or_init(|| {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("garden.db");
        let make = "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(20));
            INSERT INTO bed SELECT i, 'bed ' || CAST(i AS VARCHAR(9)) FROM SERIES(1, 500) AS s (i); DELETE FROM bed WHERE bed_id < 9";
        Database::open(&path).expect("a database").session().run(make).expect("a table");
        std::fs::read(&path).expect("its bytes")
    })
}

fuzz_target!(|changes: Vec<(u32, u8)>| {
    let mut bytes = whole().to_vec();
    let length = bytes.len();
    for (at, byte) in changes {
        bytes[at as usize % length] = byte;
    }
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("garden.db");
    std::fs::write(&path, bytes).expect("a file");
    if let Ok(db) = Database::open(&path) {
        let session = db.session();
        let _ = session.verify();
    }
});
