//! What history and periods cost: queries of current rows beside a table without history, queries of a moment beside a scan of the rows that they
//! return, and bookings that may not overlap. Figures are the least of several runs, taken in turn. `cargo bench --bench history`
#![expect(clippy::print_stdout, clippy::expect_used, reason = "a bench prints, and stops at what it does not expect")]

use garden_gate::{Database, Parameters, Session};
use std::time::Instant;

const RUNS: usize = 9;
/// Rows of the table whose versions are many.
const ROWS: i64 = 20_000;
const VERSIONS: usize = 100;
/// Rows and versions of the table that is asked for a moment.
const LARGE_ROWS: i64 = 1_000_000;
const LARGE_VERSIONS: usize = 10;
const BOOKINGS: i64 = 200_000;

fn session() -> Session {
    let mut session = Database::in_memory().session();
    session.set("workers", 1).expect("a setting");
    session.set("memory_limit", 0).expect("a setting");
    session
}

fn run(session: &mut Session, sql: &str) {
    session.run(sql).unwrap_or_else(|error| panic!("{sql}\n{error}"));
}

/// Milliseconds of each query, the least of several runs in turn.
fn times<const N: usize>(session: &mut Session, queries: [&str; N]) -> [f64; N] {
    let mut least = [f64::INFINITY; N];
    for _ in 0..RUNS {
        for (query, least) in queries.iter().zip(&mut least) {
            let started = Instant::now();
            session.query(query, ()).unwrap_or_else(|error| panic!("{query}\n{error}"));
            *least = least.min(started.elapsed().as_secs_f64() * 1e3);
        }
    }
    least
}

/// A table of so many rows, and the same with history: every row is updated so often.
fn two_tables(session: &mut Session, rows: i64, versions: usize) {
    for (name, versioned) in [("plain", ""), ("kept", " WITH SYSTEM VERSIONING")] {
        run(session, &format!("CREATE TABLE {name} (k INTEGER PRIMARY KEY, v INTEGER, w INTEGER){versioned}"));
        run(session, &format!("INSERT INTO {name} SELECT value, 0, value FROM SERIES(1, {rows})"));
        for _ in 0..versions {
            run(session, &format!("UPDATE {name} SET v = v + 1"));
        }
    }
}

fn current_rows() {
    let mut session = session();
    two_tables(&mut session, ROWS, VERSIONS);
    println!("current rows, {VERSIONS} versions of each of {ROWS} in history       ms without, with     ratio");
    for query in ["SELECT COUNT(*), SUM(v) FROM t", "SELECT v, COUNT(*) FROM t WHERE MOD(w, 3) = 0 GROUP BY v"] {
        let queries = ["plain", "kept"].map(|name| query.replace(" t", &format!(" {name}")));
        let [without, with] = times(&mut session, [&queries[0], &queries[1]]);
        println!("{query:60} {without:12.3} {with:9.3} {:8.2}×", with / without);
    }
}

fn moments() {
    let mut session = session();
    two_tables(&mut session, LARGE_ROWS, LARGE_VERSIONS);
    println!(
        "\na moment, {LARGE_ROWS} rows and {LARGE_VERSIONS} times as many in history     ms of a scan, ours   ratio"
    );
    for commit in ["3", "7", "11"] {
        // Commits of both tables are counted: the second begins after the first.
        let commit = LARGE_VERSIONS + 2 + commit.parse::<usize>().expect("a number");
        let query = format!("SELECT COUNT(*), SUM(v), SUM(w) FROM kept FOR SYSTEM_TIME AS OF COMMIT {commit}");
        let [scan, ours] = times(&mut session, ["SELECT COUNT(*), SUM(v), SUM(w) FROM plain", &query]);
        println!("{:60} {scan:12.3} {ours:9.3} {:8.2}×", format!("AS OF COMMIT {commit}"), ours / scan);
    }
}

/// Bookings one by one, of a hundred bays in turn; and the same with a plain key.
fn bookings() {
    println!("\n{BOOKINGS} bookings, each in a statement of its own     µs of the first tenth, of the last     ratio");
    for (name, key) in
        [("PRIMARY KEY (bay, f)", "bay, f"), ("PRIMARY KEY (bay, p WITHOUT OVERLAPS)", "bay, p WITHOUT OVERLAPS")]
    {
        let mut session = session();
        run(
            &mut session,
            &format!("CREATE TABLE b (bay INTEGER, f DATE, t DATE, PERIOD FOR p (f, t), PRIMARY KEY ({key}))"),
        );
        let insert = session.prepare("INSERT INTO b VALUES (?, ?, ?)").expect("a statement");
        let mut tenths = Vec::new();
        let mut started = Instant::now();
        for number in 0..BOOKINGS {
            let day = garden_gate::Value::Date(i32::try_from(number / 100 * 2).expect("a day"));
            let next = garden_gate::Value::Date(i32::try_from(number / 100 * 2 + 2).expect("a day"));
            let values = Parameters::new().push(number % 100).push(day).push(next);
            session.execute_prepared(&insert, values).expect("a booking");
            if (number + 1) % (BOOKINGS / 10) == 0 {
                tenths.push(
                    started.elapsed().as_secs_f64() * 1e6 / f64::from(i32::try_from(BOOKINGS / 10).expect("a number")),
                );
                started = Instant::now();
            }
        }
        let (first, last) = (tenths[0], tenths[tenths.len() - 1]);
        println!("{name:60} {first:12.2} {last:9.2} {:8.2}×", last / first);
    }
}

fn main() {
    current_rows();
    moments();
    bookings();
}
