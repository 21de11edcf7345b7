//! How long it takes to read, bind and plan a query: chains, stars and cycles of 2 to 20 tables, each joined by a key, in microseconds.
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

/// How tables are joined.
#[derive(Clone, Copy, PartialEq)]
enum Shape {
    /// Each with the next.
    Chain,
    /// All with the first.
    Star,
    /// Each with the next, and the last with the first.
    Cycle,
}

fn query(tables: usize, shape: Shape) -> String {
    let from: Vec<String> = (0..tables).map(|table| format!("bed_{table} AS t{table}")).collect();
    let condition = |table: usize| format!("t{}.next = t{table}.id", if shape == Shape::Star { 0 } else { table - 1 });
    let mut conditions: Vec<String> = (1..tables).map(condition).collect();
    // Asked of an index while the plan is made.
    conditions.push("t0.size = 3 AND t0.id < 500".to_owned());
    if shape == Shape::Cycle {
        conditions.push(format!("t{}.next = t0.id", tables - 1));
    }
    format!("SELECT COUNT(*) FROM {} WHERE {}", from.join(", "), conditions.join(" AND "))
}

fn main() {
    let mut session = session();
    println!("tables     chain      star     cycle");
    for tables in [2, 3, 5, 8, 10, 12, 15, 17, 20] {
        let mut least = |shape: Shape| {
            let sql = query(tables, shape);
            let run = || {
                let start = Instant::now();
                session.plan(&sql, ()).expect("every query is planned");
                start.elapsed().as_secs_f64() * 1e6
            };
            std::iter::repeat_with(run).take(7).fold(f64::INFINITY, f64::min)
        };
        let (chain, star, cycle) = (least(Shape::Chain), least(Shape::Star), least(Shape::Cycle));
        println!("{tables:6}  {chain:8.0}  {star:8.0}  {cycle:8.0}");
    }
}
