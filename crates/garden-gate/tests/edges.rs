//! Operators at their edges: no rows, one row, exactly one batch, one more than a batch, all NULL, all equal.

use crate::support::{run, text};
use garden_gate::{Column, Database, Session, SqlType, Value};

/// Rows of a batch in these tests.
const BATCH: usize = 4;

/// How the values of column `v` of table `t` are made from the row number.
type Make = fn(i64) -> Value;

const SHAPES: [(&str, Make); 3] =
    [("different", |row| Value::Integer(row)), ("all NULL", |_| Value::Null), ("all equal", |_| Value::Integer(7))];

fn session(rows: usize, make: Make) -> Session {
    let db = Database::in_memory();
    let columns = [Column::new("n", SqlType::Integer), Column::new("v", SqlType::BigInt), Column::new("w", text())];
    let data: Vec<Vec<Value>> = (0..i64::try_from(rows).unwrap())
        .map(|row| {
            let value = make(row);
            let word = if value.is_null() { Value::Null } else { Value::Text(format!("w{value}")) };
            vec![Value::Integer(row), value, word]
        })
        .collect();
    db.add_rows("t", &columns, &data).unwrap();
    let mut session = db.session();
    session.set("batch_rows", i32::try_from(BATCH).unwrap()).unwrap();
    session.set("workers", 2).unwrap();
    session
}

/// What a column of the shape holds, in row order.
fn values(rows: usize, make: Make) -> Vec<Option<i64>> {
    (0..i64::try_from(rows).unwrap())
        .map(|row| match make(row) {
            Value::Integer(value) => Some(value),
            _ => None,
        })
        .collect()
}

fn word(value: Option<i64>) -> String {
    value.map_or("NULL".into(), |value| value.to_string())
}

fn each(check: impl Fn(&mut Session, &[Option<i64>], &str)) {
    for rows in [0, 1, BATCH - 1, BATCH, BATCH + 1, 4 * BATCH, 4 * BATCH + 1, 9 * BATCH] {
        for (name, make) in SHAPES {
            check(&mut session(rows, make), &values(rows, make), &format!("{rows} rows, {name}"));
        }
    }
}

fn ask(session: &mut Session, sql: &str, what: &str) -> String {
    run(session, sql).unwrap_or_else(|error| panic!("{what}: {sql}\n{error}"))
}

#[test]
fn scan_filter_and_project() {
    each(|session, values, what| {
        let all: Vec<String> = values.iter().map(|value| word(*value)).collect();
        assert_eq!(ask(session, "SELECT v FROM t", what), all.join("; "), "{what}");
        let small: Vec<String> =
            values.iter().filter(|value| value.is_some_and(|value| value < 5)).map(|value| word(*value)).collect();
        assert_eq!(ask(session, "SELECT v FROM t WHERE v < 5", what), small.join("; "), "{what}");
        let twice: Vec<String> = values.iter().map(|value| word(value.map(|value| value * 2))).collect();
        assert_eq!(ask(session, "SELECT v + v FROM t", what), twice.join("; "), "{what}");
        assert_eq!(ask(session, "SELECT COUNT(*) FROM t", what), values.len().to_string(), "{what}");
    });
}

#[test]
fn sort_top_n_and_limit() {
    each(|session, values, what| {
        let mut order: Vec<usize> = (0..values.len()).collect();
        // NULL last, greatest first, equal ones as they came.
        order.sort_by_key(|row| (values[*row].is_none(), std::cmp::Reverse(values[*row])));
        let show = |rows: &[usize]| rows.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ");
        assert_eq!(ask(session, "SELECT n FROM t ORDER BY v DESC", what), show(&order), "{what}");
        let (from, to) = (2.min(order.len()), 7.min(order.len()));
        let sql = "SELECT n FROM t ORDER BY v DESC OFFSET 2 ROWS FETCH FIRST 5 ROWS ONLY";
        assert_eq!(ask(session, sql, what), show(&order[from..to]), "{what}");
        let plain: Vec<usize> = (from..to).collect();
        assert_eq!(ask(session, "SELECT n FROM t OFFSET 2 ROWS FETCH FIRST 5 ROWS ONLY", what), show(&plain), "{what}");
    });
}

