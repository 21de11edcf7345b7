//! Each row with the first of its matches: the latest price, the last reading before, the first three of each; against plain loops.

use crate::support::{run, sorted};
use garden_gate::{Column, Database, SqlType, Value};

type Number = Option<i64>;

/// (k, day, price) of prices, (k, day) of orders; some NULL, many equal.
fn numbers(count: usize, columns: u64, seed: u64) -> Vec<Vec<Number>> {
    let mut state = seed;
    let mut draw = |most: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % most
    };
    let mut number = |most: u64| (draw(8) > 0).then(|| i64::try_from(draw(most)).unwrap());
    (0..count).map(|_| (0..columns).map(|at| number([4, 20, 50][usize::try_from(at).unwrap()])).collect()).collect()
}

fn stored(db: &Database, name: &str, names: &[&str], rows: &[Vec<Number>]) {
    let columns: Vec<Column> =
        std::iter::once(&"id").chain(names).map(|name| Column::new(*name, SqlType::Integer)).collect();
    let row = |(id, row): (usize, &Vec<Number>)| {
        let values = row.iter().map(|number| number.map_or(Value::Null, Value::Integer));
        std::iter::once(Value::Integer(i64::try_from(id).unwrap())).chain(values).collect()
    };
    db.add_rows(name, &columns, &rows.iter().enumerate().map(row).collect::<Vec<_>>()).unwrap();
}

/// A condition, an order, how many rows; what they are for an order and a price, and the key that prices are sorted by.
struct Case {
    on: &'static str,
    order: &'static str,
    fetch: usize,
    meets: fn(&[Number], &[Number]) -> bool,
    /// NULL is last in the order that is not said otherwise.
    key: fn(&[Number], usize) -> (i64, i64, usize),
}

fn both(a: Number, b: Number, test: fn(i64, i64) -> bool) -> bool {
    a.zip(b).is_some_and(|(a, b)| test(a, b))
}

const CASES: &[Case] = &[
    Case {
        on: "t.k = o.k AND t.day <= o.day",
        order: "day DESC, id",
        fetch: 1,
        meets: |o, t| both(t[0], o[0], |t, o| t == o) && both(t[1], o[1], |t, o| t <= o),
        key: |t, id| (-t[1].unwrap_or(0), 0, id),
    },
    Case {
        on: "t.k = o.k AND t.day > o.day",
        order: "day, price DESC NULLS LAST, id",
        fetch: 2,
        meets: |o, t| both(t[0], o[0], |t, o| t == o) && both(t[1], o[1], |t, o| t > o),
        key: |t, id| (t[1].unwrap_or(0), t[2].map_or(1_000, |price| -price), id),
    },
    Case {
        on: "t.day < o.day",
        order: "day DESC, id DESC",
        fetch: 1,
        meets: |o, t| both(t[1], o[1], |t, o| t < o),
        key: |t, id| (-t[1].unwrap_or(0), 0, 1_000 - id),
    },
    Case {
        // The bound keeps the far end of the order.
        on: "t.k = o.k AND t.day <= o.day",
        order: "day, id",
        fetch: 3,
        meets: |o, t| both(t[0], o[0], |t, o| t == o) && both(t[1], o[1], |t, o| t <= o),
        key: |t, id| (t[1].unwrap_or(0), 0, id),
    },
    Case {
        // No bound at all: the first of each key, NULL last.
        on: "t.k = o.k",
        order: "price NULLS LAST, id",
        fetch: 2,
        meets: |o, t| both(t[0], o[0], |t, o| t == o),
        key: |t, id| (t[2].unwrap_or(1_000), 0, id),
    },
    Case {
        // A further condition on both sides: the first row that fulfils it.
        on: "t.day <= o.day AND t.k <> o.k AND t.price > 10",
        order: "day DESC, id",
        fetch: 2,
        meets: |o, t| {
            both(t[1], o[1], |t, o| t <= o) && both(t[0], o[0], |t, o| t != o) && t[2].is_some_and(|price| price > 10)
        },
        key: |t, id| (-t[1].unwrap_or(0), 0, id),
    },
];

