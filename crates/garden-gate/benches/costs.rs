//! What the planner's units are worth: for each operator, in several sizes and shapes, the time it took for each unit of the cost it was
//! given. With costs that fit all lines say the same; a line that says more was thought too cheap, one that says less too dear.
//!
//! `cargo bench --bench costs`
#![expect(
    clippy::print_stdout,
    clippy::expect_used,
    reason = "a bench prints its figures, and stops at what it does not expect"
)]

use garden_gate::{Database, Session, plan::PlanNode};
use std::collections::BTreeMap;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Times that each query is run; the least counts.
const RUNS: usize = 5;
/// What took less time than this is not counted, in milliseconds.
const LEAST_TIME: f64 = 0.2;

const TABLES: &str = "
    CREATE TABLE bed (id INTEGER PRIMARY KEY, sun VARCHAR(10), area INTEGER);
    INSERT INTO bed SELECT n, CASE WHEN MOD(n, 50) = 0 THEN 'shade' ELSE 'full sun' END, MOD(n * 37, 400) FROM SERIES(1, 20000) AS s (n);
    CREATE TABLE chore (id INTEGER PRIMARY KEY, bed INTEGER, day INTEGER, kind VARCHAR(10), hours NUMERIC(6,2));
    INSERT INTO chore SELECT n, MOD(MOD(n, 100003) * 7919, 20000) + 1, n / 1000, 'kind ' || CAST(MOD(n, 40) AS VARCHAR(3)), MOD(n, 800) / 100.0
      FROM SERIES(1, 1000000) AS s (n);
    CREATE INDEX chore_bed_ix ON chore (bed) INCLUDE (hours); CREATE INDEX chore_day_ix ON chore (day);
    ANALYZE bed; ANALYZE chore;";

/// Each is run as it appears; a guide makes the operator that is wanted.
const QUERIES: &[&str] = &[
    "SELECT COUNT(*) FROM chore WHERE hours > 3",
    "SELECT COUNT(*) FROM chore WHERE kind = 'kind 7'",
    "SELECT COUNT(*) FROM chore WHERE kind LIKE '%7%' AND hours > 1",
    "SELECT SUM(hours) FROM chore",
    "SELECT SUM(hours), MIN(day), MAX(bed) FROM chore",
    "SELECT SUM(hours * 2 + day) FROM chore",
    "SELECT bed, SUM(hours) FROM chore GROUP BY bed GUIDE (READ chore BY SCAN)",
    "SELECT kind, SUM(hours) FROM chore GROUP BY kind",
    "SELECT day, COUNT(*) FROM chore GROUP BY day GUIDE (READ chore BY SCAN)",
    "SELECT kind, day, COUNT(*) FROM chore GROUP BY kind, day",
    "SELECT bed, COUNT(*), SUM(hours) FROM chore GROUP BY bed GUIDE (READ chore BY INDEX chore_bed_ix)",
    "SELECT bed, COUNT(*) FROM (SELECT bed FROM chore ORDER BY bed FETCH FIRST 900000 ROWS ONLY) AS c GROUP BY bed",
    "SELECT DISTINCT bed FROM chore",
    "SELECT id FROM chore ORDER BY hours, id",
    "SELECT id, kind, hours FROM chore WHERE day < 200 ORDER BY bed",
    "SELECT id FROM chore ORDER BY kind, bed",
    "SELECT id FROM chore ORDER BY hours DESC FETCH FIRST 10 ROWS ONLY",
    "SELECT id FROM chore ORDER BY hours DESC FETCH FIRST 10000 ROWS ONLY",
    "SELECT SUM(b.area) FROM chore c JOIN bed b ON c.bed = b.id GUIDE (JOIN (c, b) BY HASH)",
    "SELECT SUM(b.area) FROM chore c JOIN bed b ON c.bed = b.id WHERE b.sun = 'shade' GUIDE (JOIN (c, b) BY HASH)",
    "SELECT SUM(d.hours) FROM chore c JOIN chore d ON c.id = d.id GUIDE (JOIN (c, d) BY HASH)",
    "SELECT SUM(d.hours) FROM chore c JOIN chore d ON c.bed = d.bed AND c.day = d.day WHERE c.day < 300 GUIDE (JOIN (c, d) BY HASH)",
    "SELECT SUM(b.area) FROM chore c JOIN bed b ON c.bed = b.id WHERE c.day < 300 GUIDE (JOIN (c, b) BY MERGE)",
    "SELECT SUM(d.hours) FROM chore c JOIN chore d ON c.id = d.id WHERE c.day < 300 GUIDE (JOIN (c, d) BY MERGE)",
    "SELECT COUNT(*) FROM bed b JOIN bed c ON b.area < c.area WHERE b.id < 800 AND c.id < 2000",
    "SELECT SUM(c.hours) FROM bed b JOIN chore c ON c.bed = b.id WHERE b.area < 20 GUIDE (JOIN (b, c) BY NESTED LOOP)",
    "SELECT SUM(d.hours) FROM chore c JOIN chore d ON d.id = c.id WHERE c.day < 30 GUIDE (JOIN (c, d) BY NESTED LOOP)",
    "SELECT SUM(hours) FROM chore WHERE bed BETWEEN 10 AND 900 GUIDE (READ chore BY INDEX chore_bed_ix)",
    "SELECT SUM(id) FROM chore WHERE bed BETWEEN 10 AND 900 GUIDE (READ chore BY INDEX chore_bed_ix)",
    "SELECT SUM(id) FROM chore WHERE day BETWEEN 10 AND 90 GUIDE (READ chore BY INDEX chore_day_ix)",
    "SELECT COUNT(*) FROM bed b WHERE EXISTS (SELECT 1 FROM chore c WHERE c.bed = b.id AND c.day = 5)",
    "SELECT COUNT(*) FROM chore c WHERE NOT EXISTS (SELECT 1 FROM bed b WHERE b.id = c.bed AND b.sun = 'shade')",
];

