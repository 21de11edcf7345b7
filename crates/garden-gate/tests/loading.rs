//! Files put into tables, with a few bad rows, and rows put into files.

use crate::support::show;
use flate2::Compression;
use flate2::write::GzEncoder;
use garden_gate::{Database, Error, Outcome, Session};
use std::fs;
use std::io::Write;
use std::path::PathBuf;

struct Desk {
    folder: tempfile::TempDir,
    session: Session,
}

impl Desk {
    fn new(setup: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let mut session = Database::in_memory().session();
        session.allow_folder(folder.path()).unwrap();
        session.allow_writing(folder.path()).unwrap();
        session.run(setup).unwrap();
        Self { folder, session }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn write(&self, name: &str, content: impl AsRef<[u8]>) {
        fs::write(self.path(name), content).unwrap();
    }

    fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap()
    }

    /// `@` stands for the folder.
    fn run(&mut self, sql: &str) -> Result<Outcome, Error> {
        let sql = sql.replace('@', &format!("{}/", self.folder.path().display()));
        self.session.run(&sql).map(|mut outcomes| outcomes.pop().unwrap())
    }

    /// How many rows were changed, and the first note.
    fn changed(&mut self, sql: &str) -> (u64, String) {
        match self.run(sql).unwrap() {
            Outcome::Changed { affected, notes, .. } => {
                (affected, notes.first().map(|note| note.message.clone()).unwrap_or_default())
            }
            other => panic!("{sql}: {other:?}"),
        }
    }

    fn rows(&mut self, sql: &str) -> String {
        show(&self.run(sql).unwrap().rows().unwrap())
    }

    /// State, message and line of a failure.
    fn failure(&mut self, sql: &str) -> (String, String, Option<u64>) {
        let error = self.run(sql).unwrap_err();
        let line = error.data_place().and_then(|place| place.line);
        (error.sqlstate().as_str().to_owned(), error.message().to_owned(), line)
    }
}

const BEDS: &str =
    "CREATE TABLE bed (bed_id INTEGER PRIMARY KEY, name VARCHAR(12) NOT NULL, area NUMERIC(5,2) CHECK (area > 0),
    made DATE, code UUID)";

#[test]
fn texts_get_the_types_of_their_columns() {
    let cases = [
        // Header in another order; a column that is omitted is NULL.
        ("name,bed_id\nFern,007\n", "", "7|Fern|NULL|NULL|NULL"),
        ("7;Fern;1,5;6.5.24;\n", "(NO HEADER, DELIMITER ';', DECIMAL MARK ',', DATE FORMAT 'D.M.RR')", ""),
        (
            "7;Fern;1,5;06.05.24;\n",
            "(NO HEADER, DELIMITER ';', DECIMAL MARK ',', DATE FORMAT 'DD.MM.RR')",
            "7|Fern|1.50|2024-05-06|NULL",
        ),
        (
            "x\n7,'a, ''b''',2.5\n",
            "(NO HEADER, SKIP 1, QUOTE '''', COLUMNS (bed_id, name, area))",
            "7|a, 'b'|2.50|NULL|NULL",
        ),
        ("bed_id,name\r7,Fern\r", "(ROW END CR)", "7|Fern|NULL|NULL|NULL"),
        ("bed_id,name\r\n7,Fe\nrn\r\n", "(ROW END CRLF)", "7|Fe\nrn|NULL|NULL|NULL"),
        ("bed_id,name\n7,-\n8,Scree\n", "(NULL TEXT '-', ERROR LIMIT 1)", "8|Scree|NULL|NULL|NULL"),
        (
            "bed_id,name,code\n7,F,7F000001-0000-4000-8000-00000000000A\n",
            "",
            "7|F|NULL|NULL|7f000001-0000-4000-8000-00000000000a",
        ),
    ];
    for (text, options, expected) in cases {
        let mut desk = Desk::new(BEDS);
        desk.write("b.csv", text);
        let sql = format!("INSERT INTO bed FROM FILE '@b.csv' {options}");
        if expected.is_empty() {
            assert_eq!(desk.failure(&sql).0, "42000", "{options}");
            continue;
        }
        desk.run(&sql).unwrap();
        assert_eq!(desk.rows("SELECT * FROM bed"), expected, "{options}");
    }
    let mut desk = Desk::new(BEDS);
    desk.write(
        "b.jsonl",
        "{\"bed_id\": 1, \"name\": \"Fern\"}\n\n{\"name\": \"Scree\", \"bed_id\": 2, \"area\": 2.5}\n",
    );
    desk.write("latin.csv", b"bed_id,name\n3,B\xf6schung\n");
    desk.write("wide.csv", "bed_id,name\n4,Fern\n".encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>());
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    packed.write_all(b"bed_id,name\n5,Gully\n").unwrap();
    desk.write("p.csv.gz", packed.finish().unwrap());
    desk.write("z.csv.zst", zstd::encode_all(&b"bed_id,name\n6,Pond\n"[..], 1).unwrap());
    for (file, rows) in [
        ("b.jsonl'", 2),
        ("latin.csv' (ENCODING 'ISO-8859-1')", 1),
        ("wide.csv' (ENCODING 'UTF-16LE')", 1),
        ("p.csv.gz'", 1),
        ("z.csv.zst'", 1),
    ] {
        assert_eq!(desk.changed(&format!("INSERT INTO bed FROM FILE '@{file}")), (rows, String::new()), "{file}");
    }
    assert_eq!(
        desk.rows("SELECT bed_id, name, area FROM bed"),
        "1|Fern|NULL; 2|Scree|2.50; 3|Böschung|NULL; 4|Fern|NULL; 5|Gully|NULL; 6|Pond|NULL"
    );
    assert_eq!(desk.rows("SELECT * FROM FILE '@p.csv.gz'"), "5|Gully");
}

