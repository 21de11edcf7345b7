//! Aggregate functions of the program: over groups and windows, in parts and on several threads, and what their code does wrong.

use crate::story::check;
use garden_gate::arrow::array::{Array, ArrayRef, AsArray};
use garden_gate::arrow::datatypes::Int64Type;
use garden_gate::{
    Database, Error, Result, SqlType, Value,
    source::{AggregateState, Signature},
};

/// The product of all numbers, modulo 1009; how many they were is kept beside it.
#[derive(Default)]
struct Product(Option<i64>);

impl AggregateState for Product {
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
        let numbers = arguments[0].as_primitive::<Int64Type>();
        assert_eq!(numbers.null_count(), 0, "rows with NULL do not come here");
        self.0 = numbers.values().iter().fold(self.0, |all, n| Some(all.unwrap_or(1) * n % 1009));
        Ok(())
    }

    fn merge(&mut self, other: &Self) -> Result<()> {
        self.0 = match (self.0, other.0) {
            (Some(a), Some(b)) => Some(a * b % 1009),
            (a, b) => a.or(b),
        };
        Ok(())
    }

    fn finish(&self) -> Result<Value> {
        Ok(self.0.map_or(Value::Null, Value::Integer))
    }
}

/// Rows in which the first argument is NULL or greater than the second.
#[derive(Default)]
struct Misfits(i64);

impl AggregateState for Misfits {
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
        let (a, b) = (arguments[0].as_primitive::<Int64Type>(), arguments[1].as_primitive::<Int64Type>());
        let is_misfit = |row: &usize| a.is_null(*row) || b.is_valid(*row) && a.value(*row) > b.value(*row);
        self.0 += (0..a.len()).filter(is_misfit).map(|_| 1).sum::<i64>();
        Ok(())
    }

    fn merge(&mut self, other: &Self) -> Result<()> {
        self.0 += other.0;
        Ok(())
    }

    fn finish(&self) -> Result<Value> {
        Ok(Value::Integer(self.0))
    }
}

/// Panics at 1, refuses 2, gives text for 3.
#[derive(Default)]
struct Odd(i64);

impl AggregateState for Odd {
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
        self.0 = arguments[0].as_primitive::<Int64Type>().value(0);
        match self.0 {
            1 => panic!("no"),
            2 => Err(Error::custom("two is refused")),
            _ => Ok(()),
        }
    }

    fn merge(&mut self, _: &Self) -> Result<()> {
        Ok(())
    }

    fn finish(&self) -> Result<Value> {
        Ok(if self.0 == 3 { "three".into() } else { Value::Integer(self.0) })
    }
}

fn database() -> Database {
    let db = Database::in_memory();
    let number = SqlType::BigInt;
    db.add_aggregate::<Product>("product", &[number], number).unwrap();
    db.add_aggregate_with::<Misfits>("misfits", Signature::new(&[number, number], number).called_on_null()).unwrap();
    db.add_aggregate::<Odd>("odd", &[number], number).unwrap();
    db
}

