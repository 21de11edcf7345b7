//! Reading results as Arrow record batches, column by column.
//!
//! `cargo run --example results_as_arrow`
#![expect(clippy::print_stdout, reason = "an example shows what it finds")]

use garden_gate::Database;
use garden_gate::arrow::array::{Array, AsArray};
use garden_gate::arrow::datatypes::{Decimal64Type, Int32Type};
use std::path::Path;

fn main() -> garden_gate::Result<()> {
    let db = Database::in_memory();
    db.add_file("reading", Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/data/reading.csv"))?;
    let rows = db.session().query("SELECT sensor_id, moisture FROM reading WHERE temperature > 10", ())?;

    let (mut wettest, mut missing) = ((0, 0), 0);
    for batch in rows.batches()? {
        let sensor = batch.column(0).as_primitive::<Int32Type>();
        let moisture = batch.column(1).as_primitive::<Decimal64Type>();
        missing += moisture.null_count();
        for (sensor, tenths) in sensor.values().iter().zip(moisture) {
            wettest = wettest.max((tenths.unwrap_or(0), *sensor));
        }
    }
    println!("{} warm readings, {missing} without moisture", rows.row_count());
    println!("the wettest: {}.{} at sensor {}", wettest.0 / 10, wettest.0 % 10, wettest.1);
    assert!(wettest.0 > 0 && missing > 0);
    Ok(())
}