#[test]
fn each_row_takes_the_first_of_its_matches() {
    for (orders, prices) in [(40, 60), (25, 1), (30, 0)] {
        let (o, t) = (numbers(orders, 2, 5), numbers(prices, 3, 6));
        let db = Database::in_memory();
        stored(&db, "o", &["k", "day"], &o);
        stored(&db, "t", &["k", "day", "price"], &t);
        let mut session = db.session();
        for Case { on, order, fetch, meets, key } in CASES {
            let mut pairs = Vec::new();
            let mut alone = Vec::new();
            for (left, row) in o.iter().enumerate() {
                let mut found: Vec<usize> = (0..t.len()).filter(|at| meets(row, &t[*at])).collect();
                found.sort_by_key(|at| key(&t[*at], *at));
                found.truncate(*fetch);
                if found.is_empty() {
                    alone.push(format!("{left}|NULL"));
                }
                pairs.extend(found.iter().map(|at| format!("{left}|{at}")));
            }
            let first = format!("SELECT t.id FROM t WHERE {on} ORDER BY {order} FETCH FIRST {fetch} ROWS ONLY");
            let mut check = |sql: &str, mut wanted: Vec<String>| {
                wanted.sort_unstable();
                for setting in
                    ["SET batch_rows = 4096", "SET batch_rows = 3", "SET workers = 2", "SET spill_threshold = 100"]
                {
                    session.execute(setting, ()).unwrap();
                    assert_eq!(sorted(&mut session, sql), wanted, "{sql}");
                }
                let plan = session.plan(sql, ()).unwrap();
                assert_eq!(
                    plan.joins().iter().map(|method| method.name()).collect::<Vec<_>>(),
                    ["nearest join"],
                    "{sql}"
                );
                // The general way of unnesting gives the same.
                session.execute("SET without_rules = 'decorrelate subquery'", ()).unwrap();
                assert_eq!(sorted(&mut session, sql), wanted, "{sql}");
                session.execute("SET without_rules = ''", ()).unwrap();
                session.execute("SET spill_threshold = 0", ()).unwrap();
            };
            let lateral = format!("SELECT o.id, n.id FROM o, LATERAL ({first}) AS n");
            check(&lateral, pairs.clone());
            let outer = format!("SELECT o.id, n.id FROM o LEFT JOIN LATERAL ({first}) AS n ON TRUE");
            let all: Vec<String> = pairs.iter().cloned().chain(alone).collect();
            check(&outer, all.clone());
            if *fetch == 1 {
                check(&format!("SELECT o.id, ({first}) FROM o"), all);
            }
        }
    }
}

/// What is computed beside the first row is NULL where there is none, and a condition on it comes after it was found.
#[test]
fn what_is_asked_of_the_nearest_row_comes_after_it() {
    let mut session = Database::in_memory().session();
    for sql in [
        "CREATE TABLE price (tool INTEGER, since DATE, amount NUMERIC(6, 2))",
        "INSERT INTO price VALUES (1, DATE '2024-01-01', 10.00), (1, DATE '2024-03-01', 12.00), (2, DATE '2024-02-01', 5.00)",
        "CREATE TABLE loan (id INTEGER, tool INTEGER, day DATE)",
        "INSERT INTO loan VALUES (1, 1, DATE '2024-02-29'), (2, 1, DATE '2024-03-01'), (3, 2, DATE '2024-01-31')",
    ] {
        session.execute(sql, ()).unwrap();
    }
    let latest = "SELECT amount, COALESCE(amount, 0) + 1 AS more FROM price AS p WHERE p.tool = l.tool AND p.since <= l.day \
                  ORDER BY since DESC FETCH FIRST ROW ONLY";
    for (sql, rows) in [
        (
            format!(
                "SELECT l.id, n.amount, n.more FROM loan AS l LEFT JOIN LATERAL ({latest}) AS n ON TRUE ORDER BY 1"
            ),
            "1|10.00|11.00; 2|12.00|13.00; 3|NULL|NULL",
        ),
        // Loan 2 has a price of 12 now: that it was 10 once does not count.
        (format!("SELECT l.id FROM loan AS l, LATERAL ({latest}) AS n WHERE n.amount < 11"), "1"),
        (format!("SELECT l.id FROM loan AS l LEFT JOIN LATERAL ({latest}) AS n ON TRUE WHERE n.amount > 11"), "2"),
        (format!("SELECT l.id FROM loan AS l LEFT JOIN LATERAL ({latest}) AS n ON TRUE WHERE n.amount IS NULL"), "3"),
        (format!("SELECT l.id FROM loan AS l WHERE (SELECT amount FROM ({latest}) AS p) > 11"), "2"),
        (
            "SELECT l.id, (SELECT MAX(n.amount) FROM LATERAL (SELECT amount FROM price AS p WHERE p.tool = l.tool \
          ORDER BY since FETCH FIRST 1 ROW ONLY) AS n) FROM loan AS l ORDER BY 1"
                .to_owned(),
            "1|10.00; 2|10.00; 3|5.00",
        ),
    ] {
        assert_eq!(run(&mut session, &sql).unwrap(), rows, "{sql}");
    }
}