#[test]
fn an_aggregate_works_in_every_clause() {
    let mut session = database().session();
    for line in [
        (
            "CREATE TABLE t (g INTEGER, n BIGINT); INSERT INTO t VALUES (1, 2), (1, 3), (1, NULL), (2, 5), (2, 5), (3, NULL)",
            "6",
        ),
        ("SELECT g, product(n) FROM t GROUP BY g ORDER BY g", "=1|6; 2|25; 3|NULL"),
        ("SELECT PRODUCT(n), COUNT(*) FROM t", "=150|6"),
        ("SELECT product(DISTINCT n) FROM t", "=30"),
        ("SELECT product(n) FILTER (WHERE g = 1), product(n) FILTER (WHERE g = 9) FROM t", "=6|NULL"),
        ("SELECT g FROM t GROUP BY g HAVING product(n) > 6", "=2"),
        ("SELECT g FROM t GROUP BY g ORDER BY product(n) DESC NULLS LAST", "=2; 1; 3"),
        ("SELECT misfits(n, g), misfits(n, 4) FROM t", "=6|4"),
        ("SELECT product(n), misfits(n, 0) FROM t WHERE g > 3", "=NULL|0"),
        ("SELECT g, n, product(n) OVER (PARTITION BY g) FROM t WHERE n > 2 ORDER BY g, n", "=1|3|3; 2|5|25; 2|5|25"),
        (
            "SELECT n, product(n) OVER (ORDER BY n ROWS BETWEEN 1 PRECEDING AND CURRENT ROW) FROM SERIES(1, 4) AS s (n)",
            "=1|1; 2|2; 3|6; 4|12",
        ),
        (
            "SELECT g, (SELECT misfits(b.n, 1) FROM t b WHERE b.g = a.g + 1) FROM (SELECT DISTINCT g FROM t) a ORDER BY g",
            "=1|2; 2|1; 3|0",
        ),
        ("SELECT g, product(n) FROM t GROUP BY ROLLUP (g) ORDER BY g NULLS LAST", "=1|6; 2|25; 3|NULL; NULL|150"),
        ("SELECT product(n) + 1 AS p FROM t GROUP BY g ORDER BY p NULLS LAST", "=7; 26; NULL"),
        ("CREATE VIEW products AS SELECT g, product(n) AS p FROM t GROUP BY g", ""),
        ("SELECT p FROM products WHERE g = 2", "=25"),
        ("SELECT ROUTINE_BODY FROM INFORMATION_SCHEMA.ROUTINES WHERE ROUTINE_NAME = 'misfits'", "=EXTERNAL"),
        ("SELECT COUNT(*) FROM INFORMATION_SCHEMA.PARAMETERS WHERE SPECIFIC_NAME = 'misfits'", "=2"),
        ("SELECT product(n, g) FROM t", "!42000 product takes 1 argument, 2 given"),
        ("SELECT product('a') FROM t", "!"),
        ("SELECT product(*) FROM t", "!42000"),
        ("SELECT product(n ORDER BY n) FROM t", "!42000"),
        ("SELECT g FROM t WHERE product(n) = 1", "!42000"),
        ("SELECT product(product(n)) FROM t", "!42000"),
        ("SELECT n, product(n) FROM t", "!42000 n"),
        ("SELECT odd(n) FROM (VALUES (1)) AS v (n)", "!38000 aggregate function odd panicked"),
        ("SELECT odd(n) FROM (VALUES (2)) AS v (n)", "!HY000 two is refused"),
        ("SELECT odd(n) FROM (VALUES (3)) AS v (n)", "!38000 odd gave three, BIGINT was promised"),
    ] {
        check(&mut session, line);
    }
    let plan = session.plan("SELECT product(n) FROM t", ()).unwrap();
    assert_eq!(plan.root.details, ["product(t.n)"]);
}

/// Many groups, in batches, on workers, in little memory, against a loop.
#[test]
fn many_groups_are_those_of_a_loop() {
    let mut session = database().session();
    let expected: i64 =
        (0..5000).map(|group| (1..=50_000_i64).filter(|n| n % 5000 == group).fold(1, |all, n| all * n % 1009)).sum();
    for settings in ["SET workers = 1; SET batch_rows = 7", "SET workers = 2", "SET spill_threshold = 1000"] {
        session.run(settings).unwrap();
        let sql = "SELECT CAST(SUM(p) AS BIGINT) FROM
                   (SELECT product(n) AS p FROM SERIES(1, 50000) AS s (n) GROUP BY MOD(n, 5000)) AS g";
        assert_eq!(session.query(sql, ()).unwrap().one::<(i64,)>().unwrap().0, expected, "{settings}");
    }
}

#[test]
fn names_and_types_that_are_refused() {
    let db = database();
    for (name, types, result, state) in [
        ("product", &[SqlType::BigInt][..], SqlType::BigInt, "42000"),
        ("SUM", &[SqlType::BigInt], SqlType::BigInt, "42000"),
        ("a b", &[SqlType::BigInt], SqlType::BigInt, "42602"),
        ("none", &[], SqlType::BigInt, "42000"),
        ("text", &[SqlType::BigInt], SqlType::Date, "38000"),
    ] {
        let refused = match name {
            "text" => db.add_aggregate::<Misfits>("count_text", types, result),
            _ => db.add_aggregate::<Product>(name, types, result),
        };
        assert_eq!(refused.unwrap_err().sqlstate().as_str(), state, "{name}");
    }
    let taken = db.add_function("product", &[], SqlType::BigInt, |_| Err(Error::custom("never")));
    assert_eq!(taken.unwrap_err().sqlstate().as_str(), "42000");
}

/// Keeps all numbers.
#[derive(Default)]
struct Kept(Vec<i64>);

impl AggregateState for Kept {
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
        self.0.extend(arguments[0].as_primitive::<Int64Type>().values());
        Ok(())
    }

    fn merge(&mut self, other: &Self) -> Result<()> {
        self.0.extend(&other.0);
        Ok(())
    }

    fn finish(&self) -> Result<Value> {
        Ok(Value::Integer(self.0.iter().sum()))
    }

    fn bytes(&self) -> usize {
        self.0.capacity() * size_of::<i64>()
    }
}

#[test]
fn what_a_state_holds_counts_for_the_memory_limit() {
    let db = Database::in_memory();
    db.add_aggregate::<Kept>("kept", &[SqlType::BigInt], SqlType::BigInt).unwrap();
    let mut session = db.session();
    let sql = "SELECT kept(n) FROM SERIES(1, 400000) AS s (n)";
    check(&mut session, (sql, "=80000200000"));
    session.limit_memory(Some(1 << 20));
    assert_eq!(session.query(sql, ()).unwrap_err().sqlstate().as_str(), "HY001");
}
