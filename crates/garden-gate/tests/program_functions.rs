//! Functions of the program: in every clause, with NULLs and constants, and what their code does wrong.

use crate::story::check;
use garden_gate::arrow::array::{
    Array, ArrayRef, AsArray, BooleanArray, Float64Array, Int32Array, Int64Array, StringViewArray,
};
use garden_gate::arrow::datatypes::Int64Type;
use garden_gate::{Database, Error, Result, SqlType, source::Signature};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

fn digit_sum(number: i64) -> i64 {
    number.to_string().bytes().filter(u8::is_ascii_digit).map(|digit| i64::from(digit - b'0')).sum()
}

fn sums(arguments: &[ArrayRef]) -> Result<ArrayRef> {
    let numbers = arguments[0].as_primitive::<Int64Type>();
    assert_eq!(numbers.null_count(), 0, "rows with NULL do not come here");
    Ok(Arc::new(numbers.values().iter().map(|number| digit_sum(*number)).collect::<Int64Array>()))
}

fn database() -> Database {
    let db = Database::in_memory();
    db.add_function("digit_sum", &[SqlType::BigInt], SqlType::BigInt, sums).unwrap();
    let reversed = |arguments: &[ArrayRef]| -> Result<ArrayRef> {
        let texts = arguments[0].as_string_view().iter().map(|text| Some(text?.chars().rev().collect::<String>()));
        Ok(Arc::new(texts.collect::<StringViewArray>()))
    };
    db.add_function("Reversed", &[SqlType::TEXT], SqlType::TEXT, reversed).unwrap();
    let known = |arguments: &[ArrayRef]| -> Result<ArrayRef> {
        Ok(Arc::new((0..arguments[0].len()).map(|row| Some(arguments[0].is_valid(row))).collect::<BooleanArray>()))
    };
    db.add_function_with("is_known", Signature::new(&[SqlType::BigInt], SqlType::Boolean).called_on_null(), known)
        .unwrap();
    db.add_function("answer", &[], SqlType::Integer, |_| Ok(Arc::new(Int32Array::from(vec![42])))).unwrap();
    db
}

const TABLE: (&str, &str) = (
    "CREATE TABLE t (id INTEGER PRIMARY KEY, n BIGINT, note VARCHAR(9));
     INSERT INTO t VALUES (1, 19, 'fern'), (2, NULL, 'moss'), (3, 28, NULL), (4, 100, 'fir')",
    "4",
);

#[test]
fn a_function_works_in_every_clause() {
    let mut session = database().session();
    check(&mut session, TABLE);
    for line in [
        ("SELECT id, digit_sum(n), DIGIT_SUM(id) FROM t ORDER BY id", "=1|10|1; 2|NULL|2; 3|10|3; 4|1|4"),
        ("SELECT id FROM t WHERE digit_sum(n) = 10 ORDER BY id", "=1; 3"),
        ("SELECT digit_sum(n), COUNT(*) FROM t GROUP BY digit_sum(n) ORDER BY 1", "=1|1; 10|2; NULL|1"),
        ("SELECT MAX(digit_sum(n)) FROM t HAVING SUM(digit_sum(n)) = 21", "=10"),
        ("SELECT a.id, b.id FROM t a JOIN t b ON digit_sum(a.n) = digit_sum(b.n) AND a.id < b.id", "=1|3"),
        ("SELECT id FROM t ORDER BY reversed(note) NULLS LAST, id", "=1; 4; 2; 3"),
        ("SELECT id, SUM(digit_sum(n)) OVER (ORDER BY id) FROM t ORDER BY id", "=1|10; 2|10; 3|20; 4|21"),
        ("SELECT reversed('a' || note) FROM t WHERE id = 1", "=nrefa"),
        ("SELECT id FROM t WHERE is_known(n) ORDER BY id", "=1; 3; 4"),
        ("SELECT is_known(NULL), digit_sum(NULL), digit_sum(39)", "=FALSE|NULL|12"),
        ("SELECT answer() FROM t", "=42; 42; 42; 42"),
        ("SELECT (SELECT digit_sum(a.n + b.id) FROM t b WHERE b.id = 1) FROM t a ORDER BY a.id", "=2; NULL; 11; 2"),
        ("CREATE VIEW sums AS SELECT id, digit_sum(n) AS s FROM t", ""),
        ("SELECT s FROM sums WHERE id = 3", "=10"),
        ("UPDATE t SET n = digit_sum(n) WHERE id = 1", "1"),
        ("SELECT n FROM t WHERE id = 1", "=10"),
        (
            "SELECT ROUTINE_NAME, ROUTINE_BODY FROM INFORMATION_SCHEMA.ROUTINES WHERE ROUTINE_NAME = 'digit_sum'",
            "=digit_sum|EXTERNAL",
        ),
        ("SELECT DATA_TYPE FROM INFORMATION_SCHEMA.PARAMETERS WHERE SPECIFIC_NAME = 'digit_sum'", "=BIGINT"),
        ("SELECT digit_sum(n, 1) FROM t", "!42000 digit_sum takes 1 argument, 2 given"),
        ("SELECT digit_sum(note) FROM t", "!42000 argument 1 of digit_sum is"),
        ("SELECT digit_sum(DISTINCT n) FROM t", "!42000 takes no DISTINCT"),
        ("SELECT digit_sun(n) FROM t", "!42000 no function"),
    ] {
        check(&mut session, line);
    }
    let plan = session.plan("SELECT id FROM t WHERE digit_sum(n) = 10", ()).unwrap();
    assert_eq!(plan.root.predicates[0].text, "digit_sum(t.n) = 10");
    // Nothing has to be folded for a call without arguments: it is made once a batch.
    session.run("SET without_rules = 'fold constants'; SET batch_rows = 3").unwrap();
    check(&mut session, ("SELECT answer(), digit_sum(39) FROM t", "=42|12; 42|12; 42|12; 42|12"));
    session.run("SET without_rules = ''").unwrap();
    let folded = session.plan("SELECT id FROM t WHERE n = digit_sum(39)", ()).unwrap();
    assert_eq!(folded.root.predicates[0].text, "t.n = 12", "a constant is computed once");
}

