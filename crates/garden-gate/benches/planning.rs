//! How long it takes to read, bind and plan a query: chains and stars of 2 to 20 tables, each joined by a key, in microseconds.
//!
//! `cargo bench --bench planning`
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

use garden_gate::{Database, Session};
use std::time::Instant;

/// Tables of which joins are made.
const TABLES: usize = 20;

fn session() -> Session {
    let mut session = Database::in_memory().session();
    for table in 0..TABLES {
        let sql = format!(
            "CREATE TABLE bed_{table} (id INTEGER PRIMARY KEY, next INTEGER, size INTEGER);
             INSERT INTO bed_{table} SELECT value, MOD(value * 7, 1000) + 1, MOD(value, 10) FROM SERIES(1, 1000)"
        );
        session.run(&sql).expect("the tables are made");
    }
    session
}

/// Each table with the next, or all with the first.
fn query(tables: usize, star: bool) -> String {
    let from: Vec<String> = (0..tables).map(|table| format!("bed_{table} AS t{table}")).collect();
    let condition = |table: usize| format!("t{}.next = t{table}.id", if star { 0 } else { table - 1 });
    let conditions: Vec<String> = (1..tables).map(condition).chain(["t0.size = 3".to_owned()]).collect();
    format!("SELECT COUNT(*) FROM {} WHERE {}", from.join(", "), conditions.join(" AND "))
}

fn main() {
    let mut session = session();
    println!("tables     chain      star");
    for tables in [2, 3, 5, 8, 10, 12, 15, 20] {
        let mut least = |star: bool| {
            let sql = query(tables, star);
            let run = || {
                let start = Instant::now();
                session.plan(&sql, ()).expect("every query is planned");
                start.elapsed().as_secs_f64() * 1e6
            };
            std::iter::repeat_with(run).take(7).fold(f64::INFINITY, f64::min)
        };
        let (chain, star) = (least(false), least(true));
        println!("{tables:6}  {chain:8.0}  {star:8.0}");
    }
}
