//! How good the chosen plans are: queries over skewed and correlated tables, some by hand and the others drawn by a seed, each with its time
//! under the plan that is chosen and under the best of all plans that a guide can demand; and how far off their estimates are, by joins.
//!
//! `cargo bench --bench choices`, or with how many are drawn: `cargo bench --bench choices -- 20`
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]

mod drawn;

use drawn::Query;
use garden_gate::{Database, Session};
use std::collections::{BTreeMap, HashSet};
use std::time::Instant;

/// A plan that costs so many times what the chosen one costs is not run.
const TOO_DEAR: f64 = 300.0;
/// Times that each plan is run, at least and at most; the least counts.
const RUNS: usize = 5;
const MOST_RUNS: usize = 60;
/// Queries that are drawn, and by what.
const DRAWN: usize = 170;
const SEED: u64 = 2_026;
/// Milliseconds after which a plan is not run once more.
const ENOUGH: f64 = 25.0;

const TABLES: &str = "
    CREATE TABLE bed (id INTEGER PRIMARY KEY, sun VARCHAR(10), area INTEGER);
    INSERT INTO bed SELECT n, CASE WHEN MOD(n, 50) = 0 THEN 'shade' ELSE 'full sun' END, MOD(n * 37, 400) FROM SERIES(1, 2000) AS s (n);
    CREATE TABLE gardener (id INTEGER PRIMARY KEY, mentor INTEGER, name VARCHAR(12));
    INSERT INTO gardener SELECT n, n / 2, 'gardener ' || CAST(n AS VARCHAR(4)) FROM SERIES(1, 60) AS s (n);
    CREATE TABLE chore (id INTEGER PRIMARY KEY, bed INTEGER, gardener INTEGER, day INTEGER, kind VARCHAR(10), hours INTEGER);
    INSERT INTO chore SELECT n, CASE WHEN MOD(n, 2) = 0 THEN 1 ELSE MOD(MOD(n, 100003) * 7919, 2000) + 1 END, MOD(n * 31, 60) + 1, n / 400,
      CASE WHEN MOD(n, 2) = 0 THEN 'watering' WHEN MOD(n, 1000) = 1 THEN 'grafting' ELSE 'weeding' END, MOD(n, 8) FROM SERIES(1, 400000) AS s (n);
    CREATE INDEX chore_bed_ix ON chore (bed); CREATE INDEX chore_day_ix ON chore (day); CREATE INDEX chore_kind_ix ON chore (kind, day);
    CREATE TABLE loan (chore INTEGER, tool INTEGER, fee INTEGER);
    INSERT INTO loan SELECT MOD(n * 13, 400000) + 1, MOD(MOD(n, 89) * MOD(n, 89), 97), MOD(n, 11) FROM SERIES(1, 150000) AS s (n);
    CREATE INDEX loan_chore_ix ON loan (chore); CREATE INDEX loan_tool_ix ON loan (tool);
    CREATE TABLE season (since INTEGER, until INTEGER);
    INSERT INTO season SELECT n * 9, n * 9 + 5 + MOD(n * 7, 40) FROM SERIES(0, 119) AS s (n);
    CREATE TABLE price (tool INTEGER, since INTEGER, amount INTEGER);
    INSERT INTO price SELECT MOD(n, 97), n / 3, MOD(n, 50) FROM SERIES(1, 3000) AS s (n);
    ANALYZE bed; ANALYZE gardener; ANALYZE chore; ANALYZE loan; ANALYZE chore (bed, kind);";

