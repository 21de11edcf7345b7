//! Seven queries of TPC-H beside loops written by hand over the engine's own arrays, on one thread: how many times as long the engine takes.
//! The loops know the data: keys are dense, money fits 64 bits, nothing is NULL. Their answers are held to the engine's.
//!
//! `cargo bench --bench by_hand` at scale factor 1, or with another: `cargo bench --bench by_hand -- 0.1`
#![expect(clippy::print_stdout, reason = "a bench prints its figures")]
#![expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "keys and days of the benchmark are small and positive"
)]

#[path = "../tpch/data.rs"]
mod data;
mod loops;

use garden_gate::Session;
use garden_gate::arrow::array::{ArrayRef, AsArray, RecordBatch, StringViewArray};
use garden_gate::arrow::datatypes::{Date32Type, Decimal64Type, Int64Type};
use std::time::Instant;

/// As in programs that work on batches.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Runs of each; the least time counts.
const RUNS: usize = 5;

/// The columns of a table, segment by segment, without a copy.
pub(crate) struct Table(Vec<RecordBatch>);

impl Table {
    fn read(session: &mut Session, name: &str) -> Self {
        let rows = session.query(format!("SELECT * FROM {name}"), ()).expect("the table is there");
        Self(rows.batches().expect("batches of one schema"))
    }

    fn arrays(&self, name: &str) -> Vec<&ArrayRef> {
        self.0.iter().map(|batch| batch.column_by_name(name).expect("a column of the table")).collect()
    }

    pub(crate) fn keys(&self, name: &str) -> Vec<&[i64]> {
        self.arrays(name).into_iter().map(|array| array.as_primitive::<Int64Type>().values().as_ref()).collect()
    }

    pub(crate) fn cents(&self, name: &str) -> Vec<&[i64]> {
        self.arrays(name).into_iter().map(|array| array.as_primitive::<Decimal64Type>().values().as_ref()).collect()
    }

    pub(crate) fn days(&self, name: &str) -> Vec<&[i32]> {
        self.arrays(name).into_iter().map(|array| array.as_primitive::<Date32Type>().values().as_ref()).collect()
    }

    pub(crate) fn texts(&self, name: &str) -> Vec<&StringViewArray> {
        self.arrays(name).into_iter().map(|array| array.as_string_view()).collect()
    }
}

/// The tables that the loops go through.
pub(crate) struct Tables {
    pub(crate) lineitem: Table,
    pub(crate) orders: Table,
    pub(crate) customer: Table,
    pub(crate) part: Table,
    pub(crate) partsupp: Table,
    pub(crate) supplier: Table,
    pub(crate) nation: Table,
    pub(crate) region: Table,
}

fn least(mut work: impl FnMut()) -> f64 {
    let run = || {
        let start = Instant::now();
        work();
        start.elapsed().as_secs_f64() * 1e3
    };
    std::iter::repeat_with(run).take(RUNS).fold(f64::INFINITY, f64::min)
}

/// A query, the loop, and what both come to: a number that a wrong row would change.
type Case = (&'static str, &'static str, fn(&Tables) -> i128, fn(&[RecordBatch]) -> i128);

macro_rules! query {
    ($name:literal) => {
        include_str!(concat!("../tpch/queries/", $name, ".sql"))
    };
}

/// The digits of an exact column, added up.
fn digits(batches: &[RecordBatch], column: usize) -> i128 {
    use garden_gate::arrow::datatypes::Decimal128Type;
    let sum = |batch: &RecordBatch| -> i128 {
        let array = batch.column(column);
        match array.as_primitive_opt::<Decimal128Type>() {
            Some(wide) => wide.values().iter().sum(),
            None => match array.as_primitive_opt::<Int64Type>() {
                Some(numbers) => numbers.values().iter().map(|value| i128::from(*value)).sum(),
                None => array.as_primitive::<Decimal64Type>().values().iter().map(|value| i128::from(*value)).sum(),
            },
        }
    };
    batches.iter().map(sum).sum()
}

const CASES: [Case; 7] = [
    ("q01", query!("q01"), loops::q01, |rows| digits(rows, 5)),
    ("q03", query!("q03"), loops::q03, |rows| digits(rows, 1)),
    ("q05", query!("q05"), loops::q05, |rows| digits(rows, 1)),
    ("q06", query!("q06"), loops::q06, |rows| digits(rows, 0)),
    ("q09", query!("q09"), loops::q09, |rows| digits(rows, 2)),
    ("q13", query!("q13"), loops::q13, |rows| digits(rows, 1)),
    ("q18", query!("q18"), loops::q18, |rows| digits(rows, 5)),
];

fn main() {
    let wanted: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).collect();
    let scale = wanted.iter().find_map(|arg| arg.parse().ok()).unwrap_or(1.0);
    let names: Vec<&String> = wanted.iter().filter(|arg| arg.starts_with('q')).collect();
    let db = data::database(scale);
    let mut session = db.session();
    session.set("workers", 1).expect("a known setting");
    let mut read = |name: &str| Table::read(&mut session, name);
    let tables = Tables {
        lineitem: read("lineitem"),
        orders: read("orders"),
        customer: read("customer"),
        part: read("part"),
        partsupp: read("partsupp"),
        supplier: read("supplier"),
        nation: read("nation"),
        region: read("region"),
    };
    println!("scale factor {scale}, one thread, milliseconds");
    println!("query     engine    by hand   ratio");
    let (mut product, mut count) = (1.0_f64, 0);
    for (name, sql, by_hand, sum) in CASES {
        if !names.is_empty() && !names.iter().any(|wanted| *wanted == name) {
            continue;
        }
        let rows = session.query(sql, ()).expect("every query runs").batches().expect("batches of one schema");
        assert_eq!(by_hand(&tables), sum(&rows), "{name}: the loop and the engine come to the same");
        let engine = least(|| {
            std::hint::black_box(session.query(sql, ()).expect("every query runs"));
        });
        let hand = least(|| {
            std::hint::black_box(by_hand(&tables));
        });
        println!("{name}     {engine:8.1}   {hand:8.1}   {:5.2}", engine / hand);
        product *= engine / hand;
        count += 1;
    }
    println!("geometric mean of the ratios: {:.2}", product.powf(1.0 / f64::from(count)));
}
