//! Tables that live: loading against reading the same file into typed vectors by hand, single inserts and batches, commits to a file, lookups by key,
//! updates by key, opening a file. `cargo bench --bench tables [ROWS]`; without a number, a small size that takes seconds.
#![expect(
    clippy::print_stdout,
    clippy::expect_used,
    clippy::cast_precision_loss,
    reason = "a bench prints its figures, and stops at what it does not expect"
)]

use garden_gate::{Database, Parameters, Session};
use std::fs::{self, File};
use std::hint::black_box;
use std::io::{Seek, SeekFrom, Write};
use std::time::{Duration, Instant};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const COLUMNS: &str = "id INTEGER PRIMARY KEY, bed INTEGER, taken DATE, moisture NUMERIC(6,2), note VARCHAR(20)";

fn time(mut work: impl FnMut()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

/// The least of three: what other programs take is not counted.
fn least(mut measure: impl FnMut() -> Duration) -> Duration {
    (0..3).map(|_| measure()).min().unwrap_or_default()
}

fn report(what: &str, figure: &str) {
    println!("{what:<58} {figure}");
}

fn session(database: &Database, workers: i64) -> Session {
    let mut session = database.session();
    session.set("workers", workers).expect("a bench");
    session
}

/// The same file read with the `csv` crate into typed vectors.
fn by_hand(path: &std::path::Path) -> usize {
    let (mut ids, mut beds, mut days, mut numbers) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let mut notes = Vec::new();
    let mut reader = csv::Reader::from_path(path).expect("a bench");
    let mut record = csv::StringRecord::new();
    while reader.read_record(&mut record).expect("a bench") {
        ids.push(record.get(0).and_then(|field| field.parse::<i32>().ok()));
        beds.push(record.get(1).and_then(|field| field.parse::<i32>().ok()));
        days.push(record.get(2).map(|field| {
            let mut parts = field.split('-').map(|part| part.parse::<i32>().unwrap_or(0));
            [parts.next(), parts.next(), parts.next()]
        }));
        numbers.push(record.get(3).and_then(|field| field.parse::<f64>().ok()));
        notes.push(record.get(4).map(str::to_owned));
    }
    black_box((&beds, &days, &numbers, &notes));
    ids.len()
}

fn main() {
    let rows = std::env::args().filter_map(|argument| argument.parse::<usize>().ok()).next().unwrap_or(1_000_000);
    let folder = tempfile::tempdir().expect("a bench");
    let path = folder.path().join("reading.csv");
    let mut file = std::io::BufWriter::new(File::create(&path).expect("a bench"));
    writeln!(file, "id,bed,taken,moisture,note").expect("a bench");
    for id in 0..rows {
        let (month, day) = (id % 12 + 1, id % 28 + 1);
        writeln!(file, "{id},{},2024-{month:02}-{day:02},{}.{:02},note {}", id % 97, id % 100, id % 89, id % 1000)
            .expect("a bench");
    }
    file.into_inner().expect("a bench").sync_all().expect("a bench");
    let bytes = fs::metadata(&path).expect("a bench").len();
    println!("{rows} rows, {} MB of text", bytes / 1_000_000);

    let hand = least(|| time(|| assert_eq!(by_hand(&path), rows)));
    for workers in [1, 2] {
        let database = Database::in_memory();
        let mut session = session(&database, workers);
        session.allow_folder(folder.path()).expect("a bench");
        let sql = format!("INSERT INTO reading FROM FILE '{}'", path.display());
        let load = least(|| {
            session.run(format!("DROP TABLE IF EXISTS reading; CREATE TABLE reading ({COLUMNS})")).expect("a bench");
            time(|| assert_eq!(session.execute(&sql, ()).expect("a bench"), rows as u64))
        });
        report(
            &format!("load, {workers} worker(s), against typed vectors by hand"),
            &format!("{:.2} ×", load.as_secs_f64() / hand.as_secs_f64()),
        );
        if workers == 2 {
            keyed(&database, &mut session, rows);
        }
    }
    inserts();
    commits(folder.path());
    opening(folder.path(), &path);
}

/// Lookups of one kind, after as many that prepare the way.
const LOOKUPS: usize = 20_000;

fn micros(elapsed: Duration, count: usize) -> String {
    format!("{:.1} µs", elapsed.as_secs_f64() * 1e6 / count as f64)
}

/// The keys of lookups: spread over all rows.
fn key(at: usize, rows: usize) -> i64 {
    i64::try_from(at * 7919 % rows).expect("a bench")
}

/// Lookups and updates by primary key.
fn keyed(database: &Database, session: &mut Session, rows: usize) {
    let by_key = session.prepare("SELECT note FROM reading WHERE id = :id").expect("a bench");
    let by_both = session.prepare("SELECT note FROM reading WHERE id = :id AND bed < 1000").expect("a bench");
    for (what, find) in [("by primary key", &by_key), ("with a second condition", &by_both)] {
        let one = |session: &mut Session, id: i64| {
            assert_eq!(session.query_prepared(find, Parameters::new().set("id", id)).expect("a bench").row_count(), 1);
        };
        // The index of a part is made when it is first needed.
        (0..LOOKUPS).for_each(|at| one(session, key(at, rows)));
        let lookups = time(|| (0..LOOKUPS).for_each(|at| one(session, key(at, rows))));
        report(&format!("point lookup {what}, prepared"), &micros(lookups, LOOKUPS));
        if what == "by primary key" {
            let both = time(|| {
                std::thread::scope(|scope| {
                    for _ in 0..2 {
                        scope.spawn(|| {
                            let mut session = database.session();
                            (0..LOOKUPS).for_each(|at| one(&mut session, key(at, rows)));
                        });
                    }
                });
            });
            let ratio = 2.0 * lookups.as_secs_f64() / both.as_secs_f64();
            report("the same on two threads, lookups a second against one", &format!("{ratio:.2} ×"));
        }
    }
    let texts = time(|| {
        for at in 0..LOOKUPS / 10 {
            let sql = format!("SELECT note FROM reading WHERE id = {}", key(at, rows));
            assert_eq!(session.query(sql, ()).expect("a bench").row_count(), 1);
        }
    });
    report("point lookup by primary key, as a text", &micros(texts, LOOKUPS / 10));
    let update = format!("UPDATE reading SET moisture = moisture + 1 WHERE id < {}", rows / 100);
    let update = time(|| assert_eq!(session.execute(&update, ()).expect("a bench"), rows as u64 / 100));
    report("UPDATE of 1 % of the rows by key", &format!("{:.1} ms", update.as_secs_f64() * 1e3));
}

fn inserts() {
    let mut session = session(&Database::in_memory(), 1);
    session.run("CREATE TABLE t (a INTEGER, b INTEGER, c DATE, d NUMERIC(6,2), e VARCHAR(20))").expect("a bench");
    let insert = session.prepare("INSERT INTO t VALUES (:a, 2, DATE '2024-01-01', 1.5, 'note')").expect("a bench");
    let count = 50_000;
    let single = time(|| {
        for a in 0..count {
            session.execute_prepared(&insert, Parameters::new().set("a", a)).expect("a bench");
        }
    });
    report("single-row insert, prepared, in memory", &micros(single, 50_000));
    let batch = "INSERT INTO t SELECT i, i, DATE '2024-01-01', 1.5, 'note' FROM SERIES(1, 10000) AS s (i)";
    let batches = time(|| (0..30).for_each(|_| assert_eq!(session.execute(batch, ()).expect("a bench"), 10_000)));
    report("batches of 10,000 rows of 5 columns", &format!("{:.2} million rows a second", 0.3 / batches.as_secs_f64()));
}

fn commits(folder: &std::path::Path) {
    let mut session = Database::open(folder.join("commits.db")).expect("a bench").session();
    session.run("CREATE TABLE t (a INTEGER)").expect("a bench");
    let mut plain = File::create(folder.join("plain")).expect("a bench");
    plain.write_all(&[0; 4096 * 70]).expect("a bench");
    let count = 50;
    let commit = time(|| {
        (0..count).for_each(|_| assert_eq!(session.execute("INSERT INTO t VALUES (1)", ()).expect("a bench"), 1))
    });
    let sync = time(|| (0..count).for_each(|_| write(&mut plain, &[0])));
    let pages = time(|| (0..count).for_each(|at| write(&mut plain, &COMMIT_PAGES.map(|page| page + at % 8))));
    let ratio = |other: Duration| format!("{:.2} ×", commit.as_secs_f64() / other.as_secs_f64());
    report("commit of one row to a file, against one fsync of a page", &ratio(sync));
    report("and against one fsync of as many pages in as many places", &ratio(pages));
}

/// Where the pages of a commit lie, so many pages after the beginning of the file.
const COMMIT_PAGES: [u64; 7] = [0, 20, 40, 10, 60, 30, 50];

fn write(file: &mut File, pages: &[u64]) {
    for page in pages {
        file.seek(SeekFrom::Start(page * 4096)).expect("a bench");
        file.write_all(&[1; 4096]).expect("a bench");
    }
    file.sync_data().expect("a bench");
}

fn opening(folder: &std::path::Path, csv: &std::path::Path) {
    let path = folder.join("open.db");
    let mut session = Database::open(&path).expect("a bench").session();
    session.allow_folder(folder).expect("a bench");
    session
        .run(format!("CREATE TABLE reading ({COLUMNS}); INSERT INTO reading FROM FILE '{}'", csv.display()))
        .expect("a bench");
    drop(session);
    let open = time(|| drop(black_box(Database::open(&path).expect("a bench"))));
    let size = fs::metadata(&path).expect("a bench").len() / 1_000_000;
    report(&format!("opening a database of {size} MB"), &format!("{:.1} ms", open.as_secs_f64() * 1e3));
}
