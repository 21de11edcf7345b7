//! Files as tables.

use crate::support::show;
use garden_gate::arrow::array::{
    ArrayRef, Date32Array, Float64Array, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray,
    TimestampNanosecondArray,
};
use garden_gate::arrow::ipc::writer::{FileWriter, StreamWriter};
use garden_gate::{Database, Error, Session};
use parquet::arrow::ArrowWriter;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn write(&self, name: &str, content: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        fs::write(&path, content).unwrap();
        path
    }

    fn session(&self) -> Session {
        let mut session = Database::in_memory().session();
        session.allow_folder(self.0.path()).unwrap();
        session
    }

    /// Rows and column types of a file, as `FROM FILE` reads it.
    fn query(&self, name: &str, options: &str) -> Result<(String, String), Error> {
        let sql = format!("SELECT * FROM FILE '{}' {options}", self.path(name).display());
        let rows = self.session().query(&sql, ())?;
        let columns: Vec<String> =
            rows.columns().iter().map(|column| format!("{} {}", column.name, column.sql_type)).collect();
        Ok((columns.join(", "), show(&rows)))
    }
}

#[test]
fn csv_columns_get_the_narrowest_type_that_holds_all_values() {
    let folder = Folder::new();
    for (content, columns, rows) in [
        ("a,b\n1,x\n2,\n", "a INTEGER, b VARCHAR", "1|x; 2|NULL"),
        ("n\n1.5\n20\n-0.25\n", "n NUMERIC(4,2)", "1.50; 20.00; -0.25"),
        ("code\n007\n12\n", "code VARCHAR", "007; 12"),
        (
            "d,t,b\n2024-02-29,2024-01-01 10:00:00,true\n,,FALSE\n",
            "d DATE, t TIMESTAMP, b BOOLEAN",
            "2024-02-29|2024-01-01 10:00:00|TRUE; NULL|NULL|FALSE",
        ),
        ("id,bed name\r\n1,\"a, \"\"b\"\"\nc\"\r\n2,\"\"\r\n", "id INTEGER, bed name VARCHAR", "1|a, \"b\"\nc; 2|"),
        ("\u{feff}id\n1\n", "id INTEGER", "1"),
        ("a,\n1,2\n", "a INTEGER, column_2 INTEGER", "1|2"),
        ("a,b\n1,2\n\n3,4\n", "a INTEGER, b INTEGER", "1|2; 3|4"),
        ("a\n1\n\n3\n", "a INTEGER", "1; NULL; 3"),
        ("a,b\n", "a VARCHAR, b VARCHAR", ""),
        ("x\n9223372036854775807\n-1\n", "x BIGINT", "9223372036854775807; -1"),
        ("x\n1e3\n2\n", "x DOUBLE PRECISION", "1000.0; 2.0"),
        ("x\n 12\n3 \n", "x INTEGER", "12; 3"),
    ] {
        folder.write("t.csv", content);
        assert_eq!(folder.query("t.csv", "").unwrap(), (columns.into(), rows.into()), "{content:?}");
    }
}

#[test]
fn a_late_value_widens_the_column() {
    let folder = Folder::new();
    let many: String = (0..200_000).map(|row| format!("{}\n", row % 7)).collect();
    for (last, sql_type) in [("x", "VARCHAR"), ("3000000000", "BIGINT"), ("0.5", "NUMERIC(2,1)"), ("", "INTEGER")] {
        folder.write("t.csv", format!("n,m\n{}{last},1\n", many.replace('\n', ",1\n")));
        let sql = format!("SELECT n FROM FILE '{}' OFFSET 200000 ROWS", folder.path("t.csv").display());
        let rows = folder.session().query(&sql, ()).unwrap();
        assert_eq!(rows.columns()[0].sql_type.to_string(), sql_type);
        assert_eq!(show(&rows), if last.is_empty() { "NULL" } else { last });
    }
}

