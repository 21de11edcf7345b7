//! Filter and aggregate over ten million rows, against the same loop written by hand over the same arrays.
//!
//! Prints for each query: milliseconds by hand on one thread, ours on one and on two workers, and the ratios. Each figure is the
//! least of several runs, taken in turn. `cargo bench --bench filter_aggregate`
#![expect(clippy::print_stdout, clippy::expect_used, reason = "a bench prints, and stops at what it does not expect")]

use arrow::array::{Array, ArrayRef, AsArray, Date32Array, Decimal64Array, Int32Array};
use arrow::datatypes::{Date32Type, Decimal64Type, Int32Type};
use garden_gate::{
    Column, Database, Session, SqlType, arrow,
    source::{Segment, TableSource},
};
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

const ROWS: i32 = 10_000_000;
const SEGMENT: i32 = 131_072;
const RUNS: usize = 7;

/// Rows of the garden's work: bed, day, hours (NULL in one of 25).
#[derive(Debug)]
struct Work {
    columns: Vec<Column>,
    segments: Vec<Segment>,
}

impl TableSource for Work {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        self.segments.iter().map(|segment| segment.rows as u64).sum()
    }

    fn read(&self, columns: &[usize]) -> garden_gate::Result<Vec<Segment>> {
        let pick = |segment: &Segment| Segment {
            columns: columns.iter().map(|column| Arc::clone(&segment.columns[*column])).collect(),
            rows: segment.rows,
        };
        Ok(self.segments.iter().map(pick).collect())
    }
}

fn mixed(row: i32, salt: u64) -> u64 {
    let mut bits = (u64::from(row.unsigned_abs()) ^ salt).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    bits ^= bits >> 29;
    bits.wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 33
}

fn small(value: u64) -> i32 {
    i32::try_from(value).unwrap_or(0)
}

fn work() -> Work {
    let hours_type = SqlType::Numeric { precision: 4, scale: 2 };
    let columns = vec![
        Column::new("bed_id", SqlType::Integer),
        Column::new("day", SqlType::Date),
        Column::new("hours", hours_type),
    ];
    let segments = (0..ROWS).step_by(SEGMENT as usize).map(|start| {
        let rows = start..(start + SEGMENT).min(ROWS);
        let bed: Int32Array = rows
            .clone()
            .map(|row| Some(if mixed(row, 1) % 100 < 47 { 7 } else { small(mixed(row, 2) % 48) }))
            .collect();
        let day: Date32Array = rows.clone().map(|row| Some(18_628 + small(mixed(row, 3) % 1_461))).collect();
        let hour =
            |row: i32| (!mixed(row, 4).is_multiple_of(25)).then(|| i64::from(small(mixed(row, 5) % 32)) * 25 + 25);
        let hours = Decimal64Array::from(rows.clone().map(hour).collect::<Vec<_>>()).with_data_type(hours_type.arrow());
        let columns: Vec<ArrayRef> = vec![Arc::new(bed), Arc::new(day), Arc::new(hours)];
        Segment { columns, rows: rows.len() }
    });
    Work { columns, segments: segments.collect() }
}

/// Sum and count of hours since a day, as one would write it for this query alone.
fn total_by_hand(work: &Work) -> (i64, u64) {
    let (mut sum, mut count) = (0, 0);
    for segment in &work.segments {
        let day = segment.columns[1].as_primitive::<Date32Type>().values();
        let hours = segment.columns[2].as_primitive::<Decimal64Type>();
        let valid = hours.nulls().expect("hours has NULLs");
        for (row, (day, value)) in day.iter().zip(hours.values()).enumerate() {
            if *day >= 19_723 && valid.is_valid(row) && *value > 200 {
                sum += value;
                count += 1;
            }
        }
    }
    (sum, count)
}

/// The same for each bed.
fn by_bed_by_hand(work: &Work) -> Vec<(i64, u64)> {
    let mut groups = vec![(0, 0); 48];
    for segment in &work.segments {
        let bed = segment.columns[0].as_primitive::<Int32Type>().values();
        let day = segment.columns[1].as_primitive::<Date32Type>().values();
        let hours = segment.columns[2].as_primitive::<Decimal64Type>();
        let valid = hours.nulls().expect("hours has NULLs");
        for row in 0..segment.rows {
            if day[row] >= 19_723 && valid.is_valid(row) && hours.value(row) > 200 {
                let group = &mut groups[bed[row].unsigned_abs() as usize];
                group.0 += hours.value(row);
                group.1 += 1;
            }
        }
    }
    groups
}

fn time(mut run: impl FnMut()) -> f64 {
    let start = Instant::now();
    run();
    start.elapsed().as_secs_f64() * 1e3
}

fn session(db: &Database, workers: i64) -> Session {
    let mut session = db.session();
    session.set("workers", workers).expect("workers is a setting");
    session
}

fn compare(name: &str, db: &Database, sql: &str, by_hand: impl Fn()) {
    let (mut one, mut two) = (session(db, 1), session(db, 2));
    let mut least = [f64::MAX; 3];
    for _ in 0..RUNS {
        let times = [
            time(&by_hand),
            time(|| drop(black_box(one.query(sql, ()).expect("the query runs")))),
            time(|| drop(black_box(two.query(sql, ()).expect("the query runs")))),
        ];
        for (least, time) in least.iter_mut().zip(times) {
            *least = least.min(time);
        }
    }
    let [hand, one, two] = least;
    let rate = f64::from(ROWS) / one / 1e3;
    println!(
        "{name:28} by hand {hand:6.1} ms   1 worker {one:6.1} ms ({rate:5.0} million rows/s)   2 workers {two:6.1} ms   ours/hand {:4.2}   1/2 workers {:4.2}",
        one / hand,
        one / two
    );
}

fn main() {
    let work = Arc::new(work());
    let db = Database::in_memory();
    db.add_source("task", Arc::<Work>::clone(&work)).expect("the table is new");
    let condition = "FROM task WHERE day >= DATE '2024-01-01' AND hours > 2";
    compare("filter, sum, count", &db, &format!("SELECT SUM(hours), COUNT(*) {condition}"), || {
        black_box(total_by_hand(&work));
    });
    compare(
        "filter, sum, count by bed",
        &db,
        &format!("SELECT bed_id, SUM(hours), COUNT(*) {condition} GROUP BY bed_id"),
        || {
            black_box(by_bed_by_hand(&work));
        },
    );
}