/// The name of an operator, with the way a join goes about it.
fn name(node: &PlanNode) -> String {
    match node.kind {
        Some(kind) if node.operator.name().ends_with("join") => format!("{}, {kind}", node.operator),
        _ => node.operator.name().to_owned(),
    }
}

/// Nanoseconds for each unit of cost that actual rows would have: the estimates of these queries are near enough.
fn gather(node: &PlanNode, found: &mut BTreeMap<String, Vec<(f64, f64)>>) {
    if let Some(elapsed) = node.elapsed_ms
        && elapsed >= LEAST_TIME
        && node.own_cost > 0.0
    {
        found.entry(name(node)).or_default().push((elapsed * 1e6 / node.own_cost, elapsed));
    }
    node.children.iter().for_each(|child| gather(child, found));
}

/// The run that took least.
fn measured(session: &mut Session, sql: &str) -> PlanNode {
    let mut best: Option<(f64, PlanNode)> = None;
    for _ in 0..RUNS {
        let (rows, plan) = session.measure(sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}"));
        let time = rows.elapsed().as_secs_f64();
        if best.as_ref().is_none_or(|(known, _)| time < *known) {
            best = Some((time, plan.root));
        }
    }
    best.map(|(_, root)| root).expect("a run")
}

fn main() {
    let mut session = Database::in_memory().session();
    session.run(TABLES).expect("the tables");
    session.run("SET workers = 1").expect("a setting");
    let mut all: BTreeMap<String, Vec<(f64, f64)>> = BTreeMap::new();
    let mut whole = Vec::new();
    for sql in QUERIES {
        let root = measured(&mut session, sql);
        let mut own = BTreeMap::new();
        gather(&root, &mut own);
        println!("{sql}");
        for (operator, units) in own {
            for (unit, elapsed) in &units {
                println!("    {operator:<32} {elapsed:>9.2} ms {unit:>8.3} ns a unit");
            }
            whole.extend(units.iter().map(|(unit, _)| *unit));
            all.entry(operator).or_default().extend(units);
        }
    }
    println!("\n{:<36} {:>6} {:>8} {:>8} {:>8}", "nanoseconds for a unit of cost", "times", "least", "median", "most");
    all.insert("all operators".into(), whole.into_iter().map(|unit| (unit, 0.0)).collect());
    for (operator, mut units) in all {
        units.sort_by(|a, b| a.0.total_cmp(&b.0));
        let at = |place: usize| units[place].0;
        println!(
            "{operator:<36} {:>6} {:>8.3} {:>8.3} {:>8.3}",
            units.len(),
            at(0),
            at(units.len() / 2),
            at(units.len() - 1)
        );
    }
}