/// Each with the names of its tables.
const QUERIES: &[(&str, &[&str])] = &[
    ("SELECT COUNT(hours) FROM chore c WHERE bed = 1", &["c"]),
    ("SELECT COUNT(hours) FROM chore c WHERE bed = 77", &["c"]),
    ("SELECT COUNT(hours) FROM chore c WHERE bed IN (77, 78, 500)", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE day = 500", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE day BETWEEN 100 AND 300", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE day > 990", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE kind = 'grafting'", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE kind = 'watering' AND bed = 1", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE kind = 'weeding' AND bed = 1", &["c"]),
    ("SELECT SUM(hours) FROM chore c WHERE kind = 'grafting' AND day = 400", &["c"]),
    ("SELECT COUNT(*) FROM chore c WHERE kind LIKE 'gr%'", &["c"]),
    ("SELECT id, hours FROM chore c WHERE day > 200 ORDER BY day FETCH FIRST 10 ROWS ONLY", &["c"]),
    ("SELECT COUNT(*) FROM chore c JOIN bed b ON c.bed = b.id WHERE b.sun = 'shade'", &["c", "b"]),
    ("SELECT COUNT(*) FROM chore c JOIN bed b ON c.bed = b.id WHERE b.area < 3", &["c", "b"]),
    ("SELECT SUM(c.hours) FROM chore c JOIN bed b ON c.bed = b.id WHERE b.id = 1", &["c", "b"]),
    ("SELECT SUM(c.hours) FROM chore c JOIN bed b ON c.bed = b.id WHERE b.id = 900", &["c", "b"]),
    (
        "SELECT SUM(c.hours) FROM chore c JOIN bed b ON c.bed = b.id WHERE c.kind = 'grafting' AND b.sun = 'shade'",
        &["c", "b"],
    ),
    ("SELECT SUM(l.fee) FROM chore c JOIN loan l ON l.chore = c.id WHERE c.day = 700", &["c", "l"]),
    ("SELECT SUM(l.fee) FROM chore c JOIN loan l ON l.chore = c.id WHERE c.bed = 1", &["c", "l"]),
    (
        "SELECT SUM(l.fee) FROM chore c JOIN loan l ON l.chore = c.id WHERE l.tool = 5 AND c.kind = 'grafting'",
        &["c", "l"],
    ),
    (
        "SELECT COUNT(*) FROM bed b WHERE EXISTS (SELECT 1 FROM chore c WHERE c.bed = b.id AND c.kind = 'grafting')",
        &["c", "b"],
    ),
    ("SELECT COUNT(*) FROM bed b WHERE NOT EXISTS (SELECT 1 FROM chore c WHERE c.bed = b.id)", &["c", "b"]),
    ("SELECT COUNT(*) FROM bed b LEFT JOIN chore c ON c.bed = b.id AND c.day = 3 WHERE b.sun = 'shade'", &["c", "b"]),
    (
        "SELECT COUNT(*) FROM gardener g JOIN gardener m ON g.mentor = m.id JOIN chore c ON c.gardener = g.id WHERE m.id = 7 AND c.day < 20",
        &["c", "g", "m"],
    ),
    ("SELECT g.name, SUM(c.hours) FROM chore c JOIN gardener g ON c.gardener = g.id GROUP BY g.name", &["c", "g"]),
    (
        "SELECT SUM(l.fee) FROM bed b JOIN chore c ON c.bed = b.id JOIN loan l ON l.chore = c.id WHERE b.area = 11",
        &["b", "c", "l"],
    ),
    (
        "SELECT SUM(l.fee) FROM bed b JOIN chore c ON c.bed = b.id JOIN loan l ON l.chore = c.id WHERE c.day BETWEEN 10 AND 12",
        &["b", "c", "l"],
    ),
    (
        "SELECT SUM(l.fee) FROM bed b JOIN chore c ON c.bed = b.id JOIN loan l ON l.chore = c.id WHERE l.tool = 1 AND b.sun = 'shade'",
        &["b", "c", "l"],
    ),
    (
        "SELECT b.id, COUNT(*) FROM bed b JOIN chore c ON c.bed = b.id WHERE c.hours > 6 GROUP BY b.id HAVING COUNT(*) > 100",
        &["b", "c"],
    ),
    (
        "SELECT COUNT(*) FROM chore a JOIN chore b ON a.bed = b.bed AND a.day = b.day WHERE a.kind = 'grafting' AND b.kind = 'weeding'",
        &["a", "b"],
    ),
];

fn indexes(query: &str, alias: &str) -> Vec<&'static str> {
    const INDEXES: &[(&str, &[&str])] = &[
        ("bed", &["bed_primary_key"]),
        ("chore", &["chore_bed_ix", "chore_day_ix", "chore_kind_ix", "chore_primary_key"]),
        ("loan", &["loan_chore_ix", "loan_tool_ix"]),
    ];
    let of = |table: &str| ["FROM", "JOIN"].iter().any(|word| query.contains(&format!("{word} {table} {alias} ")));
    INDEXES.iter().filter(|(table, _)| of(table)).flat_map(|(_, indexes)| indexes.iter().copied()).collect()
}

/// Every combination of ways to read each table, methods of the joins, the order as written, and one worker or two.
fn guides(query: &str, aliases: &[&str]) -> Vec<String> {
    let mut reads = vec![Vec::new()];
    for alias in aliases {
        let mut ways = vec![String::new(), format!("READ {alias} BY SCAN")];
        ways.extend(indexes(query, alias).iter().map(|index| format!("READ {alias} BY INDEX {index}")));
        let with = |way: &String, read: &Vec<String>| read.iter().chain(Some(way)).cloned().collect::<Vec<_>>();
        reads = reads.iter().flat_map(|read| ways.iter().map(|way| with(way, read))).collect();
    }
    let mut all = Vec::new();
    for read in &reads {
        for method in ["", "HASH", "MERGE", "NESTED LOOP", "RANGE"] {
            for order in ["", "KEEP ORDER"] {
                for workers in ["", "WORKERS 1", "WORKERS 2"] {
                    let mut demands: Vec<String> = read.clone();
                    if !method.is_empty() {
                        for (at, first) in aliases.iter().enumerate() {
                            demands.extend(
                                aliases[at + 1..].iter().map(|second| format!("JOIN ({first}, {second}) BY {method}")),
                            );
                        }
                    }
                    demands.extend([order.to_owned(), workers.to_owned()]);
                    demands.retain(|demand| !demand.is_empty());
                    all.push(demands.join(", "));
                }
            }
        }
    }
    all
}

