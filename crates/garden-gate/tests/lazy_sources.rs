//! Sources of the program that make their rows as they are asked for them.

use crate::story::check;
use garden_gate::arrow::array::{ArrayRef, Int64Array, StringViewArray};
use garden_gate::{
    Column, Database, Error, Result, SqlType, Value,
    source::{ColumnConjunct, ColumnTest, ScanRequest, Segment, SegmentStream, TableSource},
};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

/// The numbers from 0, a thousand a segment, each with its text; what fails is drawn by the number of its segment.
#[derive(Debug)]
struct Numbers {
    columns: Vec<Column>,
    segments: u64,
    made: AtomicU64,
    asked: Mutex<Vec<String>>,
    fails_at: Option<(u64, bool)>,
}

impl Numbers {
    fn new(segments: u64, fails_at: Option<(u64, bool)>) -> Arc<Self> {
        let columns = vec![Column::new("n", SqlType::BigInt), Column::new("t", SqlType::Varchar(None))];
        Arc::new(Self { columns, segments, made: AtomicU64::default(), asked: Mutex::default(), fails_at })
    }

    fn segment(&self, at: u64, columns: &[usize]) -> Result<Segment> {
        self.made.fetch_add(1, Ordering::Relaxed);
        match self.fails_at {
            Some((failing, true)) if failing == at => panic!("segment {at}"),
            Some((failing, false)) if failing == at => return Err(Error::custom(format!("segment {at} is damaged"))),
            _ => {}
        }
        let first = at.cast_signed() * 1000;
        let numbers = || first..first + 1000;
        let column = |column: &usize| -> ArrayRef {
            match column {
                0 => Arc::new(numbers().collect::<Int64Array>()),
                _ => Arc::new(StringViewArray::from_iter_values(numbers().map(|n| format!("no. {n}")))),
            }
        };
        Ok(Segment { columns: columns.iter().map(column).collect(), rows: 1000 })
    }
}

/// Whether the segment of this number may have rows that are asked for, by its first and last numbers.
fn wanted(conjuncts: &[ColumnConjunct], at: u64) -> bool {
    let ends = [0, 999].map(|within| Value::Integer(at.cast_signed() * 1000 + within));
    conjuncts.iter().filter(|one| one.column == 0).all(|one| match &one.test {
        ColumnTest::OneOf(values) => values.iter().any(|value| {
            value.compare(&ends[0]).is_some_and(|order| order.is_ge())
                && value.compare(&ends[1]).is_some_and(|order| order.is_le())
        }),
        _ => ends.iter().any(|end| one.test.admits(end)),
    })
}

impl TableSource for Numbers {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        self.segments * 1000
    }

    fn read(&self, columns: &[usize]) -> Result<Vec<Segment>> {
        self.scan(&ScanRequest::all(columns))?.segments.collect()
    }

    fn scan<'s>(&'s self, request: &ScanRequest<'_>) -> Result<SegmentStream<'s>> {
        let tests: Vec<String> = request.conjuncts.iter().map(|one| format!("{} {:?}", one.column, one.test)).collect();
        self.asked.lock().unwrap().push(format!("{} {:?}", tests.join(", "), request.limit));
        let columns = request.columns.to_vec();
        let pruned = if request.conjuncts.is_empty() {
            0
        } else {
            (0..self.segments).filter(|at| !wanted(request.conjuncts, *at)).count()
        };
        let conjuncts = request.conjuncts.to_vec();
        let segments = (0..self.segments).filter(move |at| wanted(&conjuncts, *at));
        Ok(SegmentStream::lazy(segments.map(move |at| self.segment(at, &columns))).with_pruned(pruned as u64 * 1000))
    }
}

/// Statement, result, how many segments it takes at most.
const LINES: [(&str, &str, u64); 12] = [
    ("SELECT COUNT(*), SUM(n) FROM numbers", "=1000000|499999500000", 1000),
    ("SELECT n FROM numbers FETCH FIRST 2 ROWS ONLY", "=0; 1", 3),
    ("SELECT n + 1 FROM numbers OFFSET 1500 ROWS FETCH FIRST 1 ROW ONLY", "=1501", 4),
    ("SELECT t FROM numbers WHERE n = 77777", "=no. 77777", 1),
    ("SELECT n FROM numbers WHERE n IN (5, 999999) ORDER BY n", "=5; 999999", 2),
    ("SELECT COUNT(*) FROM numbers WHERE n < 2000 AND n >= 999.5", "=1000", 2),
    ("SELECT COUNT(*) FROM numbers WHERE n > 997000 AND MOD(n, 2) = 0", "=1499", 3),
    ("SELECT COUNT(*) FROM numbers WHERE n = NULL", "=0", 1000),
    ("SELECT t FROM numbers WHERE t = 'no. 3'", "=no. 3", 1000),
    ("SELECT COUNT(*) FROM numbers a JOIN numbers b ON a.n = b.n + 1 WHERE a.n < 1000 AND b.n < 3000", "=999", 4),
    ("SELECT EXISTS (SELECT 1 FROM numbers WHERE n > 10)", "=TRUE", 1000),
    ("SELECT n FROM numbers ORDER BY n DESC FETCH FIRST 1 ROW ONLY", "=999999", 1000),
];