/// Of each partition no more rows are sorted than a condition on their numbers lets through.
#[test]
fn numbers_of_rows_that_are_bounded_want_the_first_of_each_partition() {
    let rows = numbers(80, 3, 9);
    let db = Database::in_memory();
    stored(&db, "t", &["k", "day", "price"], &rows);
    let mut session = db.session();
    // The numbers of each row in its partition, by day from the last on, then by id; NULL comes last.
    let mut number = vec![0_usize; rows.len()];
    for (at, row) in rows.iter().enumerate() {
        let key = |at: usize| (rows[at][1].is_none(), rows[at][1].map(|day| -day), at);
        number[at] = 1 + (0..rows.len()).filter(|other| rows[*other][0] == row[0] && key(*other) < key(at)).count();
    }
    type Wanted = fn(usize, &[Number]) -> bool;
    let cases: [(&str, Option<u64>, Wanted); 8] = [
        ("r <= 3", Some(3), |r, _| r <= 3),
        ("r = 2", Some(2), |r, _| r == 2),
        ("3 > r", Some(2), |r, _| r < 3),
        ("r BETWEEN 2 AND 4", Some(4), |r, _| (2..=4).contains(&r)),
        ("r <= 5 AND r < 3 AND price > 10", Some(2), |r, row| r < 3 && row[2].is_some_and(|price| price > 10)),
        ("r <= 0", Some(0), |_, _| false),
        ("r > 2", None, |r, _| r > 2),
        ("r <= 2 OR price = 7", None, |r, row| r <= 2 || row[2] == Some(7)),
    ];
    for (condition, first, wanted) in cases {
        let sql = format!(
            "SELECT id FROM (SELECT id, price, ROW_NUMBER() OVER (PARTITION BY k ORDER BY day DESC NULLS LAST, id) AS r FROM t) AS n WHERE {condition}"
        );
        let mut ids: Vec<String> =
            (0..rows.len()).filter(|at| wanted(number[*at], &rows[*at])).map(|at| at.to_string()).collect();
        ids.sort_unstable();
        for setting in ["SET batch_rows = 4096", "SET batch_rows = 2", "SET workers = 2", "SET spill_threshold = 100"] {
            session.execute(setting, ()).unwrap();
            assert_eq!(sorted(&mut session, &sql), ids, "{setting}: {sql}");
        }
        session.execute("SET spill_threshold = 0", ()).ok();
        let plan = session.plan(&sql, ()).unwrap();
        let shown = plan.nodes().iter().flat_map(|node| node.details.clone()).find(|text| text.starts_with("first "));
        assert_eq!(shown, first.map(|first| format!("first {first} of each partition")), "{sql}");
        let (estimate, rows) =
            (plan.root.estimated_rows.max(1.0), f64::from(u32::try_from(ids.len()).unwrap()).max(1.0));
        assert!((estimate / rows).max(rows / estimate) < 4.0, "{sql}: {estimate} for {rows}");
    }
    // Of equal ranks there may be more.
    let ranked =
        "SELECT COUNT(*) FROM (SELECT RANK() OVER (PARTITION BY k ORDER BY day) AS r FROM t) AS n WHERE r <= 1";
    let plan = session.plan(ranked, ()).unwrap();
    assert!(!plan.nodes().iter().flat_map(|node| &node.details).any(|text| text.starts_with("first ")), "{plan}");
}
