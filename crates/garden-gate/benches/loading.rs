//! Files become tables: loading a Parquet file beside decoding it with its crate alone, statistics beside a scan of all columns, memory at its
//! highest beside what the tables keep. `cargo bench --bench loading [SCALE]`; without a number, lineitem of TPC-H at scale factor 0.2.
#![expect(
    clippy::print_stdout,
    clippy::expect_used,
    clippy::cast_precision_loss,
    reason = "a bench prints its figures, and stops at what it does not expect"
)]

#[path = "tpch/data.rs"]
mod data;

use garden_gate::{Database, Session};
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use std::fs::File;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

#[global_allocator]
static ALLOCATOR: cap::Cap<mimalloc::MiMalloc> = cap::Cap::new(mimalloc::MiMalloc, usize::MAX);

const TABLES: [&str; 8] = ["region", "nation", "part", "supplier", "partsupp", "customer", "orders", "lineitem"];
/// Reads every column of every row once: MIN of each.
const SCAN: &str = "SELECT MIN(l_orderkey), MIN(l_partkey), MIN(l_suppkey), MIN(l_linenumber), MIN(l_quantity), MIN(l_extendedprice), \
     MIN(l_discount), MIN(l_tax), MIN(l_returnflag), MIN(l_linestatus), MIN(l_shipdate), MIN(l_commitdate), MIN(l_receiptdate), \
     MIN(l_shipinstruct), MIN(l_shipmode), MIN(l_comment) FROM lineitem";

fn time(mut work: impl FnMut()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn least(mut measure: impl FnMut() -> Duration) -> Duration {
    (0..3).map(|_| measure()).min().unwrap_or_default()
}

fn session(folder: &Path, workers: i64) -> Session {
    let mut session = Database::in_memory().session();
    session.set("workers", workers).expect("a known setting");
    session.allow_folder(folder).expect("a bench");
    session
}

fn decode(path: &Path) -> usize {
    let file = File::open(path).expect("a bench");
    let reader = ParquetRecordBatchReaderBuilder::try_new(file).expect("a bench").with_batch_size(8192);
    reader.build().expect("a bench").map(|batch| batch.expect("a bench").num_rows()).sum()
}

fn main() {
    let scale = std::env::args().filter_map(|argument| argument.parse::<f64>().ok()).next().unwrap_or(0.2);
    let folder = tempfile::tempdir().expect("a bench");
    let path = |table: &str, ending: &str| folder.path().join(format!("{table}.{ending}"));
    {
        let mut made = data::database(scale).session();
        made.allow_writing(folder.path()).expect("a bench");
        for table in TABLES {
            for ending in ["parquet", "csv"] {
                let sql = format!("INSERT INTO FILE '{}' SELECT * FROM {table}", path(table, ending).display());
                made.run(sql).expect("a bench");
            }
        }
    }
    let rows = decode(&path("lineitem", "parquet"));
    println!("scale factor {scale}, {rows} rows of lineitem");
    let decoded = least(|| time(|| assert_eq!(decode(&path("lineitem", "parquet")), rows)));
    println!("decoding lineitem.parquet: {:.0} ms", decoded.as_secs_f64() * 1e3);
    for workers in [1, 2] {
        for ending in ["parquet", "csv"] {
            let create = format!("CREATE TABLE lineitem FROM FILE '{}'", path("lineitem", ending).display());
            let load = least(|| {
                let mut session = session(folder.path(), workers);
                time(|| session.run(create.as_str()).map(drop).expect("a bench"))
            });
            let speed = rows as f64 / load.as_secs_f64() / 1e6;
            println!(
                "{workers} worker(s): {ending:7} loaded in {:6.0} ms, {speed:.2} million rows a second, {:.2} × decoding",
                load.as_secs_f64() * 1e3,
                load.as_secs_f64() / decoded.as_secs_f64()
            );
        }
        let mut session = session(folder.path(), workers);
        session
            .run(format!("CREATE TABLE lineitem FROM FILE '{}'", path("lineitem", "parquet").display()))
            .expect("a bench");
        let scan = least(|| time(|| session.query(SCAN, ()).map(drop).expect("a bench")));
        let analyze = least(|| time(|| session.run("ANALYZE lineitem").map(drop).expect("a bench")));
        println!(
            "{workers} worker(s): ANALYZE {:6.0} ms, {:.2} × a scan of all columns",
            analyze.as_secs_f64() * 1e3,
            analyze.as_secs_f64() / scan.as_secs_f64()
        );
    }
    memory(folder.path());
}

/// All tables loaded one after the other: the most memory held at a time, and what is kept.
fn memory(folder: &Path) {
    let before = ALLOCATOR.allocated();
    let mut session = session(folder, 2);
    let (done, highest) = (AtomicBool::new(false), AtomicUsize::new(before));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !done.load(Ordering::Relaxed) {
                highest.fetch_max(ALLOCATOR.allocated(), Ordering::Relaxed);
                std::thread::sleep(Duration::from_micros(200));
            }
        });
        for table in TABLES {
            let path = folder.join(format!("{table}.parquet"));
            session.run(format!("CREATE TABLE {table} FROM FILE '{}'", path.display())).expect("a bench");
        }
        done.store(true, Ordering::Relaxed);
    });
    let highest = highest.into_inner();
    let kept = ALLOCATOR.allocated() - before;
    println!(
        "all tables keep {:.0} MB, held at most {:.0} MB while loading: {:.2} ×",
        kept as f64 / 1e6,
        (highest - before) as f64 / 1e6,
        (highest - before) as f64 / kept as f64
    );
}
