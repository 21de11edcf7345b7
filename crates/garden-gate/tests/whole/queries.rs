//! The runs: a short one with every `cargo test`, a long one on demand (see `CONTRIBUTING.md`).

use super::evaluate::{self, Fault, Tables};
use super::generate::{COLUMNS, Generator, TABLES};
use super::shrink::shrink;
use super::tree::{Cell, Kind, Query};
use crate::random_queries::Draw;
use garden_gate::{Column, Database, Session, SqlType, Value};

/// Queries of the short run.
const QUERIES: u64 = 320;

/// Ways to run a query that must not change its rows.
const WAYS: [(i64, i64, &str); 6] = [
    (8192, 1, ""),
    (1, 1, ""),
    (3, 2, ""),
    (7, 2, "unnest query, inline step"),
    (8192, 1, "push filters down, mark to semi join, fold constants, take common terms out of OR"),
    (5, 1, "unnest query, push semi join down, outer to inner join, mark to semi join"),
];

fn tables(draw: &mut Draw) -> Tables {
    let mut tables = Tables::new();
    for name in TABLES {
        let rows = (0..draw.below(7)).map(|key| {
            let mut number = || draw.small().map_or(Cell::Null, Cell::Number);
            let (n, m) = (number(), number());
            let text =
                if draw.below(4) == 0 { Cell::Null } else { Cell::Text(draw.word(&["", "a", "b", "ab"]).into()) };
            vec![Cell::Number(i64::try_from(key).unwrap()), n, m, text]
        });
        let rows = rows.collect();
        tables.insert(name.into(), (COLUMNS.iter().map(|(column, _)| (*column).to_owned()).collect(), rows));
    }
    tables
}

fn session(tables: &Tables) -> Session {
    let db = Database::in_memory();
    let column = |(name, kind): &(&str, Kind)| {
        Column::new(*name, if *kind == Kind::Text { SqlType::Varchar(None) } else { SqlType::Integer })
    };
    let columns: Vec<Column> = COLUMNS.iter().map(column).collect();
    for (name, (_, rows)) in tables {
        let cell = |cell: &Cell| match cell {
            Cell::Number(number) => Value::Integer(*number),
            Cell::Text(text) => Value::Text(text.clone()),
            _ => Value::Null,
        };
        let rows: Vec<Vec<Value>> = rows.iter().map(|row| row.iter().map(cell).collect()).collect();
        db.add_rows(name, &columns, &rows).unwrap();
    }
    db.session()
}

fn shown(cell: &Cell) -> String {
    match cell {
        Cell::Null => "NULL".into(),
        Cell::Truth(truth) => if *truth { "TRUE" } else { "FALSE" }.into(),
        Cell::Number(number) => number.to_string(),
        Cell::Text(text) => format!("'{text}'"),
    }
}

/// What is wrong with the engine's answer, if anything; `None` also when the reference has none.
fn wrong(
    query: &Query,
    tables: &Tables,
    session: &mut Session,
    (batch, workers, without): (i64, i64, &str),
) -> Option<String> {
    let expected = evaluate::query(query, tables);
    if matches!(expected, Err(Fault::Name | Fault::TooMuch)) {
        return None;
    }
    session.set("batch_rows", batch).unwrap();
    session.set("workers", workers).unwrap();
    session.set("without_rules", without).unwrap();
    session.set("time_limit", 20_000).unwrap();
    let asked = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| session.query(&query.sql(), ())));
    let Ok(found) = asked else { return Some("PANIC".into()) };
    let (expected, found) = match (expected, found) {
        // Which of several queries in place of values is worked out, and when, is left open; two rows may be met or not.
        (Err(_), Ok(_)) => return None,
        (_, Err(error)) if error.sqlstate().as_str() == "21000" => return None,
        // A plan that is given up is an error that says so, and no wrong answer.
        (_, Err(error)) if error.sqlstate().as_str() == "54001" => return None,
        (_, Err(error)) => return Some(format!("{} {}", error.sqlstate(), error.message())),
        (Ok(expected), Ok(found)) => (expected, found),
    };
    let mut expected: Vec<String> =
        expected.iter().map(|row| row.iter().map(shown).collect::<Vec<_>>().join("|")).collect();
    let text = |value: &Value| if let Value::Text(text) = value { format!("'{text}'") } else { value.to_string() };
    let mut rows: Vec<String> =
        found.rows().map(|row| row.values().iter().map(text).collect::<Vec<_>>().join("|")).collect();
    if query.order.is_none() {
        expected.sort();
        rows.sort();
    }
    (expected != rows).then(|| format!("expected {expected:?}\nfound    {rows:?}"))
}

/// Runs the queries of these seeds, and stops at the first that goes wrong, made small.
fn run(seeds: std::ops::Range<u64>) {
    for seed in seeds {
        let mut draw = Draw::new(seed.wrapping_mul(0x5851_f42d_4c95_7f2d) + 17);
        let tables = tables(&mut draw);
        let mut session = session(&tables);
        if std::env::var_os("GARDEN_GATE_SEEDS").is_some() && seed.is_multiple_of(50) {
            println!("seed {seed}");
        }
        for _ in 0..8 {
            let query = Generator::new(&mut draw).query();
            if std::env::var_os("GARDEN_GATE_SHOW").is_some() {
                println!("{}", query.sql());
            }
            for way in WAYS {
                let Some(first) = wrong(&query, &tables, &mut session, way) else { continue };
                // The same kind of failure: wrong rows, or the same error (a mistake of the shrunken text itself is another).
                let kind =
                    |what: &str| if what.starts_with("42") { what.to_owned() } else { what.chars().take(5).collect() };
                let same = |found: &str| kind(found) == kind(&first);
                let small = shrink(&query, &mut |query| {
                    wrong(query, &tables, &mut session, way).is_some_and(|found| same(&found))
                });
                let what = wrong(&small, &tables, &mut session, way).unwrap_or_default();
                let rows: Vec<String> = TABLES.iter().map(|name| format!("{name}: {:?}", tables[*name].1)).collect();
                panic!("seed {seed}, {way:?}\n{}\n{what}\n{}", small.sql(), rows.join("\n"));
            }
        }
    }
}

#[test]
fn whole_queries_give_what_the_reference_gives() {
    run(0..QUERIES / 8);
}

/// `GARDEN_GATE_SEEDS=1000..2000 cargo test --release -- --ignored long_run`
#[test]
#[ignore = "runs for as long as it is told to"]
fn long_run() {
    let range = std::env::var("GARDEN_GATE_SEEDS").unwrap_or_else(|_| "1000..2000".into());
    let (from, to) = range.split_once("..").expect("GARDEN_GATE_SEEDS=FROM..TO");
    run(from.parse().unwrap()..to.parse().unwrap());
}
