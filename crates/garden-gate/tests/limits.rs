//! Interrupt, time limit, memory limit.

use crate::support::garden;
use std::thread;
use std::time::Duration;

/// Two hundred billion pairs: longer than anybody waits.
const ENDLESS: &str =
    "SELECT COUNT(*) FROM reading a, reading b, reading c WHERE a.moisture < b.temperature + c.temperature";

#[test]
fn an_interrupt_ends_the_statement_and_leaves_the_session_usable() {
    for workers in [1, 2] {
        let mut session = garden();
        session.set("workers", workers).unwrap();
        let interrupt = session.interrupt();
        let other = thread::spawn(move || {
            thread::sleep(Duration::from_millis(100));
            interrupt.interrupt();
        });
        let error = session.query(ENDLESS, ()).unwrap_err();
        other.join().unwrap();
        assert_eq!(error.sqlstate().as_str(), "HY008", "{error}");
        assert_eq!(session.query("SELECT COUNT(*) FROM bed", ()).unwrap().row_count(), 1);
    }
}

#[test]
fn a_time_limit_ends_the_statement() {
    let mut session = garden();
    session.set("time_limit", 50).unwrap();
    // The second gives no row at all: the pairs that are tried are checked too.
    for sql in [
        ENDLESS,
        "SELECT COUNT(*) FROM reading a, reading b, reading c WHERE a.moisture + b.moisture + c.moisture < -1000",
    ] {
        let error = session.query(sql, ()).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "HYT00", "{error}");
    }
    session.set("time_limit", 0).unwrap();
    assert!(session.query("SELECT COUNT(*) FROM bed", ()).is_ok());
}

#[test]
fn a_memory_limit_ends_the_statement() {
    let mut session = garden();
    session.set("memory_limit", "100 kB").unwrap();
    for sql in
        ["SELECT * FROM reading ORDER BY moisture", "SELECT taken, COUNT(*) FROM reading GROUP BY taken, sensor_id"]
    {
        let error = session.query(sql, ()).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "HY001", "{sql}: {error}");
    }
    // What spills to disk needs less.
    let joined = "SELECT COUNT(*) FROM reading a JOIN reading b ON a.taken = b.taken AND a.sensor_id = b.sensor_id";
    for sql in ["SELECT COUNT(*), SUM(moisture) FROM reading", joined] {
        assert!(session.query(sql, ()).is_ok(), "{sql}");
    }
}
