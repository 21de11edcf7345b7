//! A database file in which bytes were changed: it reads as it was, or is an error; never a panic, never other rows.

use crate::random_queries::{Draw, trials};
use crate::support::show;
use garden_gate::{Database, Error, Session};
use std::path::Path;

const MAKE: &str = "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(40));
    INSERT INTO bed SELECT n, 'bed number ' || CAST(n AS VARCHAR(9)) FROM SERIES(1, 500) AS s (n);
    DELETE FROM bed WHERE bed_id < 9;
    CREATE TABLE task (task_id INTEGER PRIMARY KEY, bed_id INTEGER NOT NULL REFERENCES bed);
    INSERT INTO task SELECT n, 9 + MOD(n, 400) FROM SERIES(1, 300) AS s (n)";

/// Of beds 9 to 500: 492, which sum up to 492 * 509 / 2. Of tasks 1 to 300 the beds 10 to 309: 300 * 319 / 2.
const READ: [(&str, &str); 3] = [
    ("SELECT COUNT(*), SUM(bed_id), COUNT(DISTINCT name) FROM bed", "492|125214|492"),
    ("SELECT COUNT(*), SUM(bed_id) FROM task", "300|47850"),
    ("SELECT COUNT(*) FROM task JOIN bed USING (bed_id) WHERE name = 'bed number 10'", "1"),
];

/// What reads as it should, before and after a commit.
fn read(path: &Path, seed: u64) -> Result<(), Error> {
    let db = Database::open(path)?;
    let mut session = db.session();
    for (sql, rows) in READ {
        assert_eq!(show(&session.query(sql, ())?), rows, "seed {seed}: {sql}");
    }
    session.run("INSERT INTO task VALUES (301, 9)")?;
    assert_eq!(show(&session.query("SELECT COUNT(*) FROM task", ())?), "301", "seed {seed}");
    drop(session);
    drop(db);
    let mut session = Database::open(path)?.session();
    assert_eq!(show(&session.query("SELECT COUNT(*) FROM task", ())?), "301", "seed {seed}: opened again");
    Ok(())
}

#[test]
fn changed_bytes_are_told_of() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.gate");
    Database::open(&path).unwrap().session().run(MAKE).unwrap();
    let whole = std::fs::read(&path).unwrap();
    // Bytes that are not 0 are where something is written.
    let written: Vec<usize> = (0..whole.len()).filter(|at| whole[*at] != 0).collect();
    let mut told = 0;
    let seeds = trials(200);
    for seed in 0..seeds {
        let mut draw = Draw::new(seed);
        let mut bytes = whole.clone();
        for _ in 0..=draw.below(3) {
            let at = if draw.coin() { draw.below(bytes.len()) } else { *draw.pick(&written) };
            bytes[at] = u8::try_from(draw.below(256)).unwrap();
        }
        std::fs::write(&path, bytes).unwrap();
        if let Err(error) = read(&path, seed) {
            assert!(["22000", "58030"].contains(&error.sqlstate().as_str()), "seed {seed}: {error}");
            told += 1;
        }
    }
    assert!(told * 10 > seeds, "only {told} of {seeds} were reported");
}

/// Rows of a Parquet file of ours, with NULLs, repeated and long texts.
const ROWS: &str = "SELECT n, NULLIF(MOD(n, 7), 0) AS k, 'bed ' || CAST(MOD(n, 30) AS VARCHAR(9)) AS name,
    CAST(n AS VARCHAR(9)) || ' is a number that is written out' AS note, CAST(n * 1.5 AS DOUBLE PRECISION) AS a, CAST(n AS NUMERIC(9, 2)) AS x
    FROM SERIES(1, 400) AS s (n)";

#[test]
fn every_changed_byte_of_a_parquet_page_is_found() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.parquet");
    let mut session = Database::in_memory().session();
    session.allow_folder(folder.path()).unwrap();
    session.allow_writing(folder.path()).unwrap();
    session.run(format!("INSERT INTO FILE '{}' {ROWS}", path.display())).unwrap();
    let whole = std::fs::read(&path).unwrap();
    let read = |session: &mut Session, at: usize| {
        let changed = folder.path().join(format!("{at}.parquet"));
        let mut bytes = whole.clone();
        if at > 0 {
            bytes[at] ^= 1 << (at % 8);
        }
        std::fs::write(&changed, bytes).unwrap();
        let query = format!("SELECT * FROM FILE '{}' EXCEPT ALL {ROWS}", changed.display());
        let rows = session.query(&query, ());
        std::fs::remove_file(&changed).unwrap();
        rows.map(|rows| show(&rows))
    };
    assert_eq!(read(&mut session, 0).unwrap(), "");
    let footer = u32::from_le_bytes(whole[whole.len() - 8..whole.len() - 4].try_into().unwrap());
    let pages = 4..whole.len() - 8 - usize::try_from(footer).unwrap();
    let (mut told, mut all) = (0, 0);
    for at in pages.step_by(if cfg!(debug_assertions) { 17 } else { 5 }) {
        all += 1;
        match read(&mut session, at) {
            Ok(rows) => assert_eq!(rows, "", "byte {at} makes other rows"),
            Err(error) => {
                assert_eq!(error.sqlstate().as_str(), "22000", "byte {at}: {error}");
                told += 1;
            }
        }
    }
    // What is not reported are statistics in headers and the index of pages, which is not asked.
    assert!(told * 10 > all * 8, "{told} of {all} were reported");
}

#[test]
fn row_groups_keep_their_pages_and_the_index_of_them() {
    use parquet::arrow::arrow_reader::{ArrowReaderOptions, ParquetRecordBatchReaderBuilder};
    use parquet::file::metadata::PageIndexPolicy;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.parquet");
    let mut session = Database::in_memory().session();
    session.allow_folder(folder.path()).unwrap();
    session.allow_writing(folder.path()).unwrap();
    let rows: i64 = (1 << 20) + 50_000;
    let made = format!(
        "INSERT INTO FILE '{}' SELECT n, 'bed ' || CAST(MOD(n, 9) AS VARCHAR(9)) AS name FROM SERIES(1, {rows}) AS s (n)",
        path.display()
    );
    session.run(&made).unwrap();
    let query = format!("SELECT COUNT(*), SUM(n), COUNT(DISTINCT name) FROM FILE '{}'", path.display());
    assert_eq!(show(&session.query(&query, ()).unwrap()), format!("{rows}|{}|9", rows * (rows + 1) / 2));
    // Rows are found by the index of pages as well: the last ones of each group.
    let options = ArrowReaderOptions::new().with_page_index_policy(PageIndexPolicy::Required);
    let file = std::fs::File::open(&path).unwrap();
    let reader = ParquetRecordBatchReaderBuilder::try_new_with_options(file, options).unwrap();
    assert_eq!(reader.metadata().num_row_groups(), 2);
    let last = usize::try_from(rows - 1).unwrap();
    let reader = reader.with_offset(last).with_limit(5).build().unwrap();
    let batches: Vec<_> = reader.collect::<Result<_, _>>().unwrap();
    let found = arrow::array::AsArray::as_primitive::<arrow::datatypes::Int32Type>(batches[0].column(0)).value(0);
    assert_eq!((batches[0].num_rows(), i64::from(found)), (1, rows));
}
