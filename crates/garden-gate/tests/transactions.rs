//! Transactions: snapshots, savepoints, conflicts; and random ones of several sessions against a simple model.

use crate::random_queries::Draw;
use crate::story::{check, tell, told};
use crate::support::show;
use garden_gate::{Database, Session};
use std::collections::BTreeMap;

#[test]
fn a_transaction_is_kept_or_undone_as_a_whole() {
    tell(&[
        ("CREATE TABLE t (a INTEGER PRIMARY KEY)", ""),
        ("COMMIT", "!25000 no transaction is open"),
        ("START TRANSACTION ISOLATION LEVEL SERIALIZABLE, READ WRITE", ""),
        ("START TRANSACTION", "!25001"),
        ("INSERT INTO t VALUES (1), (2)", "2"),
        // A statement that fails leaves the transaction open.
        ("INSERT INTO t VALUES (3), (1)", "!23000"),
        ("SELECT COUNT(*) FROM t", "=2"),
        ("ROLLBACK", ""),
        ("SELECT COUNT(*) FROM t", "=0"),
        ("START TRANSACTION", ""),
        ("CREATE TABLE u (b INTEGER)", ""),
        ("INSERT INTO t VALUES (1)", "1"),
        ("SAVEPOINT one", ""),
        ("INSERT INTO t VALUES (2)", "1"),
        ("SAVEPOINT two", ""),
        ("DROP TABLE u", ""),
        ("DELETE FROM t", "2"),
        ("ROLLBACK TO SAVEPOINT two", ""),
        ("SELECT COUNT(*) FROM u, t", "=0"),
        ("ROLLBACK TO one", ""),
        ("ROLLBACK TO two", "!3B001 no savepoint \"two\""),
        ("RELEASE SAVEPOINT one", ""),
        ("ROLLBACK TO one", "!3B001"),
        ("COMMIT AND CHAIN", ""),
        ("INSERT INTO u VALUES (1)", "1"),
        ("ROLLBACK", ""),
        ("SELECT (SELECT COUNT(*) FROM t), (SELECT COUNT(*) FROM u)", "=1|0"),
        ("START TRANSACTION READ ONLY", ""),
        ("DELETE FROM t", "!25006"),
        ("CREATE TABLE v (a INTEGER)", "!25006"),
        ("SELECT COUNT(*) FROM t", "=1"),
        ("COMMIT WORK", ""),
    ]);
    let mut session =
        tell(&[("CREATE TABLE t (a INTEGER)", ""), ("START TRANSACTION", ""), ("INSERT INTO t VALUES (1)", "1")]);
    assert!(session.in_transaction());
    assert_eq!(session.roll_back().unwrap().code, "transaction-undone");
    assert!(session.roll_back().is_none());
    check(&mut session, ("SELECT COUNT(*) FROM t", "=0"));
}

/// Statements of two sessions in turn; `a` and `b` say which.
fn two(story: &[(char, &str, &str)]) {
    let db = Database::in_memory();
    let mut sessions = [db.session(), db.session()];
    check(&mut sessions[0], ("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER)", ""));
    check(&mut sessions[0], ("CREATE TABLE u (id INTEGER PRIMARY KEY, n INTEGER)", ""));
    check(&mut sessions[0], ("INSERT INTO t VALUES (1, 10), (2, 20)", "2"));
    for (who, sql, expected) in story {
        check(&mut sessions[usize::from(*who == 'b')], (sql, expected));
    }
}

#[test]
fn readers_keep_their_picture_and_lost_updates_are_refused() {
    two(&[
        ('a', "START TRANSACTION", ""),
        ('a', "SELECT SUM(n) FROM t", "=30"),
        ('b', "UPDATE t SET n = n + 1", "2"),
        ('a', "SELECT SUM(n) FROM t", "=30"),
        // It has only read: it may end as it likes.
        ('a', "COMMIT", ""),
        ('a', "SELECT SUM(n) FROM t", "=32"),
    ]);
    two(&[
        ('a', "START TRANSACTION", ""),
        ('b', "START TRANSACTION", ""),
        ('a', "UPDATE t SET n = n + 1 WHERE id = 1", "1"),
        ('b', "UPDATE t SET n = n + 5 WHERE id = 1", "1"),
        ('a', "COMMIT", ""),
        ('b', "COMMIT", "!40001 changed table \"t\" … run the transaction again"),
        ('b', "SELECT n FROM t WHERE id = 1", "=11"),
        ('b', "ROLLBACK", "!25000"),
    ]);
    // Write skew: each reads what the other changes.
    two(&[
        ('a', "START TRANSACTION", ""),
        ('b', "START TRANSACTION", ""),
        ('a', "INSERT INTO u SELECT 1, SUM(n) FROM t", "1"),
        ('b', "INSERT INTO t SELECT 9, COUNT(*) FROM u", "1"),
        ('a', "COMMIT", ""),
        ('b', "COMMIT", "!40001"),
    ]);
    // Different tables do not meet.
    two(&[
        ('a', "START TRANSACTION", ""),
        ('a', "INSERT INTO u VALUES (1, 1)", "1"),
        ('b', "INSERT INTO t VALUES (3, 30)", "1"),
        ('a', "CREATE TABLE v AS SELECT * FROM u", "1"),
        ('a', "COMMIT", ""),
        ('b', "SELECT (SELECT COUNT(*) FROM t), (SELECT COUNT(*) FROM u), (SELECT COUNT(*) FROM v)", "=3|1|1"),
        ('b', "START TRANSACTION", ""),
        ('b', "DROP TABLE v", ""),
        ('a', "INSERT INTO v VALUES (2, 2)", "1"),
        ('b', "COMMIT", "!40001"),
        ('b', "SELECT COUNT(*) FROM v", "=2"),
    ]);
}

