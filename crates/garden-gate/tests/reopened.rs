//! A database file against a model, opened again and again in between.

use crate::random_queries::Draw;
use crate::story::{check, told};
use crate::support::show;
use garden_gate::{Database, Session};
use std::collections::BTreeMap;

/// Tables by their numbers: keys with values, and whether there is a second column of values.
#[derive(Clone, Debug, Default, PartialEq)]
struct Model(BTreeMap<usize, Rows>);

#[derive(Clone, Debug, Default, PartialEq)]
struct Rows {
    wide: bool,
    rows: BTreeMap<i64, (i64, Option<String>)>,
}

impl Rows {
    fn shown(&self) -> String {
        let row = |(key, (value, word)): (&i64, &(i64, Option<String>))| match (self.wide, word) {
            (true, Some(word)) => format!("{key}|{value}|{word}"),
            (true, None) => format!("{key}|{value}|NULL"),
            (false, _) => format!("{key}|{value}"),
        };
        self.rows.iter().map(row).collect::<Vec<_>>().join("; ")
    }
}

/// A random statement on table `at`, what it comes to, and the model after it.
fn statement(draw: &mut Draw, at: usize, model: &mut Model) -> (String, String) {
    let (key, value) = (i64::try_from(draw.below(30)).unwrap(), i64::try_from(draw.below(100)).unwrap());
    let Some(table) = model.0.get_mut(&at) else {
        model.0.insert(at, Rows::default());
        return (format!("CREATE TABLE t{at} (k INTEGER PRIMARY KEY, v BIGINT NOT NULL)"), String::new());
    };
    match draw.below(8) {
        0 if draw.below(4) == 0 => {
            model.0.remove(&at);
            (format!("DROP TABLE t{at}"), String::new())
        }
        1 if !table.wide => {
            table.wide = true;
            let word = "a word that is longer than a view".to_owned();
            table.rows.values_mut().for_each(|row| row.1 = Some(word.clone()));
            (format!("ALTER TABLE t{at} ADD COLUMN w VARCHAR(99) DEFAULT '{word}'"), String::new())
        }
        2 => {
            let before = table.rows.len();
            table.rows.retain(|known, _| *known % 3 != key % 3);
            (format!("DELETE FROM t{at} WHERE MOD(k, 3) = {}", key % 3), (before - table.rows.len()).to_string())
        }
        3 => {
            table.rows.values_mut().for_each(|row| row.0 += value);
            (format!("UPDATE t{at} SET v = v + {value}"), table.rows.len().to_string())
        }
        4 => {
            let new: Vec<i64> = (key..key + 5).filter(|key| !table.rows.contains_key(key)).collect();
            let word = if table.wide { Some("a word that is longer than a view".to_owned()) } else { None };
            new.iter().for_each(|key| drop(table.rows.insert(*key, (value, word.clone()))));
            let sql = format!(
                "INSERT INTO t{at} (k, v) SELECT value, {value} FROM SERIES({key}, {}) SKIP DUPLICATES",
                key + 4
            );
            (sql, new.len().to_string())
        }
        5 => (format!("INSERT INTO t{at} (k, v) VALUES ({key}, NULL)"), "!23000 can't be NULL".into()),
        _ => {
            let word = if table.wide { Some("a word that is longer than a view".to_owned()) } else { None };
            let fails = table.rows.contains_key(&key);
            if !fails {
                table.rows.insert(key, (value, word));
            }
            (
                format!("INSERT INTO t{at} (k, v) VALUES ({key}, {value})"),
                if fails { "!23000 already" } else { "1" }.into(),
            )
        }
    }
}

fn compare(session: &mut Session, model: &Model, seed: u64) {
    for at in 0..3 {
        match (model.0.get(&at), session.query(format!("SELECT * FROM t{at} ORDER BY k"), ())) {
            (Some(rows), Ok(found)) => assert_eq!(show(&found), rows.shown(), "seed {seed}, table t{at}"),
            (None, Err(error)) => assert_eq!(error.sqlstate().as_str(), "42S02", "seed {seed}"),
            (expected, found) => panic!("seed {seed}, table t{at}\n{expected:?}\n{found:?}"),
        }
    }
}