/// Bad rows of every kind, each on a line of its own.
const BAD: &str = "bed_id,name,area
1,Fern gully,12.5
2,Scree
x,Pond,1
3,,1
4,Rockery,-1
1,Again,1
5,A name that is too long,1
6,Meadow,1.234
7,\"Wall\"x,1
8,Orchard,3
";

#[test]
fn bad_rows_are_passed_over_and_written_down() {
    let mut desk = Desk::new(BEDS);
    desk.write("b.csv", BAD);
    let failure = desk.failure("INSERT INTO bed FROM FILE '@b.csv'");
    assert_eq!(failure, ("22000".into(), "2 fields, the header has 3".into(), Some(3)));
    assert_eq!(desk.rows("SELECT COUNT(*) FROM bed"), "0", "nothing of the statement stays");
    let (state, _, line) = desk.failure("INSERT INTO bed FROM FILE '@b.csv' (ERROR LIMIT 7, ERRORS INTO '@bad.csv')");
    assert_eq!((state.as_str(), line), ("22001", Some(8)), "the eighth: what cannot be read comes first");
    assert_eq!(desk.rows("SELECT COUNT(*) FROM bed"), "0");
    assert_eq!(desk.read("bad.csv").lines().count(), 9);
    let (affected, note) =
        desk.changed("INSERT INTO bed FROM FILE '@b.csv' (ERROR LIMIT 8, ERRORS INTO '@bad.csv' REPLACE)");
    assert_eq!(affected, 2);
    assert!(note.starts_with("8 bad rows were skipped, at line 3, 4, 5, 6, 7, …: 2 fields"), "{note}");
    assert_eq!(desk.rows("SELECT bed_id, name FROM bed"), "1|Fern gully; 8|Orchard");
    let expected = [
        "line,column,reason,row",
        "3,,\"2 fields, the header has 3\",\"2,Scree\"",
        "4,bed_id,\"\"\"x\"\" is not a valid INTEGER\",\"x,Pond,1\"",
        "5,,\"column \"\"name\"\" of table \"\"bed\"\" can't be NULL\",\"3,,1\"",
        "6,,\"a row of table \"\"bed\"\" breaks bed_check: CHECK (area > 0) is FALSE\",\"4,Rockery,-1\"",
        "7,,\"table \"\"bed\"\" has a row with the primary key bed_id = 1 already (bed_primary_key)\",\"1,Again,1\"",
        "8,,'A name that is too long' has 23 characters and does not fit VARCHAR(12),\"5,A name that is too long,1\"",
        "9,area,\"\"\"1.234\"\" is not a valid NUMERIC(5,2)\",\"6,Meadow,1.234\"",
        "10,,text after the closing quote of a field,\"7,\"\"Wall\"\"x,1\"",
    ];
    let written = desk.read("bad.csv");
    for (line, expected) in written.lines().zip(expected) {
        assert_eq!(line, expected);
    }
}

