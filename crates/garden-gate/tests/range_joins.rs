//! Range joins: every kind, one inequality or two, with keys and with further conditions, over every type that has an order, against plain
//! loops over the same numbers.

use crate::support::{run, sorted};
use garden_gate::plan::JoinMethod;
use garden_gate::{Column, Database, SqlType, Value};

type Number = Option<i64>;

/// A row of either side: a key, and a period.
#[derive(Clone, Copy)]
struct Row {
    k: Number,
    lo: Number,
    hi: Number,
}

/// Few values, so that many are equal; every seventh is NULL.
fn rows(count: usize, seed: u64) -> Vec<Row> {
    let mut state = seed;
    let mut draw = |most: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % most
    };
    let mut number = |most: u64| (draw(7) > 0).then(|| i64::try_from(draw(most)).unwrap());
    (0..count)
        .map(|_| {
            let (k, lo, length) = (number(3), number(40), number(6));
            Row { k, lo, hi: lo.zip(length).map(|(lo, length)| lo + length) }
        })
        .collect()
}

fn stored(db: &Database, name: &str, rows: &[Row]) {
    let columns = ["id", "k", "lo", "hi"].map(|name| Column::new(name, SqlType::Integer));
    let value = |number: Number| number.map_or(Value::Null, Value::Integer);
    let row = |(id, row): (usize, &Row)| {
        vec![Value::Integer(i64::try_from(id).unwrap()), value(row.k), value(row.lo), value(row.hi)]
    };
    db.add_rows(name, &columns, &rows.iter().enumerate().map(row).collect::<Vec<_>>()).unwrap();
}