fn run(seed: u64) {
    let mut draw = Draw::new(seed);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.gate");
    let mut model = Model::default();
    for _ in 0..6 {
        let mut session = Database::open(&path).unwrap().session();
        compare(&mut session, &model, seed);
        let begun = draw.below(2) == 0;
        if begun {
            check(&mut session, ("START TRANSACTION", ""));
        }
        let kept = model.clone();
        for _ in 0..8 {
            let at = draw.below(3);
            let (sql, expected) = statement(&mut draw, at, &mut model);
            check(&mut session, (&sql, &expected));
        }
        compare(&mut session, &model, seed);
        if begun && draw.below(3) == 0 {
            // What was not committed is gone when the file is opened again.
            model = kept;
        } else if begun {
            assert_eq!(told(&mut session, "COMMIT"), "");
        }
    }
}

#[test]
fn what_is_opened_again_is_what_was_committed() {
    (0..12).for_each(run);
}

#[test]
fn statistics_come_back_with_their_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let columns = "n INTEGER, w VARCHAR(9), d DATE, m NUMERIC(6,2), x DOUBLE PRECISION, t TIMESTAMP, i INTERVAL DAY TO SECOND, b BOOLEAN, u UUID";
    let rows = "SELECT n, 'word ' || CAST(MOD(n, 7) AS VARCHAR(2)), DATE '2024-01-01' + CAST(MOD(n, 50) AS INTEGER) * INTERVAL '1' DAY, \
                n / 4.0, n * 1E10, TIMESTAMP '2024-01-01 10:00:00.5' + n * INTERVAL '1' HOUR, n * INTERVAL '1' MINUTE, MOD(n, 3) = 0, \
                CAST(NULL AS UUID) FROM SERIES(1, 2000) AS s (n)";
    let facts = |session: &Session| {
        let facts = session.describe(Some("t")).unwrap();
        facts[0].columns.iter().map(|column| format!("{:?}", column.statistics)).collect::<Vec<_>>()
    };
    let before = {
        let mut session = Database::open(&path).unwrap().session();
        check(&mut session, (&format!("CREATE TABLE t ({columns})"), ""));
        check(&mut session, (&format!("INSERT INTO t {rows}"), "2000"));
        let before = facts(&session);
        // They are written down with the next commit.
        check(&mut session, ("CREATE TABLE other (a INTEGER)", ""));
        before
    };
    let mut session = Database::open(&path).unwrap().session();
    let plan = session.plan("SELECT * FROM t WHERE w = 'word 3'", ()).unwrap();
    // Of 2,000 numbers 286 leave 3 when they are divided by 7.
    assert!((plan.root.estimated_rows - 286.0).abs() < 1.0, "{}", plan.root.estimated_rows);
    assert_eq!(facts(&session), before);
    // Few changes leave them; many have them computed again.
    check(&mut session, ("INSERT INTO t (n, w) VALUES (5000, 'word 3')", "1"));
    drop(session);
    let mut session = Database::open(&path).unwrap().session();
    let most = |session: &Session| session.describe(Some("t")).unwrap()[0].columns[0].statistics.clone().unwrap();
    assert_eq!((most(&session).rows, most(&session).max.to_string()), (2001, "2000".to_owned()));
    check(&mut session, ("DELETE FROM t WHERE n < 1000", "999"));
    assert_eq!((most(&session).rows, most(&session).max.to_string()), (1002, "5000".to_owned()));
    // Rows that are replaced one for one make them stale as well.
    check(&mut session, ("UPDATE t SET n = 7", "1002"));
    drop(session);
    let session = Database::open(&path).unwrap().session();
    assert_eq!((most(&session).distinct, most(&session).max.to_string()), (1.0, "7".to_owned()));
}
