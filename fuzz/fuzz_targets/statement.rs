//! Any text is rows or an error, never a panic.

#![no_main]

use garden_gate::{Column, Database, SqlType};
use libfuzzer_sys::fuzz_target;
use std::time::Duration;

fuzz_target!(|text: &str| {
    let db = Database::in_memory();
    let columns = [Column::new("bed_id", SqlType::Integer), Column::new("name", SqlType::Varchar(None))];
    let rows = [vec![1.into(), "Fern gully".into()], vec![2.into(), garden_gate::Value::Null]];
    db.add_rows("bed", &columns, &rows).expect("a table");
    let mut session = db.session();
    session.limit_time(Some(Duration::from_millis(200)));
    session.limit_memory(Some(64 << 20));
    let _ = session.run(text);
});
