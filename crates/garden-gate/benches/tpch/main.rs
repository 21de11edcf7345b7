//! The 22 queries of TPC-H at scale factors 0.1 and 1, on one worker and on two: the time of each, in milliseconds, and their sum; then how
//! far the estimates of their reads and joins are off.
//!
//! `cargo bench --bench tpch` takes all; `cargo bench --bench tpch -- 1 q09 q21` a scale factor and some of the queries, with `plan` also
//! their measured plans, and `runs=25` so many runs.
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod data;

use garden_gate::{Session, plan::PlanNode};
use std::time::Instant;

/// Batches come and go on all workers: an allocator that keeps pages for the next one takes half the time of page faults away.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Runs of each query; the least time counts.
const RUNS: usize = 3;
/// Estimates off by more than this are shown separately.
const FAR: f64 = 4.0;

macro_rules! queries {
    ($($name:literal),*) => { [$(($name, include_str!(concat!("queries/", $name, ".sql")))),*] };
}

const QUERIES: [(&str, &str); 22] = queries!(
    "q01", "q02", "q03", "q04", "q05", "q06", "q07", "q08", "q09", "q10", "q11", "q12", "q13", "q14", "q15", "q16",
    "q17", "q18", "q19", "q20", "q21", "q22"
);

fn time(session: &mut Session, workers: i64, runs: usize, sql: &str) -> f64 {
    session.set("workers", workers).expect("a known setting");
    let run = || {
        let start = Instant::now();
        session.query(sql, ()).expect("every query runs");
        start.elapsed().as_secs_f64() * 1e3
    };
    std::iter::repeat_with(run).take(runs).fold(f64::INFINITY, f64::min)
}

fn main() {
    let wanted: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let scales: Vec<f64> = wanted.iter().filter_map(|arg| arg.parse().ok()).collect();
    let runs = wanted.iter().find_map(|arg| arg.strip_prefix("runs=")?.parse().ok()).unwrap_or(RUNS);
    let names: Vec<&String> = wanted.iter().filter(|arg| arg.starts_with('q')).collect();
    for scale in if scales.is_empty() { vec![0.1, 1.0] } else { scales } {
        let start = Instant::now();
        let db = data::database(scale);
        println!("scale factor {scale}, made in {:.1} s", start.elapsed().as_secs_f64());
        println!("query   1 worker  2 workers   ratio");
        let mut session = db.session();
        let mut sums = [0.0; 2];
        for (name, sql) in QUERIES.iter().filter(|(name, _)| names.is_empty() || names.iter().any(|n| n == name)) {
            let sql = if *name == "q11" {
                sql.replace("0.0001", &format!("{:.10}", 0.0001 / scale))
            } else {
                (*sql).to_owned()
            };
            let times = [time(&mut session, 1, runs, &sql), time(&mut session, 2, runs, &sql)];
            println!("{name}     {:8.1}   {:8.1}   {:5.2}", times[0], times[1], times[0] / times[1]);
            if wanted.iter().any(|arg| arg == "plan") {
                session.set("workers", 1).expect("a known setting");
                let (_, plan) = session.measure(sql.as_str(), ()).expect("every query runs");
                println!("{plan}");
            }
            sums = [sums[0] + times[0], sums[1] + times[1]];
        }
        println!("all     {:8.1}   {:8.1}   {:5.2}\n", sums[0], sums[1], sums[0] / sums[1]);
        if names.is_empty() {
            estimates(&mut session);
        }
    }
}

/// How far the estimates of reading and joining are off, by the number of joins below.
fn estimates(session: &mut Session) {
    let mut errors: Vec<Vec<f64>> = Vec::new();
    let mut far = Vec::new();
    for (name, sql) in QUERIES {
        let (_, plan) = session.measure(sql, ()).expect("every query runs");
        for node in plan.nodes() {
            let joins = joins_below(node);
            if !(node.operator.name().ends_with("join") || node.operator.name().contains("scan")) {
                continue;
            }
            errors.resize_with(errors.len().max(joins + 1), Vec::new);
            errors[joins].extend(node.estimate_error);
            if let (Some(error), Some(rows)) = (node.estimate_error.filter(|error| *error > FAR), node.actual_rows) {
                let (operator, kind) = (node.operator, node.kind.map_or("", |kind| kind.name()));
                let target = node.target.as_deref().unwrap_or_default();
                let conditions: Vec<&str> = node.predicates.iter().map(|known| known.text.as_str()).collect();
                let (estimated, on) = (node.estimated_rows, conditions.join(" AND "));
                far.push(format!(
                    "{error:8.1}  {name} {operator} {kind} {target}: {estimated:.0}, not {rows} rows, on {on}"
                ));
            }
        }
    }
    println!("joins  operators  median    95 %     worst");
    let mut all = Vec::new();
    for (joins, found) in errors.iter().enumerate().filter(|(_, found)| !found.is_empty()) {
        print_errors(&joins.to_string(), found.clone());
        all.extend(found);
    }
    print_errors("all", all);
    println!("\noff by more than {FAR}:");
    far.sort_by(|a, b| b.cmp(a));
    far.iter().for_each(|line| println!("{line}"));
}

fn joins_below(node: &PlanNode) -> usize {
    usize::from(node.operator.name().ends_with("join")) + node.children.iter().map(joins_below).sum::<usize>()
}

fn print_errors(name: &str, mut errors: Vec<f64>) {
    errors.sort_by(f64::total_cmp);
    let at = |hundredths: usize| errors[(errors.len() - 1) * hundredths / 100];
    println!("{name:5}  {:9}  {:6.2}  {:6.1}  {:8.1}", errors.len(), at(50), at(95), at(100));
}
