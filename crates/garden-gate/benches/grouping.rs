//! Groupings and windows that ask for more than their finest part: each beside that part, as a ratio, in one run.
//! `cargo bench --bench grouping [ROWS]`; without a number, 2,000,000 rows.
#![expect(clippy::print_stdout, clippy::expect_used, reason = "a bench prints, and stops at what it does not expect")]

use garden_gate::{Database, Session};
use std::time::{Duration, Instant};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Runs of each query; the least time counts.
const RUNS: usize = 5;

/// What is asked, and the finest part of it that has to be done anyway.
const PAIRS: [(&str, &str, &str); 5] = [
    (
        "ROLLUP of five levels / its finest grouping",
        "SELECT a, b, c, d, COUNT(*), SUM(v) FROM fact GROUP BY ROLLUP (a, b, c, d)",
        "SELECT a, b, c, d, COUNT(*), SUM(v) FROM fact GROUP BY a, b, c, d",
    ),
    (
        "CUBE of three columns / its finest grouping",
        "SELECT a, b, c, COUNT(*), MIN(v) FROM fact GROUP BY CUBE (a, b, c)",
        "SELECT a, b, c, COUNT(*), MIN(v) FROM fact GROUP BY a, b, c",
    ),
    (
        "ten columns of one key / the key",
        "SELECT k.id, k.c1, k.c2, k.c3, k.c4, k.c5, k.c6, k.c7, k.c8, k.c9, COUNT(*) \
         FROM fact AS f JOIN keyed AS k ON k.id = f.k \
         GROUP BY k.id, k.c1, k.c2, k.c3, k.c4, k.c5, k.c6, k.c7, k.c8, k.c9",
        "SELECT k.id, COUNT(*) FROM fact AS f JOIN keyed AS k ON k.id = f.k GROUP BY k.id",
    ),
    (
        "RANK within 500,000 partitions / a count of them",
        "SELECT SUM(r) FROM (SELECT RANK() OVER (PARTITION BY p ORDER BY v) AS r FROM fact) AS t",
        "SELECT COUNT(*) FROM (SELECT p FROM fact GROUP BY p) AS t",
    ),
    (
        "running SUM within 500,000 partitions / a count of them",
        "SELECT SUM(r) FROM (SELECT SUM(v) OVER (PARTITION BY p ORDER BY n) AS r FROM fact) AS t",
        "SELECT COUNT(*) FROM (SELECT p FROM fact GROUP BY p) AS t",
    ),
];

fn time(session: &mut Session, sql: &str) -> Duration {
    let run = || {
        let start = Instant::now();
        session.query(sql, ()).expect("a bench");
        start.elapsed()
    };
    std::iter::repeat_with(run).take(RUNS).min().unwrap_or_default()
}

fn main() {
    let rows = std::env::args().filter_map(|argument| argument.parse::<u64>().ok()).next().unwrap_or(2_000_000);
    let mut session = Database::in_memory().session();
    session
        .run(format!(
            "CREATE TABLE fact (n INTEGER, a INTEGER, b INTEGER, c INTEGER, d INTEGER, k INTEGER, p INTEGER, v BIGINT);
             INSERT INTO fact SELECT i, MOD(i, 10), MOD(i * 7, 20), MOD(i * 13, 50), MOD(i * 31, 100), MOD(i * 17, {keys}) + 1,
                 MOD(CAST(i AS BIGINT) * 7919, {partitions}), MOD(CAST(i AS BIGINT) * 104729, 1000003) FROM SERIES(1, {rows}) AS s (i);
             CREATE TABLE keyed (id INTEGER PRIMARY KEY, c1 VARCHAR(20), c2 VARCHAR(20), c3 INTEGER, c4 INTEGER, c5 DATE,
                 c6 NUMERIC(10,2), c7 VARCHAR(20), c8 INTEGER, c9 BIGINT);
             INSERT INTO keyed SELECT i, 'first ' || CAST(i AS VARCHAR(10)), 'second ' || CAST(i AS VARCHAR(10)), i, i + 1, DATE '2024-01-01', i / 4.0, 'third ' || CAST(i AS VARCHAR(10)), i, i
                 FROM SERIES(1, {keys}) AS s (i)",
            keys = rows / 20,
            partitions = rows / 4,
        ))
        .expect("a bench");
    println!("{rows} rows{:46}   ms  against   ratio", "");
    for workers in [1, 2] {
        session.set("workers", workers).expect("a known setting");
        println!("{workers} worker(s)");
        for (what, asked, finest) in PAIRS {
            let [asked, finest] = [asked, finest].map(|sql| time(&mut session, sql).as_secs_f64() * 1e3);
            println!("  {what:<56} {asked:6.0}   {finest:6.0}   {:5.2}", asked / finest);
        }
    }
}