#[test]
fn grouping_and_distinct() {
    each(|session, values, what| {
        let mut groups: Vec<(Option<i64>, usize)> = Vec::new();
        for value in values {
            match groups.iter_mut().find(|(known, _)| known == value) {
                Some((_, count)) => *count += 1,
                None => groups.push((*value, 1)),
            }
        }
        let expected: Vec<String> = groups.iter().map(|(value, count)| format!("{}|{count}", word(*value))).collect();
        assert_eq!(ask(session, "SELECT v, COUNT(*) FROM t GROUP BY v", what), expected.join("; "), "{what}");
        let by_text = ask(session, "SELECT MIN(v), COUNT(*) FROM t GROUP BY w", what);
        assert_eq!(by_text, expected.join("; "), "{what}: grouped by text");
        let different: Vec<String> = groups.iter().map(|(value, _)| word(*value)).collect();
        assert_eq!(ask(session, "SELECT DISTINCT v FROM t", what), different.join("; "), "{what}");
        let present: Vec<i64> = values.iter().flatten().copied().collect();
        let or_null = |value: Option<i64>| value.map_or("NULL".into(), |value| value.to_string());
        let sum = (!present.is_empty()).then(|| present.iter().sum());
        let expected = [sum, present.iter().min().copied(), present.iter().max().copied()].map(or_null).join("|");
        assert_eq!(ask(session, "SELECT SUM(v), MIN(v), MAX(v) FROM t", what), expected, "{what}");
    });
}

#[test]
fn joins_by_number_by_text_and_without_equality() {
    each(|session, values, what| {
        let mut pairs = Vec::new();
        let mut less = 0;
        for (left, a) in values.iter().enumerate() {
            for (right, b) in values.iter().enumerate() {
                let both = a.zip(*b);
                if both.is_some_and(|(a, b)| a == b) {
                    pairs.push(format!("{left}|{right}"));
                }
                less += usize::from(both.is_some_and(|(a, b)| a < b));
            }
        }
        for key in ["v", "w"] {
            let sql = format!("SELECT a.n, b.n FROM t a JOIN t b ON a.{key} = b.{key} ORDER BY 1, 2");
            assert_eq!(ask(session, &sql, what), pairs.join("; "), "{what}: by {key}");
        }
        assert_eq!(
            ask(session, "SELECT COUNT(*) FROM t a JOIN t b ON a.v = b.v AND a.w = b.w", what),
            pairs.len().to_string(),
            "{what}"
        );
        assert_eq!(ask(session, "SELECT COUNT(*) FROM t a JOIN t b ON a.v < b.v", what), less.to_string(), "{what}");
        let all = values.len() * values.len();
        assert_eq!(ask(session, "SELECT COUNT(*) FROM t a, t b", what), all.to_string(), "{what}");
    });
}

#[test]
fn case_and_conditions_over_batches() {
    each(|session, values, what| {
        let name = |value: &Option<i64>| match value {
            Some(value) if *value > 5 => "many",
            Some(_) => "few",
            None => "none",
        };
        let expected: Vec<&str> = values.iter().map(name).collect();
        let sql = "SELECT CASE WHEN v > 5 THEN 'many' WHEN v IS NOT NULL THEN 'few' ELSE 'none' END FROM t";
        assert_eq!(ask(session, sql, what), expected.join("; "), "{what}");
        let expected: Vec<String> = values.iter().map(|value| word(value.or(Some(-1)))).collect();
        assert_eq!(ask(session, "SELECT COALESCE(v, -1) FROM t", what), expected.join("; "), "{what}");
        let expected: Vec<String> = values.iter().map(|value| word(value.filter(|value| *value != 7))).collect();
        assert_eq!(ask(session, "SELECT NULLIF(v, 7) FROM t", what), expected.join("; "), "{what}");
    });
}