/// Rows in batches, on several threads, with and without NULLs, against a loop.
#[test]
fn many_rows_are_those_of_a_loop() {
    let mut session = database().session();
    let expected: i64 = (1..=50_000).filter(|n| n % 7 != 0).map(digit_sum).sum();
    for settings in ["SET workers = 1; SET batch_rows = 7", "SET workers = 2; SET batch_rows = 4096"] {
        session.run(settings).unwrap();
        let sql =
            "SELECT CAST(SUM(digit_sum(CASE WHEN MOD(n, 7) <> 0 THEN n END)) AS BIGINT) FROM SERIES(1, 50000) AS s (n)";
        assert_eq!(session.query(sql, ()).unwrap().one::<(i64,)>().unwrap().0, expected, "{settings}");
    }
}

#[test]
fn what_the_code_does_wrong_is_an_error_of_the_statement() {
    let db = Database::in_memory();
    let calls = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&calls);
    let odd = move |arguments: &[ArrayRef]| -> Result<ArrayRef> {
        counted.fetch_add(1, Ordering::Relaxed);
        match arguments[0].as_primitive::<Int64Type>().value(0) {
            1 => panic!("no"),
            2 => Ok(Arc::new(Int64Array::from(vec![1, 2, 3]))),
            3 => Ok(Arc::new(Int32Array::from(vec![1]))),
            4 => Err(Error::custom("four is refused").with_help("take five")),
            number => Ok(Arc::new(Int64Array::from(vec![number]))),
        }
    };
    db.add_function("odd", &[SqlType::BigInt], SqlType::BigInt, odd).unwrap();
    let far = |_: &[ArrayRef]| -> Result<ArrayRef> { Ok(Arc::new(Float64Array::from(vec![f64::NAN]))) };
    db.add_function("far", &[], SqlType::Double, far).unwrap();
    let mut session = db.session();
    for (sql, state, message) in [
        ("SELECT odd(n) FROM (VALUES (1)) AS v (n)", "38000", "the program's function odd panicked"),
        ("SELECT odd(n) FROM (VALUES (2)) AS v (n)", "38000", "gave 3 values for 1 rows"),
        ("SELECT odd(n) FROM (VALUES (3)) AS v (n)", "38000", "gave an array of Int32, Int64 was promised"),
        ("SELECT odd(n) FROM (VALUES (4)) AS v (n)", "HY000", "four is refused"),
        ("SELECT far()", "22003", ""),
    ] {
        let error = session.query(sql, ()).unwrap_err();
        assert_eq!(error.sqlstate().as_str(), state, "{sql}: {error}");
        assert!(error.message().contains(message), "{sql}: {error}");
        assert_eq!(error.position().map(|at| at.column), Some(8), "{sql}");
    }
    // Nothing is called for rows with NULL, nor where no row is left.
    let before = calls.load(Ordering::Relaxed);
    assert_eq!(
        session.query("SELECT odd(CAST(NULL AS BIGINT)) FROM SERIES(1, 3) AS s (n)", ()).unwrap().row_count(),
        3
    );
    assert_eq!(session.query("SELECT odd(n) FROM SERIES(1, 3) AS s (n) WHERE n > 5", ()).unwrap().row_count(), 0);
    assert_eq!(calls.load(Ordering::Relaxed), before);
    let body = |_: &[ArrayRef]| -> Result<ArrayRef> { Err(Error::custom("never")) };
    for (name, state) in [
        ("odd", "42000"),
        ("ODD", "42000"),
        ("upper", "42000"),
        ("sum", "42000"),
        ("rank", "42000"),
        ("coalesce", "42000"),
        ("select", "42602"),
        ("a b", "42602"),
        ("", "42602"),
        ("1a", "42602"),
    ] {
        assert_eq!(
            db.add_function(name, &[], SqlType::Integer, body).unwrap_err().sqlstate().as_str(),
            state,
            "{name}"
        );
    }
    let wide = SqlType::Numeric { precision: 60, scale: 0 };
    assert!(db.add_function("wide", &[wide], SqlType::Integer, body).is_err());
}
