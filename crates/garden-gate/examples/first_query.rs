//! A first query: files become tables, a question gets rows.
//!
//! `cargo run --example first_query` from the project's folder.
#![expect(clippy::print_stdout, reason = "an example shows what it finds")]

use garden_gate::{Database, Parameters};
use std::path::Path;

fn main() -> garden_gate::Result<()> {
    let db = Database::in_memory();
    let tables = db.add_folder(None, Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/data"))?;
    println!("{} tables, from {} to {}", tables.len(), tables[0], tables[tables.len() - 1]);

    let mut session = db.session();
    let sql = "SELECT b.name, COUNT(*) AS tasks, SUM(t.hours) AS hours
               FROM task AS t JOIN bed AS b USING (bed_id)
               WHERE b.sun = :sun
               GROUP BY b.name
               ORDER BY hours DESC";
    let rows = session.query(sql, Parameters::new().set("sun", "shade"))?;
    for row in rows.rows() {
        println!("{}: {} tasks, {} hours", row.get::<String>(0)?, row.get::<i64>(1)?, row.value(2));
    }
    assert_eq!(rows.columns()[2].name, "hours");

    // What goes wrong says where and what to write instead.
    let Err(error) = session.query("SELECT nmae FROM bed", ()) else { return Ok(()) };
    println!("{error}");
    Ok(())
}