#[test]
fn rows_come_as_they_are_wanted() {
    for settings in ["SET workers = 1", "SET workers = 2", "SET batch_rows = 100"] {
        let (db, source) = (Database::in_memory(), Numbers::new(1000, None));
        db.add_source("numbers", Arc::<Numbers>::clone(&source)).unwrap();
        let mut session = db.session();
        session.run(settings).unwrap();
        for (sql, rows, most) in LINES {
            source.made.store(0, Ordering::Relaxed);
            check(&mut session, (sql, rows));
            let made = source.made.load(Ordering::Relaxed);
            assert!(made <= most, "{sql}: {made} segments were made, {most} at most");
        }
    }
}

#[test]
fn a_source_is_told_what_is_asked_of_its_columns() {
    let (db, source) = (Database::in_memory(), Numbers::new(3, None));
    db.add_source("numbers", Arc::<Numbers>::clone(&source)).unwrap();
    let mut session = db.session();
    for (sql, asked) in [
        (
            "SELECT n FROM numbers WHERE n BETWEEN 5 AND 7",
            "0 Between(Included(Integer(5)), Unbounded), 0 Between(Unbounded, Included(Integer(7))) None",
        ),
        ("SELECT n FROM numbers WHERE t IN ('a', 'b')", "1 OneOf([Text(\"a\"), Text(\"b\")]) None"),
        ("SELECT n FROM numbers WHERE t <> 'a' AND n IS NOT NULL", " None"),
        ("SELECT n FROM numbers OFFSET 2 ROWS FETCH FIRST 3 ROWS ONLY", " Some(5)"),
        (
            "SELECT n FROM numbers WHERE n < 3 FETCH FIRST 3 ROWS ONLY",
            "0 Between(Unbounded, Excluded(Integer(3))) None",
        ),
    ] {
        source.asked.lock().unwrap().clear();
        session.query(sql, ()).unwrap();
        assert_eq!(source.asked.lock().unwrap().last().map(String::as_str), Some(asked), "{sql}");
    }
    // What was omitted is shown.
    let (_, plan) = session.measure("SELECT n FROM numbers WHERE n >= 1000", ()).unwrap();
    let scan = plan.nodes().into_iter().find(|node| node.target.is_some()).expect("a scan");
    assert_eq!((scan.passed_rows, scan.actual_rows), (Some(1000), Some(2000)));
}

#[test]
fn a_source_that_fails_ends_the_statement() {
    for (panics, state, message) in
        [(false, "HY000", "segment 2 is damaged"), (true, "38000", "a table source of the program panicked")]
    {
        let db = Database::in_memory();
        db.add_source("numbers", Numbers::new(10, Some((2, panics)))).unwrap();
        let mut session = db.session();
        for workers in ["SET workers = 1", "SET workers = 2"] {
            session.run(workers).unwrap();
            let error = session.query("SELECT MAX(n) FROM numbers", ()).unwrap_err();
            assert_eq!((error.sqlstate().as_str(), error.message()), (state, message));
            // The rows before it can be had.
            check(&mut session, ("SELECT n FROM numbers OFFSET 1 ROW FETCH FIRST 1 ROW ONLY", "=1"));
            let mut stream = session.stream("SELECT n FROM numbers", ()).unwrap();
            assert!(stream.next().unwrap().is_ok());
            let last = stream.last().unwrap().unwrap_err();
            assert_eq!(last.sqlstate().as_str(), state);
        }
    }
}

#[test]
fn an_endless_source_can_be_streamed_and_interrupted() {
    let db = Database::in_memory();
    db.add_source("numbers", Numbers::new(1 << 40, None)).unwrap();
    let mut session = db.session();
    let mut rows = 0;
    for batch in session.stream("SELECT n FROM numbers WHERE MOD(n, 2) = 0", ()).unwrap() {
        rows += batch.unwrap().num_rows();
        if rows > 5000 {
            break;
        }
    }
    session.run("SET time_limit = 50").unwrap();
    let error = session.query("SELECT SUM(n) FROM numbers", ()).unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "HYT00", "{error}");
}