#[test]
fn options_of_a_text_file() {
    let folder = Folder::new();
    folder.write("t.csv", "a report\nof two lines\nid;name\n1;x;y\n".replace("x;y", "n/a"));
    let found = folder.query("t.csv", "(DELIMITER ';', SKIP 2, NULL TEXT 'n/a')").unwrap();
    assert_eq!(found, ("id INTEGER, name VARCHAR".into(), "1|NULL".into()));
    folder.write("t.tsv", "1\tx\n2\ty\n");
    assert_eq!(
        folder.query("t.tsv", "(NO HEADER)").unwrap(),
        ("column_1 INTEGER, column_2 VARCHAR".into(), "1|x; 2|y".into())
    );
    for (options, sqlstate) in
        [("(DELIMITER ';;')", "42000"), ("(SKIP x)", "42000"), ("(BATCH 5)", "42000"), ("(NOTHING)", "42000")]
    {
        assert_eq!(folder.query("t.csv", options).unwrap_err().sqlstate().as_str(), sqlstate, "{options}");
    }
}

#[test]
fn json_lines_keep_digits_and_types() {
    let folder = Folder::new();
    let lines = "{\"a\":1.50,\"b\":\"007\",\"d\":\"2024-01-01\"}\n\n{\"a\":2,\"c\":true,\"e\":[1,{\"x\":null}]}\n{\"b\":null}\n";
    folder.write("t.jsonl", lines);
    let (columns, rows) = folder.query("t.jsonl", "").unwrap();
    assert_eq!(columns, "a NUMERIC(3,2), b VARCHAR, d DATE, c BOOLEAN, e VARCHAR");
    assert_eq!(rows, "1.50|007|2024-01-01|NULL|NULL; 2.00|NULL|NULL|TRUE|[1,{\"x\":null}]; NULL|NULL|NULL|NULL|NULL");
}

fn batch(rows: i64) -> RecordBatch {
    let ids: ArrayRef = Arc::new(Int64Array::from_iter_values(0..rows));
    let names: ArrayRef =
        Arc::new((0..rows).map(|row| (row % 3 != 0).then(|| format!("n{row}"))).collect::<StringArray>());
    let doubles: ArrayRef = Arc::new(Float64Array::from_iter_values((0..rows).map(|_| -0.0)));
    let times: ArrayRef =
        Arc::new(TimestampNanosecondArray::from_iter_values((0..rows).map(|row| row * 1_000_000_000)));
    RecordBatch::try_from_iter([("id", ids), ("name", names), ("zero", doubles), ("at", times)]).unwrap()
}

fn write_parquet(path: &Path, rows: i64) {
    let batch = batch(rows);
    let mut writer = ArrowWriter::try_new(File::create(path).unwrap(), batch.schema(), None).unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
}

#[test]
fn what_is_written_is_read_back() {
    let folder = Folder::new();
    let mut session = folder.session();
    session.allow_writing(folder.0.path()).unwrap();
    for ending in ["arrow", "parquet"] {
        let path = folder.path(&format!("kept.{ending}"));
        session
            .run(format!(
                "INSERT INTO FILE '{}' VALUES (CAST(X'02' AS BINARY(2)), X'0304', CAST('a' AS CHAR(2)) || '|', CAST(1.5 AS NUMERIC(30,1)), NULL)",
                path.display()
            ))
            .unwrap();
        let (columns, rows) = folder.query(&format!("kept.{ending}"), "").unwrap();
        let types: Vec<&str> = columns.split(", ").map(|column| column.rsplit(' ').next().unwrap()).collect();
        assert_eq!(types, ["VARBINARY", "VARBINARY", "VARCHAR", "NUMERIC(30,1)", "VARCHAR"], "{ending}");
        assert_eq!(rows, "0200|0304|a ||1.5|NULL", "{ending}");
    }
}