#[test]
fn batches_are_kept_one_by_one() {
    let mut desk = Desk::new("CREATE TABLE n (n INTEGER PRIMARY KEY, half INTEGER CHECK (half < 40))");
    let rows: String = (0..100).map(|n| format!("{n},{}\n", n / 2)).collect();
    desk.write("n.csv", format!("n,half\n{rows}"));
    let (state, _, line) = desk.failure("INSERT INTO n FROM FILE '@n.csv' (BATCH 30)");
    assert_eq!((state.as_str(), line), ("23000", Some(82)));
    assert_eq!(desk.rows("SELECT COUNT(*), MAX(n) FROM n"), "60|59", "two batches of thirty");
    desk.run("TRUNCATE TABLE n").unwrap();
    assert_eq!(desk.changed("INSERT INTO n FROM FILE '@n.csv' (BATCH 30, ERROR LIMIT 20)").0, 80);
    desk.run("TRUNCATE TABLE n").unwrap();
    assert_eq!(desk.changed("INSERT INTO n FROM FILE '@n.csv' (CHECKS OFF)").0, 100);
    desk.run("START TRANSACTION").unwrap();
    assert_eq!(desk.failure("INSERT INTO n FROM FILE '@n.csv' (BATCH 30)").0, "25001");
    assert_eq!(desk.failure("INSERT INTO n FROM FILE '@n.csv' (CHECKS OFF)").0, "23000", "keys are always checked");
    desk.run("ROLLBACK").unwrap();
    assert_eq!(desk.rows("INSERT INTO n FROM FILE '@n.csv' (CHECKS OFF) SKIP DUPLICATES RETURNING n"), "");
}

/// Several pieces and workers; a row refers to one that comes later.
#[test]
fn large_files_come_whole_and_in_order() {
    let mut desk = Desk::new(
        "CREATE TABLE node (id INTEGER PRIMARY KEY, above INTEGER REFERENCES node (id), text VARCHAR NOT NULL)",
    );
    let rows: String = (0..150_000).map(|n| format!("{n},{},\"a \"\"text\"\"\nof {n}\"\n", 149_999 - n)).collect();
    desk.write("node.csv", format!("id,above,text\n{rows}"));
    for workers in [1, 2] {
        desk.run(&format!("SET workers = {workers}")).unwrap();
        assert_eq!(desk.changed("INSERT INTO node FROM FILE '@node.csv'").0, 150_000);
        let seen = desk.rows("SELECT COUNT(*), SUM(id), SUM(above), MAX(CHARACTER_LENGTH(text)) FROM node");
        // 0 + … + 149,999; the longest text is `a "text"`, a line end, `of ` and six digits.
        assert_eq!(seen, "150000|11249925000|11249925000|18");
        assert_eq!(desk.rows("SELECT text FROM node OFFSET 99999 ROWS FETCH FIRST 1 ROW ONLY"), "a \"text\"\nof 99999");
        let straight = desk.rows("SELECT COUNT(*), SUM(id), MAX(text) FROM FILE '@node.csv'");
        assert_eq!(straight, "150000|11249925000|a \"text\"\nof 99999");
        desk.run("TRUNCATE TABLE node").unwrap();
    }
    desk.write("node.csv", format!("id,above,text\n{rows}150000,7\n"));
    let (state, _, line) = desk.failure("INSERT INTO node FROM FILE '@node.csv'");
    assert_eq!((state.as_str(), line), ("22000", Some(300_002)));
}