#[test]
fn sessions_on_many_threads_lose_nothing() {
    let db = Database::in_memory();
    check(&mut db.session(), ("CREATE TABLE t (n INTEGER)", ""));
    check(&mut db.session(), ("INSERT INTO t VALUES (0)", "1"));
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut session = db.session();
                for _ in 0..50 {
                    assert_eq!(told(&mut session, "UPDATE t SET n = n + 1"), "1");
                }
            });
        }
    });
    check(&mut db.session(), ("SELECT n FROM t", "=200"));
}

/// A table as the model has it.
type Rows = BTreeMap<i64, i64>;

/// One session of the model: its picture when it began, and what it has made of it.
#[derive(Default)]
struct Open {
    base: u64,
    rows: Rows,
    savepoint: Option<Rows>,
    changed: bool,
}

/// Random statements of three sessions, each compared with a map; `version` counts the commits that changed the table.
fn run_model(seed: u64) {
    let mut draw = Draw::new(seed);
    let db = Database::in_memory();
    let mut sessions: Vec<Session> = (0..3).map(|_| db.session()).collect();
    check(&mut sessions[0], ("CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER CHECK (v < 100))", ""));
    let (mut kept, mut version) = (Rows::new(), 0_u64);
    let mut open: Vec<Option<Open>> = (0..3).map(|_| None).collect();
    for _ in 0..120 {
        let who = draw.below(3);
        let (key, value) = (i64::try_from(draw.below(8)).unwrap(), i64::try_from(draw.below(110)).unwrap());
        let state = &mut open[who];
        let mut rows = state.as_ref().map_or_else(|| kept.clone(), |open| open.rows.clone());
        let (sql, expected) = match draw.below(10) {
            0 => {
                let fits = state.is_none();
                state.get_or_insert_with(|| Open { base: version, rows: kept.clone(), ..Open::default() });
                ("START TRANSACTION".to_owned(), if fits { "" } else { "!25001" }.to_owned())
            }
            1 => {
                let expected = match state.take() {
                    None => "!25000",
                    Some(open) if !open.changed => "",
                    Some(open) if open.base != version => "!40001",
                    Some(open) => {
                        (kept, version) = (open.rows, version + 1);
                        ""
                    }
                };
                rows = kept.clone();
                ("COMMIT".to_owned(), expected.to_owned())
            }
            2 => {
                let expected = if state.take().is_some() { "" } else { "!25000" };
                rows = kept.clone();
                ("ROLLBACK".to_owned(), expected.to_owned())
            }
            3 => match state {
                Some(open) => {
                    open.savepoint = Some(open.rows.clone());
                    ("SAVEPOINT s".to_owned(), String::new())
                }
                None => ("SAVEPOINT s".to_owned(), "!25000".to_owned()),
            },
            4 => match state {
                Some(Open { savepoint: Some(saved), rows: own, .. }) => {
                    own.clone_from(saved);
                    rows.clone_from(saved);
                    ("ROLLBACK TO s".to_owned(), String::new())
                }
                Some(_) => ("ROLLBACK TO s".to_owned(), "!3B001".to_owned()),
                None => ("ROLLBACK TO s".to_owned(), "!25000".to_owned()),
            },
            number => {
                let (sql, expected) = change(number, (key, value), &mut rows);
                if !expected.starts_with('!') {
                    match state {
                        // What changes no row leaves the table as it was.
                        _ if expected == "0" => {}
                        Some(open) => {
                            open.rows.clone_from(&rows);
                            open.changed = true;
                        }
                        None => (kept, version) = (rows.clone(), version + 1),
                    }
                } else {
                    rows = state.as_ref().map_or_else(|| kept.clone(), |open| open.rows.clone());
                }
                (sql, expected)
            }
        };
        check(&mut sessions[who], (&sql, &expected));
        let found = show(&sessions[who].query("SELECT k, v FROM t ORDER BY k", ()).unwrap());
        let shown: Vec<String> = rows.iter().map(|(key, value)| format!("{key}|{value}")).collect();
        assert_eq!(found, shown.join("; "), "seed {seed}, session {who} after {sql}");
    }
}

/// A change and what it comes to; `rows` are as they are after it when it does not fail.
fn change(number: usize, (key, value): (i64, i64), rows: &mut Rows) -> (String, String) {
    let too_large = |rows: &Rows| rows.values().any(|value| *value >= 100);
    match number {
        5 => {
            let fails = rows.contains_key(&key) || value >= 100;
            rows.insert(key, value);
            (format!("INSERT INTO t VALUES ({key}, {value})"), if fails { "!23000" } else { "1" }.into())
        }
        6 => {
            let count = rows.iter_mut().filter(|(known, _)| **known >= key).map(|(_, own)| *own += value).count();
            let expected = if too_large(rows) { "!23000".into() } else { count.to_string() };
            (format!("UPDATE t SET v = v + {value} WHERE k >= {key}"), expected)
        }
        7 => {
            let before = rows.len();
            rows.retain(|known, _| *known != key);
            (format!("DELETE FROM t WHERE k = {key}"), (before - rows.len()).to_string())
        }
        8 => {
            // Every key moves by one: keys that go make room for those that come.
            *rows = std::mem::take(rows).into_iter().map(|(key, value)| (key + 1, value)).collect();
            ("UPDATE t SET k = k + 1".into(), rows.len().to_string())
        }
        _ => {
            let fails = value >= 100;
            rows.insert(key, value);
            (
                format!("INSERT INTO t VALUES ({key}, {value}) REPLACE DUPLICATES"),
                if fails { "!23000" } else { "1" }.into(),
            )
        }
    }
}

#[test]
fn random_transactions_do_as_the_model_does() {
    (0..40).for_each(run_model);
}
