//! What the hot pipelines of the benchmark ask of the allocator, for each batch and for each row: counted, so that a copy or an allocation a
//! row that comes back is seen on any machine.

use super::{QUERIES, data};
use crate::counted::{Asked, asked_by};
use garden_gate::Session;

/// Rows of lineitem at scale factor 0.01.
const ROWS: u64 = 60_175;
const SMALL: u64 = 1024;
const LARGE: u64 = 8192;

fn asked(session: &mut Session, batch_rows: u64, sql: &str) -> Asked {
    session.set("batch_rows", i64::try_from(batch_rows).unwrap()).unwrap();
    // The second run: the first one gathers statistics.
    session.query(sql, ()).unwrap();
    asked_by(|| drop(session.query(sql, ()).unwrap()))
}

#[test]
fn hot_pipelines_allocate_little_for_each_batch_and_row() {
    let db = data::database(0.01);
    let mut session = db.session();
    session.set("workers", 1).unwrap();
    // Allocations for each batch of lineitem, and bytes for each of its rows: a fifth more than there were when this was written.
    for (name, most_times, most_bytes) in [("q01", 80, 168), ("q09", 133, 59)] {
        let sql = QUERIES.iter().find(|(known, ..)| *known == name).unwrap().1;
        let (small, large) = (asked(&mut session, SMALL, sql), asked(&mut session, LARGE, sql));
        // What does not depend on the number of batches is in both.
        let batches = ROWS.div_ceil(SMALL) - ROWS.div_ceil(LARGE);
        let (times, bytes) = (small.times.saturating_sub(large.times) / batches, large.bytes / ROWS);
        assert!(times <= most_times, "{name}: {times} allocations a batch");
        assert!(bytes <= most_bytes, "{name}: {bytes} bytes a row");
    }
}