#[test]
fn rows_become_files_that_read_back_the_same() {
    let values = "SELECT * FROM (VALUES
        (1, CAST(1.50 AS NUMERIC(5,2)), 'a \"b\", c', DATE '2024-02-29', TRUE, TIMESTAMP '2024-01-02 03:04:05.5', 1.5E0),
        (2, NULL, '', NULL, NULL, NULL, NULL), (3, -0.01, ' x
y', DATE '0001-01-01', FALSE, NULL, -0.1E0))
        AS t (id, price, name, day, sunny, moment, ratio)";
    let mut desk = Desk::new("LET nothing = 1");
    let expected = desk.rows(values);
    for file in ["t.csv", "t.tsv", "t.jsonl", "t.parquet", "t.arrow", "t.csv.gz", "t.jsonl.zst"] {
        assert_eq!(desk.changed(&format!("INSERT INTO FILE '@{file}' {values}")).0, 3, "{file}");
        assert_eq!(desk.rows(&format!("SELECT * FROM FILE '@{file}'")), expected, "{file}");
    }
    desk.run("INSERT INTO FILE '@t.csv' (REPLACE, DELIMITER ';', NO HEADER, NULL TEXT '-', ROW END CRLF) VALUES (1, '-', NULL)")
        .unwrap();
    assert_eq!(desk.read("t.csv"), "1;\"-\";-\r\n");
    assert_eq!(desk.failure("INSERT INTO FILE '@t.csv' VALUES (1)").0, "58030", "a file is not replaced unasked");
    assert_eq!(desk.failure("INSERT INTO FILE '@t.csv' (REPLACE) VALUES (1 / 0)").0, "22012");
    assert_eq!(desk.read("t.csv"), "1;\"-\";-\r\n", "a query that fails leaves the file as it was");
    assert_eq!(desk.failure("INSERT INTO FILE '@t.xls' VALUES (1)").0, "58030");
    // What Parquet has no type for comes as text.
    desk.run("INSERT INTO FILE '@i.parquet' SELECT INTERVAL '1' YEAR AS y, ARRAY[1, 2] AS a").unwrap();
    let array = desk.rows("SELECT ARRAY[1, 2]");
    assert_eq!(desk.rows("SELECT a FROM FILE '@i.parquet'"), array);
}

#[test]
fn a_session_does_no_more_than_the_program_lets_it() {
    let mut desk = Desk::new(BEDS);
    let elsewhere = tempfile::tempdir().unwrap();
    let outside = format!("INSERT INTO FILE '{}/t.csv' VALUES (1)", elsewhere.path().display());
    let other = Database::in_memory().session().run("INSERT INTO FILE 't.csv' VALUES (1)").unwrap_err();
    for (state, message) in [
        (desk.failure(&outside).0, "58030"),
        (desk.failure("INSERT INTO FILE '@../t.csv' VALUES (1)").0, "58030"),
        (other.sqlstate().as_str().to_owned(), "58030"),
    ] {
        assert_eq!(state, message);
    }
    desk.session.limit_rows(Some(2));
    assert_eq!(desk.failure("VALUES (1), (2), (3)").0, "54000");
    let measured = desk.session.measure("VALUES (1), (2), (3)", ()).unwrap_err();
    assert_eq!(measured.sqlstate().as_str(), "54000");
    assert_eq!(desk.rows("VALUES (1), (2)"), "1; 2");
    desk.session.limit_memory(Some(100_000));
    desk.run("SET memory_limit = '1 GB'").unwrap();
    assert_eq!(desk.failure("SELECT ARRAY_AGG(n) FROM SERIES(1, 100000) AS t (n)").0, "HY001");
    // What can spill needs no more than it is given.
    assert_eq!(desk.rows("SELECT COUNT(*) FROM (SELECT DISTINCT n FROM SERIES(1, 20000) AS t (n)) AS d"), "20000");
    desk.session.limit_memory(None);
    desk.session.limit_time(Some(std::time::Duration::from_millis(1)));
    assert_eq!(
        desk.failure("SELECT SUM(a.n * b.n) FROM SERIES(1, 30000) AS a (n), SERIES(1, 30000) AS b (n)").0,
        "HYT00"
    );
    desk.session.limit_time(None);
    desk.session.set_read_only(true);
    for sql in
        ["DELETE FROM bed", "CREATE TABLE t (a INTEGER)", "INSERT INTO FILE '@n.csv' VALUES (1)", "DROP TABLE bed"]
    {
        assert_eq!(desk.failure(sql).0, "25006", "{sql}");
    }
    desk.write("b.csv", BAD);
    let load = "INSERT INTO bed FROM FILE '@b.csv' (ERROR LIMIT 1, ERRORS INTO '@bad.csv' REPLACE)";
    assert_eq!(desk.failure(load).0, "25006");
    assert!(!desk.path("bad.csv").exists());
    assert_eq!(desk.rows("SELECT COUNT(*) FROM bed"), "0");
}