/// The least time of a few runs, in milliseconds; `None` past the limit.
fn time(session: &mut Session, sql: &str) -> Option<f64> {
    let (mut least, mut all) = (f64::INFINITY, 0.0);
    for run in 0..MOST_RUNS {
        if run >= RUNS && all > ENOUGH {
            break;
        }
        let start = Instant::now();
        session.query(sql, ()).ok()?;
        let elapsed = start.elapsed().as_secs_f64() * 1e3;
        (least, all) = (least.min(elapsed), all + elapsed);
    }
    Some(least)
}

/// The worst estimate of a query, with how many joins it has.
fn worst_estimate(session: &mut Session, query: &str) -> (usize, f64) {
    let (_, plan) = session.measure(query, ()).expect("the chosen plan runs");
    (plan.joins().len(), plan.worst_estimate().and_then(|node| node.estimate_error).unwrap_or(1.0))
}

/// The milliseconds of the chosen plan, those of the best, how that one is demanded, and how many plans there are.
fn judged(session: &mut Session, (query, aliases): &Query) -> (f64, f64, String, usize) {
    let plan = session.plan(query, ()).expect("every query is planned");
    let mut seen = HashSet::from([(plan.fingerprint.clone(), plan.workers)]);
    let chosen = time(session, query).expect("the chosen plan runs");
    let (mut best, mut demanded) = (chosen, String::new());
    for guide in guides(query, aliases) {
        let guided = format!("{query} GUIDE ({guide})");
        let Ok(other) = session.plan(&guided, ()) else { continue };
        if other.cost > plan.cost * TOO_DEAR || !seen.insert((other.fingerprint, other.workers)) {
            continue;
        }
        if let Some(time) = time(session, &guided).filter(|time| *time < best) {
            (best, demanded) = (time, guide);
        }
    }
    // Once more, side by side: what was timed first was timed cold.
    let chosen = chosen.min(time(session, query).unwrap_or(chosen));
    (chosen, best.min(chosen), demanded, seen.len())
}

/// The value that so many parts of a hundred are not above.
fn quantile(sorted: &[f64], percent: usize) -> f64 {
    sorted.get((sorted.len() * percent / 100).min(sorted.len().saturating_sub(1))).copied().unwrap_or(1.0)
}

fn main() {
    let mut session = Database::in_memory().session();
    session.run(TABLES).expect("the tables are made");
    session.run("SET time_limit = 2000; SET workers = 2").expect("settings");
    let drawn = std::env::args().filter_map(|argument| argument.parse().ok()).next().unwrap_or(DRAWN);
    let by_hand = QUERIES.iter().map(|(query, aliases)| ((*query).to_owned(), aliases.to_vec()));
    let (mut ratios, mut errors): (Vec<f64>, BTreeMap<usize, Vec<f64>>) = (Vec::new(), BTreeMap::new());
    println!("plans  chosen ms    best ms  ratio  off by  query, and how the best is demanded");
    for query in by_hand.chain(drawn::queries(drawn, SEED)) {
        let (chosen, best, demanded, plans) = judged(&mut session, &query);
        let (joins, error) = worst_estimate(&mut session, &query.0);
        errors.entry(joins).or_default().push(error);
        let ratio = chosen / best;
        ratios.push(ratio);
        println!("{plans:5}  {chosen:9.2}  {best:9.2}  {ratio:5.2}  {error:6.1}  {}", query.0);
        if ratio > 1.2 {
            println!("{:41}{demanded}", "");
        }
    }
    ratios.sort_by(f64::total_cmp);
    for within in [1.3, 2.0] {
        let count = ratios.iter().filter(|ratio| **ratio <= within).count();
        println!("{count} of {} within {within} of the best", ratios.len());
    }
    println!("median {:.2}, worst {:.2}", quantile(&ratios, 50), quantile(&ratios, 100));
    println!("joins  queries  off by: median    95th   worst");
    for (joins, mut errors) in errors {
        errors.sort_by(f64::total_cmp);
        let [median, most, worst] = [50, 95, 100].map(|percent| quantile(&errors, percent));
        println!("{joins:5}  {:7}  {median:14.1}  {most:6.1}  {worst:6.1}", errors.len());
    }
}