/// A condition over `a` and `b`, and what it is for two rows: TRUE or not.
type Condition = (&'static str, fn(&Row, &Row) -> bool);

fn is(a: Number, b: Number, test: fn(i64, i64) -> bool) -> bool {
    a.zip(b).is_some_and(|(a, b)| test(a, b))
}

const CONDITIONS: &[Condition] = &[
    ("a.lo < b.lo", |a, b| is(a.lo, b.lo, |a, b| a < b)),
    ("b.hi <= a.lo", |a, b| is(b.hi, a.lo, |b, a| b <= a)),
    ("a.lo >= b.lo AND a.lo < b.hi", |a, b| is(a.lo, b.lo, |a, b| a >= b) && is(a.lo, b.hi, |a, b| a < b)),
    ("b.lo BETWEEN a.lo AND a.hi", |a, b| is(b.lo, a.lo, |b, a| b >= a) && is(b.lo, a.hi, |b, a| b <= a)),
    ("a.lo < b.hi AND b.lo < a.hi", |a, b| is(a.lo, b.hi, |a, b| a < b) && is(b.lo, a.hi, |b, a| b < a)),
    ("a.lo > b.lo AND a.hi > b.hi", |a, b| is(a.lo, b.lo, |a, b| a > b) && is(a.hi, b.hi, |a, b| a > b)),
    ("a.lo > b.lo AND a.lo > b.lo", |a, b| is(a.lo, b.lo, |a, b| a > b)),
    ("a.k = b.k AND a.lo <= b.lo", |a, b| is(a.k, b.k, |a, b| a == b) && is(a.lo, b.lo, |a, b| a <= b)),
    ("a.k IS NOT DISTINCT FROM b.k AND a.hi >= b.lo AND a.lo <= b.hi", |a, b| {
        a.k == b.k && is(a.hi, b.lo, |a, b| a >= b) && is(a.lo, b.hi, |a, b| a <= b)
    }),
    ("a.lo < b.lo AND a.k <> b.k", |a, b| is(a.lo, b.lo, |a, b| a < b) && is(a.k, b.k, |a, b| a != b)),
    ("a.lo < b.lo AND a.hi < b.hi AND a.hi > b.lo", |a, b| {
        is(a.lo, b.lo, |a, b| a < b) && is(a.hi, b.hi, |a, b| a < b) && is(a.hi, b.lo, |a, b| a > b)
    }),
    ("a.lo + a.k <= b.hi - 1", |a, b| is(a.lo.zip(a.k).map(|(lo, k)| lo + k), b.hi.map(|hi| hi - 1), |a, b| a <= b)),
];

/// How a number becomes a value of another type with the same order.
const TYPES: &[&str] = &[
    "#",
    "CAST(# AS BIGINT)",
    "CAST(# AS SMALLINT)",
    "CAST(# AS NUMERIC(9, 2))",
    "CAST(# AS NUMERIC(30, 3))",
    "CAST(# AS DOUBLE PRECISION)",
    "DATE '2020-01-01' + CAST(# AS INTERVAL DAY(4))",
    "TIMESTAMP '2020-01-01 00:00:00' + CAST(# AS INTERVAL MINUTE(4))",
    "CAST(# AS INTERVAL MONTH(4))",
    "LPAD(CAST(# AS VARCHAR(9)), 5, '0')",
];

/// What is asked, and what comes for the rows of both sides and the condition.
fn expected(kind: &str, (a, b): (&[Row], &[Row]), on: fn(&Row, &Row) -> bool) -> Vec<String> {
    let shown = |at: Option<usize>| at.map_or_else(|| "NULL".to_owned(), |at| at.to_string());
    let mut pairs: Vec<(Option<usize>, Option<usize>)> = Vec::new();
    for (left, row) in a.iter().enumerate() {
        pairs.extend(b.iter().enumerate().filter(|(_, other)| on(row, other)).map(|(at, _)| (Some(left), Some(at))));
    }
    let met = |left: usize| pairs.iter().any(|(at, _)| *at == Some(left));
    let alone: Vec<usize> = (0..a.len()).filter(|left| !met(*left)).collect();
    let lonely =
        (0..b.len()).filter(|right| !pairs.iter().any(|(_, at)| *at == Some(*right))).map(|at| (None, Some(at)));
    let lonely: Vec<_> = lonely.collect();
    let alone_rows = alone.iter().map(|left| (Some(*left), None));
    let both = |rows: &[(Option<usize>, Option<usize>)]| -> Vec<String> {
        rows.iter().map(|(left, right)| format!("{}|{}", shown(*left), shown(*right))).collect()
    };
    let mut rows = match kind {
        "JOIN" => both(&pairs),
        "LEFT JOIN" => both(&pairs.iter().copied().chain(alone_rows).collect::<Vec<_>>()),
        "RIGHT JOIN" => both(&pairs.iter().copied().chain(lonely).collect::<Vec<_>>()),
        "FULL JOIN" => both(&pairs.iter().copied().chain(alone_rows).chain(lonely).collect::<Vec<_>>()),
        "EXISTS" => (0..a.len()).filter(|left| met(*left)).map(|left| left.to_string()).collect(),
        "NOT EXISTS" => alone.iter().map(ToString::to_string).collect(),
        _ => (0..a.len()).map(|left| format!("{left}|{}", if met(left) { "TRUE" } else { "FALSE" })).collect(),
    };
    rows.sort_unstable();
    rows
}

fn query(kind: &str, on: &str) -> String {
    match kind {
        "EXISTS" | "NOT EXISTS" => format!("SELECT id FROM a WHERE {kind} (SELECT 1 FROM b WHERE {on})"),
        "mark" => format!("SELECT id, EXISTS (SELECT 1 FROM b WHERE {on}) FROM a"),
        _ => format!("SELECT a.id, b.id FROM a {kind} b ON {on}"),
    }
}

const KINDS: [&str; 7] = ["JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN", "EXISTS", "NOT EXISTS", "mark"];

#[test]
fn every_kind_gives_what_loops_give() {
    for (sizes, seed) in [((37, 23), 1), ((1, 60), 2), ((50, 0), 3), ((0, 9), 4)] {
        let (a, b) = (rows(sizes.0, seed), rows(sizes.1, seed + 100));
        let db = Database::in_memory();
        stored(&db, "a", &a);
        stored(&db, "b", &b);
        let mut session = db.session();
        for (on, test) in CONDITIONS {
            for kind in KINDS {
                let (sql, wanted) = (query(kind, on), expected(kind, (&a, &b), *test));
                for guide in
                    ["", " GUIDE (JOIN (a, b) BY RANGE)", " GUIDE IF POSSIBLE (JOIN (a, b) BY RANGE, WORKERS 2)"]
                {
                    assert_eq!(sorted(&mut session, &format!("{sql}{guide}")), wanted, "{sql}{guide}");
                }
                let plan = session.plan(format!("{sql} GUIDE (JOIN (a, b) BY RANGE)"), ()).unwrap();
                assert_eq!(plan.joins(), [JoinMethod::Range], "{sql}");
            }
        }
    }
}

#[test]
fn every_type_with_an_order_is_searched() {
    let (a, b) = (rows(30, 11), rows(30, 12));
    let db = Database::in_memory();
    stored(&db, "a", &a);
    stored(&db, "b", &b);
    let mut session = db.session();
    session.execute("SET workers = 2", ()).unwrap();
    for form in TYPES {
        let of = |column: &str| form.replace('#', column);
        for (on, test) in CONDITIONS.iter().filter(|(on, _)| !on.contains('+')) {
            let mut typed = (*on).to_owned();
            for column in ["a.lo", "a.hi", "b.lo", "b.hi"] {
                typed = typed.replace(column, &of(&column.replace('.', "~")));
            }
            let sql = query("LEFT JOIN", &typed.replace('~', "."));
            let wanted = expected("LEFT JOIN", (&a, &b), *test);
            assert_eq!(sorted(&mut session, &format!("{sql} GUIDE (JOIN (a, b) BY RANGE)")), wanted, "{sql}");
        }
    }
}

/// A side that fails for some row fails only for a pair that the other conditions let through.
#[test]
fn a_side_that_fails_does_so_for_pairs_that_need_it() {
    let db = Database::in_memory();
    let mut session = db.session();
    for sql in [
        "CREATE TABLE visit (id INTEGER, made DATE)",
        "INSERT INTO visit VALUES (1, DATE '2024-05-01'), (2, DATE '2024-05-02'), (3, NULL)",
        "CREATE TABLE day (d DATE)",
        "INSERT INTO day VALUES (DATE '2024-05-01'), (DATE '9999-12-31')",
    ] {
        session.execute(sql, ()).unwrap();
    }
    let of = |on: &str| format!("SELECT id FROM visit AS v JOIN day AS c ON {on} GUIDE (JOIN (v, c) BY RANGE)");
    // No visit is as late as the last of days, so that the day after it is not asked for.
    let banded = of("v.made >= c.d AND v.made < c.d + INTERVAL '1' DAY");
    assert_eq!(run(&mut session, &banded).unwrap(), "1");
    let error = run(&mut session, &of("v.made < c.d + INTERVAL '1' DAY")).unwrap_err();
    assert_eq!(error.sqlstate().as_str(), "22008", "{error}");
    let where_form = "SELECT id FROM visit AS v, day AS c WHERE v.made >= c.d AND v.made < c.d + INTERVAL '1' DAY \
                      GUIDE (JOIN (v, c) BY RANGE)";
    assert_eq!(run(&mut session, where_form).unwrap(), "1");
}

/// What does not fit into memory is joined chunk by chunk, with the same rows.
#[test]
fn sides_that_do_not_fit_are_joined_in_chunks() {
    let (a, b) = (rows(60, 21), rows(70, 22));
    let db = Database::in_memory();
    stored(&db, "a", &a);
    stored(&db, "b", &b);
    let mut session = db.session();
    for (on, _) in CONDITIONS.iter().filter(|(on, _)| !on.contains("a.k")) {
        for kind in ["JOIN", "LEFT JOIN", "RIGHT JOIN", "EXISTS", "NOT EXISTS"] {
            for guide in ["(a, b) BY RANGE", "(a, b) BY NESTED LOOP"] {
                let sql = format!("{} GUIDE IF POSSIBLE (JOIN {guide})", query(kind, on));
                session.execute("SET spill_threshold = 1000000", ()).unwrap();
                let wanted = sorted(&mut session, &sql);
                for setting in ["SET spill_threshold = 2000", "SET batch_rows = 16"] {
                    session.execute(setting, ()).unwrap();
                    assert_eq!(sorted(&mut session, &sql), wanted, "{setting}: {sql}");
                }
                let (_, plan) = session.measure(&sql, ()).unwrap();
                assert!(plan.nodes().iter().any(|node| node.spilled_bytes.is_some_and(|bytes| bytes > 0)), "{sql}");
                session.execute("SET batch_rows = 4096", ()).unwrap();
            }
        }
    }
}
