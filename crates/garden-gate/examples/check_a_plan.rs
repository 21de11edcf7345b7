//! Checking a plan, as a test of an application would: how tables are read, how they are joined, how far estimates are off, and what
//! a filter loses to NULL.
//!
//! `cargo run --example check_a_plan`
#![expect(clippy::print_stdout, reason = "an example shows what it finds")]

use garden_gate::{Database, plan::JoinMethod};
use std::path::Path;

fn main() -> garden_gate::Result<()> {
    let db = Database::in_memory();
    db.add_folder(None, Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/data"))?;
    let mut session = db.session();
    let sql = "SELECT t.task_id FROM task AS t JOIN bed AS b ON b.bed_id = t.bed_id WHERE b.sun <> 'shade'";

    let predicted = session.plan(sql, ())?;
    assert!(predicted.reads("task").by_scan());
    assert_eq!(predicted.joins(), [JoinMethod::Hash]);

    // The plan that was predicted is the one that runs.
    let (rows, measured) = session.measure(sql, ())?;
    assert_eq!(predicted.fingerprint, measured.fingerprint);
    println!("{} rows by plan {}", rows.row_count(), measured.fingerprint);

    if let Some(worst) = measured.worst_estimate() {
        println!("worst estimate: {}, off by {:.1}", worst.operator, worst.estimate_error.unwrap_or(1.0));
    }
    for truth in measured.nodes().iter().flat_map(|node| &node.truth) {
        println!("{}: {} TRUE, {} FALSE, {} UNKNOWN", truth.predicate, truth.holds, truth.fails, truth.unknown);
        assert_eq!(truth.holds + truth.fails + truth.unknown, 48, "every bed is counted");
    }
    Ok(())
}