#[test]
fn parquet_and_arrow_are_brought_to_our_types() {
    let folder = Folder::new();
    let batch = batch(4);
    write_parquet(&folder.path("t.parquet"), 4);
    let mut file = FileWriter::try_new(File::create(folder.path("t.arrow")).unwrap(), &batch.schema()).unwrap();
    file.write(&batch).unwrap();
    file.finish().unwrap();
    let mut stream = StreamWriter::try_new(File::create(folder.path("s.arrow")).unwrap(), &batch.schema()).unwrap();
    stream.write(&batch).unwrap();
    stream.finish().unwrap();
    for name in ["t.parquet", "t.arrow", "s.arrow"] {
        let (columns, rows) = folder.query(name, "").unwrap();
        assert_eq!(columns, "id BIGINT, name VARCHAR, zero DOUBLE PRECISION, at TIMESTAMP", "{name}");
        assert!(rows.starts_with("0|NULL|0.0|1970-01-01 00:00:00; 1|n1|0.0|1970-01-01 00:00:01; "), "{name}: {rows}");
    }
}

#[test]
fn columns_that_are_not_used_are_not_read_from_parquet() {
    let folder = Folder::new();
    let path = folder.path("t.parquet");
    write_parquet(&path, 3_000);
    let db = Database::in_memory();
    db.add_file("t", &path).unwrap();
    // The footer is in memory; now the rows are spoilt. What does not read a column does not notice.
    let length = fs::metadata(&path).unwrap().len();
    fs::write(&path, vec![0xff; usize::try_from(length).unwrap()]).unwrap();
    assert_eq!(show(&db.session().query("SELECT COUNT(*) FROM t", ()).unwrap()), "3000");
    let error = db.session().query("SELECT SUM(id) FROM t", ()).unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "22000", "{error}");
    // One column is spoilt, another is read all the same.
    write_parquet(&path, 3_000);
    let db = Database::in_memory();
    db.add_file("t", &path).unwrap();
    let mut bytes = fs::read(&path).unwrap();
    let at = bytes.windows(5).position(|window| window == b"n1499").unwrap();
    bytes[at - 400..at + 400].fill(0xff);
    fs::write(&path, bytes).unwrap();
    assert_eq!(show(&db.session().query("SELECT SUM(id) FROM t", ()).unwrap()), (0..3_000).sum::<i64>().to_string());
    assert!(db.session().query("SELECT MAX(name) FROM t", ()).is_err());
}

#[test]
fn bad_files_are_one_clear_error() {
    let folder = Folder::new();
    for (name, content, sqlstate, line, words) in [
        ("ragged.csv", "a,b\n1,2\n3\n".as_bytes(), "22000", Some(3), "1 fields, the header has 2"),
        ("wide.csv", b"a,b\n1,2,3\n", "22000", Some(2), "3 fields, the header has 2"),
        ("quote.csv", b"a\n\"x\n", "22000", Some(2), "never closed"),
        ("after.csv", b"a\n\"x\"y\n", "22000", Some(2), "after the closing quote"),
        ("empty.csv", b"", "22000", None, "empty"),
        ("binary.csv", b"a\n\x00\x01\n", "22018", Some(2), "no text"),
        ("latin.csv", b"a\nx\nb\xe9d\n", "22018", Some(3), "not UTF-8"),
        ("utf16.csv", b"\xff\xfea\x00", "22018", None, "UTF-16"),
        ("twice.csv", b"a,a\n1,2\n", "42S21", Some(1), "two columns are called \"a\""),
        ("long.csv", b"a\n1\n123456789012345678901234567890123456789\n", "22003", Some(3), "38 digits"),
        ("digits.csv", b"a\n12345678901234567890123456789\n0.1234567890123\n", "22003", None, "42 digits"),
        ("bad.jsonl", b"{\"a\":1}\n{\"a\":\n", "22000", Some(2), "not a JSON object"),
        ("list.jsonl", b"[1]\n", "22000", Some(1), "not a JSON object"),
        ("empty.jsonl", b"\n", "22000", None, "empty"),
        ("bad.parquet", b"PAR1 and no more", "22000", None, "cannot be read as Parquet"),
        ("bad.arrow", b"ARROW1 and no more", "22000", None, "cannot be read as Arrow IPC"),
        ("sheet.xlsx", b"x", "58030", None, "ending"),
    ] {
        let path = folder.write(name, content);
        let error = folder.query(name, "").unwrap_err();
        assert_eq!(error.sqlstate().as_str(), sqlstate, "{name}: {error}");
        assert!(error.message().contains(words), "{name}: {error}");
        let place = error.data_place().unwrap();
        assert_eq!((place.file.as_path(), place.line), (path.as_path(), line), "{name}");
        assert!(error.span().is_some(), "{name}: the statement's place too");
    }
    assert_eq!(folder.query("missing.csv", "").unwrap_err().sqlstate().as_str(), "58030");
}

