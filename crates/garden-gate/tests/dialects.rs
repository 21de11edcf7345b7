//! Text files in random dialects: what is written reads back the same, and what is read is what the `csv` crate reads.

use crate::random_queries::{Draw, trials};
use crate::story::check;
use garden_gate::{Database, Session, Value};
use std::path::Path;

/// Texts with whatever can go wrong in a file.
const TEXTS: [&str; 14] = [
    "plain",
    "",
    " blank ",
    "a,b",
    "semi;colon",
    "tab\there",
    "quo\"te",
    "apo's",
    "line\nend",
    "both\r\nends",
    "ümläut",
    "NULL",
    "\"",
    "n/a",
];

struct Dialect {
    delimiter: char,
    quote: char,
    row_end: &'static str,
    null_text: Option<&'static str>,
    header: bool,
}

impl Dialect {
    fn draw(draw: &mut Draw) -> Self {
        Self {
            delimiter: *draw.pick(&[',', ';', '\t', '|']),
            quote: *draw.pick(&['"', '\'', '"']),
            row_end: draw.word(&["LF", "CRLF"]),
            null_text: *draw.pick(&[None, Some("n/a"), Some("-")]),
            header: draw.coin(),
        }
    }

    fn options(&self) -> String {
        let delimiter = if self.delimiter == '\t' { "\\t".to_owned() } else { self.delimiter.to_string() };
        let quote = if self.quote == '\'' { "''''".to_owned() } else { format!("'{}'", self.quote) };
        let null_text = self.null_text.map_or(String::new(), |text| format!(", NULL TEXT '{text}'"));
        let header = if self.header { "" } else { ", NO HEADER" };
        format!("DELIMITER '{delimiter}', QUOTE {quote}, ROW END {}{null_text}{header}", self.row_end)
    }
}

fn session(folder: &Path) -> Session {
    let mut session = Database::in_memory().session();
    session.allow_folder(folder).unwrap();
    session.allow_writing(folder).unwrap();
    session
}

#[test]
fn what_is_written_reads_back() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path());
    check(
        &mut session,
        (
            "CREATE TABLE t (k INTEGER, a VARCHAR(20), b VARCHAR(20), n NUMERIC(9,3), d DATE, x DOUBLE PRECISION, f BOOLEAN)",
            "",
        ),
    );
    let insert = session.prepare("INSERT INTO t VALUES (?, ?, ?, ?, ?, ?, ?)").unwrap();
    for seed in 0..trials(120) {
        let mut draw = Draw::new(seed);
        let dialect = Dialect::draw(&mut draw);
        check(&mut session, ("CREATE TABLE back AS SELECT * FROM t WITH NO DATA", "0"));
        for key in 0..i32::try_from(draw.below(9)).unwrap() {
            // A text that is the mark of NULL is written in quotes, and stays a text.
            let mut text = || -> Value { if draw.below(5) == 0 { Value::Null } else { draw.word(&TEXTS).into() } };
            let (a, b) = (text(), text());
            let number = i64::try_from(draw.below(2_000_000)).unwrap() - 1_000_000;
            let values = [
                Value::from(key),
                a,
                b,
                Value::numeric(&format!("{}.{:03}", number / 1000, (number % 1000).abs())).unwrap(),
                if draw.coin() { Value::Date(i32::try_from(number / 100).unwrap()) } else { Value::Null },
                Value::Double(f64::from(i32::try_from(number).unwrap()) / 7.0),
                if draw.coin() { draw.coin().into() } else { Value::Null },
            ];
            let parameters = values.into_iter().fold(garden_gate::Parameters::new(), garden_gate::Parameters::push);
            assert_eq!(session.execute_prepared(&insert, parameters).unwrap(), 1);
        }
        let rows = session.query("SELECT COUNT(*) FROM t", ()).unwrap().rows().next().unwrap().values()[0].to_string();
        let (file, options) = (folder.path().join("t.csv"), dialect.options());
        check(&mut session, (&format!("INSERT INTO FILE '{}' ({options}, REPLACE) TABLE t", file.display()), &rows));
        check(&mut session, (&format!("INSERT INTO back FROM FILE '{}' ({options})", file.display()), &rows));
        for (one, other) in [("t", "back"), ("back", "t")] {
            let found = session.query(format!("TABLE {one} EXCEPT ALL TABLE {other}"), ()).unwrap();
            assert_eq!(
                found.row_count(),
                0,
                "seed {seed}, {options}: {one} has more\n{:?}",
                std::fs::read_to_string(&file)
            );
        }
        check(&mut session, ("DROP TABLE back", ""));
        check(&mut session, ("TRUNCATE TABLE t", &rows));
    }
}

#[test]
fn what_is_read_is_what_another_reader_reads() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = session(folder.path());
    let path = folder.path().join("random.csv");
    for seed in 0..trials(300) {
        let mut draw = Draw::new(seed + 10_000);
        let width = draw.below(3) + 2;
        let mut text = (0..width).map(|at| format!("c{at}")).collect::<Vec<_>>().join(",") + "\n";
        for _ in 0..draw.below(8) {
            let fields: Vec<String> = (0..width).map(|_| field(&mut draw)).collect();
            text += &fields.join(",");
            text += draw.word(&["\n", "\r\n"]);
        }
        if draw.coin() {
            text.truncate(text.trim_end().len());
        }
        std::fs::write(&path, &text).unwrap();
        // Each column of text, so that nothing is taken for a number.
        let columns = (0..width).map(|at| format!("c{at} VARCHAR(60)")).collect::<Vec<_>>().join(", ");
        check(&mut session, (&format!("CREATE TABLE t ({columns})"), ""));
        let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(text.as_bytes());
        let expected: Vec<Vec<String>> =
            reader.records().map(|record| record.unwrap().iter().map(str::to_owned).collect()).collect();
        // A row with another number of fields is bad for us; the other reader only gives it.
        let whole = expected.iter().all(|row| row.len() == width);
        let load = session.execute(format!("INSERT INTO t FROM FILE '{}'", path.display()), ());
        assert_eq!(load.is_ok(), whole, "seed {seed}\n{text:?}\n{load:?}");
        if whole {
            let rows = session.query("TABLE t", ()).unwrap();
            let shown = |value: &Value| if value.is_null() { String::new() } else { value.to_string() };
            let found: Vec<Vec<String>> = rows.rows().map(|row| row.values().iter().map(shown).collect()).collect();
            assert_eq!(found, expected, "seed {seed}\n{text:?}");
        }
        check(&mut session, ("DROP TABLE t", ""));
    }
}

/// A field as it may stand in a file: bare, or in quotes with whatever is in it.
fn field(draw: &mut Draw) -> String {
    let text = draw.word(&TEXTS);
    let bare = !text.contains(['"', ',', '\n', '\r']);
    match draw.below(3) {
        0 if bare => text.to_owned(),
        _ => format!("\"{}\"", text.replace('"', "\"\"")),
    }
}
