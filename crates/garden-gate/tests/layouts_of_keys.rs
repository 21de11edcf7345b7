//! Joins and groupings by integers that lie close together, apart, and far apart, in ascending order and in none: every layout of keys that a
//! table of the kernel has gives the rows that plain loops over the same numbers find.

use crate::support::{run, sorted};
use garden_gate::{Column, Database, SqlType, Value};
use std::collections::BTreeMap;

type Number = Option<i64>;

/// Keys of `a` and of `b` at distances of `step`: a quarter of those of `a` have two rows in `b`, a quarter none, and some are NULL.
fn keys(step: i64, ascending: bool) -> (Vec<Number>, Vec<Number>) {
    let place = |at: i64| if ascending { at } else { at * 7_919 % 2_003 };
    let a: Vec<Number> = (0..2_003).map(|at| (place(at) % 50 != 49).then(|| place(at) * step - 5)).collect();
    let b = a.iter().enumerate().flat_map(|(at, key)| vec![*key; [1, 2, 0, 1][at % 4]]).collect();
    (a, b)
}

fn stored(db: &Database, name: &str, keys: &[Number]) {
    let columns = ["k", "n"].map(|name| Column::new(name, SqlType::BigInt));
    let value = |number: Number| number.map_or(Value::Null, Value::Integer);
    let rows = keys.iter().zip(0_i64..).map(|(key, at)| vec![value(*key), Value::Integer(at)]);
    db.add_rows(name, &columns, &rows.collect::<Vec<_>>()).unwrap();
}

fn shown(number: Number) -> String {
    number.map_or("NULL".into(), |number| number.to_string())
}

/// The rows of the queries below, found by going through all of `b` for each row of `a`.
fn expected(a: &[Number], b: &[Number]) -> Vec<(&'static str, Vec<String>)> {
    let mut places: BTreeMap<i64, Vec<usize>> = BTreeMap::new();
    b.iter().enumerate().for_each(|(at, key)| key.iter().for_each(|key| places.entry(*key).or_default().push(at)));
    let matches = |key: Number| key.and_then(|key| places.get(&key)).map_or(&[][..], Vec::as_slice);
    let rows = a.iter().copied().enumerate();
    let inner = rows.clone().flat_map(|(at, key)| matches(key).iter().map(move |other| format!("{at}|{other}")));
    let left = rows.clone().flat_map(|(at, key)| match matches(key) {
        [] => vec![format!("{at}|NULL")],
        found => found.iter().map(|other| format!("{at}|{other}")).collect(),
    });
    let of = |wanted: bool| {
        rows.clone().filter(move |(_, key)| matches(*key).is_empty() != wanted).map(|(at, _)| at.to_string())
    };
    let mut groups: BTreeMap<Number, (i64, usize)> = BTreeMap::new();
    for (at, key) in b.iter().enumerate() {
        let group = groups.entry(*key).or_default();
        *group = (group.0 + 1, group.1 + at);
    }
    let groups = groups.iter().map(|(key, (count, sum))| format!("{}|{count}|{sum}", shown(*key)));
    vec![
        ("SELECT a.n, b.n FROM a JOIN b ON a.k = b.k", inner.collect()),
        ("SELECT a.n, b.n FROM b RIGHT JOIN a ON a.k = b.k", left.collect()),
        ("SELECT n FROM a WHERE EXISTS (SELECT 1 FROM b WHERE b.k = a.k)", of(true).collect()),
        ("SELECT n FROM a WHERE NOT EXISTS (SELECT 1 FROM b WHERE b.k = a.k)", of(false).collect()),
        ("SELECT k, COUNT(*), SUM(n) FROM b GROUP BY k", groups.collect()),
    ]
}

#[test]
fn every_layout_of_integer_keys_finds_the_rows_that_loops_do() {
    for (step, ascending) in
        [(1, true), (1, false), (40, true), (40, false), (5_000, false), (1 << 41, true), (1 << 41, false)]
    {
        let (a, b) = keys(step, ascending);
        let db = Database::in_memory();
        stored(&db, "a", &a);
        stored(&db, "b", &b);
        for (query, rows) in expected(&a, &b) {
            assert!(!rows.is_empty(), "{query}");
            for workers in [1, 2] {
                let mut session = db.session();
                session.set("workers", workers).unwrap();
                session.set("batch_rows", 100).unwrap();
                let mut wanted = rows.clone();
                wanted.sort_unstable();
                assert_eq!(sorted(&mut session, query), wanted, "{step} {ascending} {workers}: {query}");
            }
        }
        // The keys come in the order of their first rows.
        let mut session = db.session();
        let mut firsts: Vec<String> = Vec::new();
        b.iter().map(|key| shown(*key)).for_each(|key| {
            if !firsts.contains(&key) {
                firsts.push(key)
            }
        });
        assert_eq!(run(&mut session, "SELECT k FROM b GROUP BY k").unwrap(), firsts.join("; "), "{step} {ascending}");
    }
}