#[test]
fn a_session_reads_only_where_it_may() {
    let (mine, other) = (Folder::new(), Folder::new());
    let path = other.write("t.csv", "a\n1\n");
    let sql = format!("SELECT * FROM FILE '{}'", path.display());
    assert_eq!(Database::in_memory().session().query(&sql, ()).unwrap_err().sqlstate().as_str(), "58030");
    assert_eq!(mine.session().query(&sql, ()).unwrap_err().sqlstate().as_str(), "58030");
    let around = format!(
        "SELECT * FROM FILE '{}/../{}/t.csv'",
        mine.0.path().display(),
        other.0.path().file_name().unwrap().display()
    );
    assert_eq!(mine.session().query(&around, ()).unwrap_err().sqlstate().as_str(), "58030");
    assert_eq!(show(&other.session().query(&sql, ()).unwrap()), "1");
    assert!(Database::in_memory().session().allow_folder("no such folder").is_err());
}

#[test]
fn a_changed_file_is_read_again() {
    let folder = Folder::new();
    folder.write("t.csv", "a\n1\n");
    let sql = format!("SELECT a FROM FILE '{}'", folder.path("t.csv").display());
    let mut session = folder.session();
    assert_eq!(show(&session.query(&sql, ()).unwrap()), "1");
    folder.write("t.csv", "a\n1\n22\n");
    assert_eq!(show(&session.query(&sql, ()).unwrap()), "1; 22");
    let joined =
        format!("SELECT t.a, u.a FROM FILE '{0}' JOIN FILE '{0}' AS u ON u.a = t.a", folder.path("t.csv").display());
    assert_eq!(show(&session.query(&joined, ()).unwrap()), "1|1; 22|22");
    assert_eq!(session.plan(&sql, ()).unwrap().root.operator, garden_gate::plan::OperatorName::FileScan);
}

#[test]
fn folders_become_tables() {
    let folder = Folder::new();
    folder.write("one.csv", "a\n1\n");
    folder.write("two.jsonl", "{\"a\":2}\n");
    folder.write("notes.txt", "not a table");
    let db = Database::in_memory();
    assert_eq!(db.add_folder(None, folder.0.path()).unwrap(), ["one", "two"]);
    assert_eq!(db.add_folder(Some("archive"), folder.0.path()).unwrap(), ["archive.one", "archive.two"]);
    let sql = "SELECT one.a, two.a, o.a FROM one, two, archive.one AS o";
    assert_eq!(show(&db.session().query(sql, ()).unwrap()), "1|2|1");
    assert_eq!(db.add_folder(None, folder.0.path()).unwrap_err().sqlstate().as_str(), "42S01");
    assert_eq!(db.add_folder(None, Folder::new().0.path()).unwrap_err().sqlstate().as_str(), "58030");
}

#[test]
fn files_longer_than_a_segment_come_whole_and_in_order() {
    const ROWS: i64 = 131_072 * 2 + 1;
    let folder = Folder::new();
    let csv: String = (0..ROWS).map(|row| format!("{row},{}\n", if row % 2 == 0 { "even" } else { "" })).collect();
    folder.write("long.csv", format!("n,parity\n{csv}"));
    write_parquet(&folder.path("long.parquet"), ROWS);
    let json: String = (0..ROWS).map(|row| format!("{{\"n\":{row}}}\n")).collect();
    folder.write("long.jsonl", json);
    for (name, column) in [("long.csv", "n"), ("long.parquet", "id"), ("long.jsonl", "n")] {
        let file = format!("FILE '{}'", folder.path(name).display());
        let mut session = folder.session();
        let mut ask = |sql: String| show(&session.query(&sql, ()).unwrap_or_else(|error| panic!("{sql}\n{error}")));
        let sum = ROWS * (ROWS - 1) / 2;
        assert_eq!(
            ask(format!("SELECT COUNT(*), SUM({column}), MAX({column}) FROM {file}")),
            format!("{ROWS}|{sum}|{}", ROWS - 1),
            "{name}"
        );
        let around = format!("SELECT {column} FROM {file} WHERE {column} BETWEEN 131070 AND 131073");
        assert_eq!(ask(around), "131070; 131071; 131072; 131073", "{name}: order across segments");
        let last = format!("SELECT {column} FROM {file} OFFSET {} ROWS", ROWS - 2);
        assert_eq!(ask(last), format!("{}; {}", ROWS - 2, ROWS - 1), "{name}: the last rows");
        let pairs = format!("SELECT COUNT(*) FROM {file} AS a JOIN {file} AS b ON a.{column} = b.{column} + 131072");
        assert_eq!(ask(pairs), (ROWS - 131_072).to_string(), "{name}: a join across segments");
    }
    let found = folder.query("long.csv", "FETCH FIRST 3 ROWS ONLY").unwrap();
    assert_eq!(found, ("n INTEGER, parity VARCHAR".into(), "0|even; 1|NULL; 2|even".into()));
}

#[test]
fn dates_outside_of_the_calendar_are_errors_and_never_wrap() {
    let folder = Folder::new();
    let days: ArrayRef = Arc::new(Date32Array::from(vec![i32::MAX, i32::MIN]));
    let times: ArrayRef = Arc::new(TimestampMicrosecondArray::from(vec![i64::MAX, i64::MIN]));
    let batch = RecordBatch::try_from_iter([("day", days), ("at", times)]).unwrap();
    let mut writer =
        ArrowWriter::try_new(File::create(folder.path("t.parquet")).unwrap(), batch.schema(), None).unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
    let db = Database::in_memory();
    db.add_file("t", folder.path("t.parquet")).unwrap();
    // No such value comes in, so none can wrap or be shown; the row and the column are named.
    for (query, column) in
        [("SELECT day FROM t", "day"), ("SELECT at FROM t", "at"), ("SELECT COUNT(day) FROM t", "day")]
    {
        let error = db.session().query(query, ()).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), "22003", "{query}: {error}");
        assert!(error.message().starts_with(&format!("row 1, column {column:?}: ")), "{error}");
    }
    assert_eq!(show(&db.session().query("SELECT COUNT(*) FROM t", ()).unwrap()), "2");
}

#[test]
fn names_of_columns_are_kept_as_they_are_written() {
    let folder = Folder::new();
    folder.write("t.csv", "Bed ID,naïve,\"a \"\"b\"\"\", padded ,SELECT\n1,2,3,4,5\n");
    let (columns, rows) = folder.query("t.csv", "").unwrap();
    assert_eq!(columns, "Bed ID INTEGER, naïve INTEGER, a \"b\" INTEGER, padded INTEGER, SELECT INTEGER");
    assert_eq!(rows, "1|2|3|4|5");
    let sql = format!(
        "SELECT \"Bed ID\" + NAÏVE + \"a \"\"b\"\"\" + Padded + \"SELECT\" FROM FILE '{}'",
        folder.path("t.csv").display()
    );
    assert_eq!(show(&folder.session().query(&sql, ()).unwrap()), "15");
}
