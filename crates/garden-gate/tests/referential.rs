//! Referential actions follow the changed row (clause 11.8), computed by hand; and random changes of a hierarchy against a model that follows
//! each row by itself.

use crate::random_queries::Draw;
use crate::story::{check, tell};
use garden_gate::Database;
use std::collections::BTreeMap;

const PARENT: (&str, &str) = ("CREATE TABLE p (k INTEGER PRIMARY KEY, n VARCHAR(9))", "");
const PARENTS: (&str, &str) = ("INSERT INTO p VALUES (1, 'a'), (2, 'b')", "2");

#[test]
fn children_stay_with_their_own_parent() {
    let all = "SELECT id, k FROM c ORDER BY id";
    for (action, statement, outcome, after) in [
        ("ON UPDATE CASCADE", "UPDATE p SET k = k + 1", "2", "=10|2; 20|3; 30|NULL"),
        ("ON UPDATE CASCADE", "UPDATE p SET k = 3 - k", "2", "=10|2; 20|1; 30|NULL"),
        ("ON UPDATE SET NULL", "UPDATE p SET k = 3 - k", "2", "=10|NULL; 20|NULL; 30|NULL"),
        ("ON UPDATE SET DEFAULT", "UPDATE p SET k = 3 - k", "2", "=10|2; 20|2; 30|NULL"),
        ("ON UPDATE RESTRICT", "UPDATE p SET k = 3 - k", "!23001 needed by c_k_reference", "=10|1; 20|2; 30|NULL"),
        // NO ACTION asks only whether each reference has a row in the end.
        ("", "UPDATE p SET k = 3 - k", "2", "=10|1; 20|2; 30|NULL"),
        ("", "UPDATE p SET k = k + 1", "!23000 needed by c_k_reference of table \"c\": k = 1", "=10|1; 20|2; 30|NULL"),
        ("ON UPDATE CASCADE", "UPDATE p SET k = k, n = 'x'", "2", "=10|1; 20|2; 30|NULL"),
        (
            "ON DELETE CASCADE",
            "MERGE INTO p USING (VALUES (1), (7)) s (k) ON p.k = s.k WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN INSERT VALUES (1, 'new')",
            "2",
            "=20|2; 30|NULL",
        ),
        // A row that replaces another is an update of it.
        ("ON DELETE CASCADE", "INSERT INTO p VALUES (1, 'new') REPLACE DUPLICATES", "1", "=10|1; 20|2; 30|NULL"),
        ("ON DELETE SET NULL", "DELETE FROM p WHERE k = 1", "1", "=10|NULL; 20|2; 30|NULL"),
    ] {
        let made = format!("CREATE TABLE c (id INTEGER, k INTEGER DEFAULT 2 REFERENCES p {action})");
        let rows = ("INSERT INTO c VALUES (10, 1), (20, 2), (30, NULL)", "3");
        tell(&[PARENT, PARENTS, (&made, ""), rows, (statement, outcome), (all, after)]);
    }
}

#[test]
fn one_statement_reaches_a_row_by_several_keys() {
    for (first, second, statement, after) in [
        ("ON DELETE SET NULL", "ON DELETE SET NULL", "DELETE FROM p", "=NULL|NULL"),
        ("ON DELETE CASCADE", "ON DELETE SET NULL", "DELETE FROM p", "="),
        ("ON DELETE SET NULL", "ON DELETE CASCADE", "DELETE FROM p", "="),
        ("ON DELETE CASCADE", "", "DELETE FROM p", "="),
        ("ON UPDATE CASCADE", "ON UPDATE CASCADE", "UPDATE p SET k = k + 10", "=11|12"),
        ("ON UPDATE CASCADE", "ON UPDATE SET NULL", "UPDATE p SET k = k + 10", "=11|NULL"),
    ] {
        let made = format!("CREATE TABLE c (x INTEGER REFERENCES p {first}, y INTEGER REFERENCES p {second})");
        tell(&[
            PARENT,
            PARENTS,
            (&made, ""),
            ("INSERT INTO c VALUES (1, 2)", "1"),
            (statement, "2"),
            ("SELECT x, y FROM c", after),
        ]);
    }
}

#[test]
fn tables_that_refer_to_themselves_and_chains() {
    tell(&[
        ("CREATE TABLE t (id INTEGER PRIMARY KEY, up INTEGER REFERENCES t ON UPDATE CASCADE ON DELETE CASCADE)", ""),
        ("INSERT INTO t VALUES (1, NULL), (2, 1), (3, 2), (4, 4)", "4"),
        ("UPDATE t SET id = id + 10 RETURNING id, up", "=11|NULL; 12|11; 13|12; 14|14"),
        // Both columns by the statement itself: the reference is what it says.
        ("UPDATE t SET id = id - 10, up = up - 10", "4"),
        ("SELECT * FROM t ORDER BY id", "=1|NULL; 2|1; 3|2; 4|4"),
        ("DELETE FROM t WHERE id = 1", "1"),
        ("SELECT * FROM t", "=4|4"),
        ("CREATE TABLE long (id INTEGER PRIMARY KEY, up INTEGER REFERENCES long ON DELETE CASCADE)", ""),
        // Deeper than any stack of calls would go.
        ("INSERT INTO long SELECT value, NULLIF(value - 1, 0) FROM SERIES(1, 3000)", "3000"),
        ("DELETE FROM long WHERE id = 1", "1"),
        ("SELECT COUNT(*) FROM long", "=0"),
    ]);
    tell(&[
        PARENT,
        PARENTS,
        (
            "CREATE TABLE c (k INTEGER PRIMARY KEY REFERENCES p ON UPDATE CASCADE, half NUMERIC(9,1) GENERATED ALWAYS AS (k / 2.0))",
            "",
        ),
        ("CREATE TABLE g (k INTEGER REFERENCES c ON UPDATE CASCADE CHECK (k < 50))", ""),
        ("INSERT INTO c (k) VALUES (1), (2)", "2"),
        ("INSERT INTO g VALUES (1), (2), (2)", "3"),
        ("UPDATE p SET k = 3 - k", "2"),
        ("SELECT * FROM c ORDER BY k", "=1|0.5; 2|1.0"),
        ("SELECT k FROM g ORDER BY k", "=1; 1; 2"),
        ("UPDATE p SET k = k + 60", "!23000 breaks g_check"),
        ("SELECT k FROM g ORDER BY k", "=1; 1; 2"),
    ]);
}

#[test]
fn duplicates_are_those_of_rows_that_stay() {
    tell(&[
        ("CREATE TABLE t (a INTEGER PRIMARY KEY, b INTEGER UNIQUE)", ""),
        ("INSERT INTO t VALUES (1, 1)", "1"),
        // (1, 5) is skipped, so (2, 5) has no duplicate.
        ("INSERT INTO t VALUES (1, 5), (2, 5), (2, 6) SKIP DUPLICATES", "1"),
        ("SELECT * FROM t ORDER BY a", "=1|1; 2|5"),
        ("INSERT INTO t VALUES (1, 9), (3, 3) REPLACE DUPLICATES RETURNING OLD.b, NEW.b", "=1|9; NULL|3"),
        ("INSERT INTO t VALUES (7, 9), (7, 5) REPLACE DUPLICATES", "1"),
        ("SELECT * FROM t ORDER BY a", "=3|3; 7|5"),
    ]);
}

#[test]
fn identity_columns_take_default_alone() {
    tell(&[
        (
            "CREATE TABLE t (k INTEGER GENERATED ALWAYS AS IDENTITY, v INTEGER, w INTEGER GENERATED ALWAYS AS (k * 10))",
            "",
        ),
        ("INSERT INTO t (v) VALUES (1), (2)", "2"),
        ("UPDATE t SET k = 3", "!42000 column \"k\" is GENERATED ALWAYS … SET k = DEFAULT takes the next number"),
        ("UPDATE t SET (k, v) = (SELECT 8, 9)", "!42000 GENERATED ALWAYS"),
        ("UPDATE t SET (w, v) = (SELECT 8, 9)", "!42000 takes only DEFAULT"),
        ("UPDATE t SET k = DEFAULT WHERE v = 1 RETURNING k, v, w", "=3|1|30"),
        (
            "MERGE INTO t USING (VALUES (2)) s (v) ON t.v = s.v WHEN MATCHED THEN UPDATE SET k = 9",
            "!42000 GENERATED ALWAYS",
        ),
        (
            "MERGE INTO t USING (VALUES (2), (5)) s (v) ON t.v = s.v WHEN MATCHED THEN UPDATE SET k = DEFAULT WHEN NOT MATCHED THEN INSERT (v) VALUES (s.v)",
            "2",
        ),
        ("SELECT v, w FROM t WHERE k > 3 ORDER BY v", "=2|50; 5|40"),
    ]);
}

/// A hierarchy as a model: the parent of each row.
type Model = BTreeMap<i64, Option<i64>>;

/// Rows whose key a change gives a new one take their children along, each by the old key.
fn renumbered(rows: &Model, new: impl Fn(i64) -> i64) -> Model {
    rows.iter().map(|(key, up)| (new(*key), up.map(&new))).collect()
}

fn without_trees(rows: &Model, gone: impl Fn(i64) -> bool) -> Model {
    let falls = |key: i64| {
        let mut at = Some(key);
        (0..=rows.len()).any(|_| match at {
            Some(key) if gone(key) => true,
            Some(key) => {
                at = rows[&key];
                false
            }
            None => false,
        })
    };
    rows.iter().filter(|(key, _)| !falls(**key)).map(|(key, up)| (*key, *up)).collect()
}

#[test]
fn random_changes_of_a_hierarchy_do_as_the_model_does() {
    for seed in 0..40 {
        let mut draw = Draw::new(seed);
        let mut session = Database::in_memory().session();
        let table = "CREATE TABLE t (k BIGINT PRIMARY KEY, up BIGINT REFERENCES t ON UPDATE CASCADE ON DELETE CASCADE)";
        check(&mut session, (table, ""));
        let mut rows = Model::new();
        for key in 0..12 {
            let up = (key > 0 && draw.below(4) > 0)
                .then(|| i64::try_from(draw.below(usize::try_from(key).unwrap())).unwrap());
            rows.insert(key, up);
            let up = up.map_or("NULL".to_owned(), |up| up.to_string());
            check(&mut session, (&format!("INSERT INTO t VALUES ({key}, {up})"), "1"));
        }
        for _ in 0..12 {
            let by = i64::try_from(draw.below(5)).unwrap() + 1;
            let sql = match draw.below(3) {
                0 => {
                    rows = renumbered(&rows, |key| key + by);
                    format!("UPDATE t SET k = k + {by}")
                }
                1 => {
                    let most = rows.keys().next_back().copied().unwrap_or(0);
                    rows = renumbered(&rows, |key| most - key);
                    format!("UPDATE t SET k = {most} - k")
                }
                _ => {
                    rows = without_trees(&rows, |key| key % 11 == by);
                    format!("DELETE FROM t WHERE MOD(k, 11) = {by}")
                }
            };
            session.execute(&sql, ()).unwrap_or_else(|error| panic!("seed {seed}: {sql}: {error}"));
            let expected: Vec<String> = rows
                .iter()
                .map(|(key, up)| format!("{key}|{}", up.map_or("NULL".into(), |up| up.to_string())))
                .collect();
            check(&mut session, ("SELECT k, up FROM t ORDER BY k", &format!("={}", expected.join("; "))));
        }
    }
}

/// A row of a table of two keys: the second may be NULL, which is equal to nothing.
type TwoKeys = (usize, Option<usize>);

fn share_a_key(a: &TwoKeys, b: &TwoKeys) -> bool {
    a.0 == b.0 || a.1.is_some() && a.1 == b.1
}

#[test]
fn random_duplicates_are_skipped_and_replaced_one_row_after_the_other() {
    for seed in 0..60 {
        let mut draw = Draw::new(seed);
        let mut session = Database::in_memory().session();
        check(&mut session, ("CREATE TABLE t (a INTEGER PRIMARY KEY, b INTEGER UNIQUE)", ""));
        let mut model: Vec<TwoKeys> = Vec::new();
        for _ in 0..6 {
            let skip = draw.below(2) == 0;
            let rows: Vec<TwoKeys> =
                (0..=draw.below(7)).map(|_| (draw.below(9), Some(draw.below(9)).filter(|b| *b > 0))).collect();
            for row in &rows {
                if skip && model.iter().any(|known| share_a_key(known, row)) {
                    continue;
                }
                model.retain(|known| !share_a_key(known, row));
                model.push(*row);
            }
            let shown = |row: &TwoKeys| (row.0, row.1.map_or("NULL".to_owned(), |b| b.to_string()));
            let values: Vec<String> = rows.iter().map(shown).map(|(a, b)| format!("({a}, {b})")).collect();
            let what = if skip { "SKIP" } else { "REPLACE" };
            let sql = format!("INSERT INTO t VALUES {} {what} DUPLICATES", values.join(", "));
            session.execute(&sql, ()).unwrap_or_else(|error| panic!("seed {seed}: {sql}: {error}"));
            model.sort_unstable();
            let expected: Vec<String> = model.iter().map(shown).map(|(a, b)| format!("{a}|{b}")).collect();
            check(&mut session, ("SELECT a, b FROM t ORDER BY a", &format!("={}", expected.join("; "))));
        }
    }
}

/// Work that grows with the square of the rows would not end here.
#[test]
fn many_rows_of_one_key() {
    tell(&[
        ("CREATE TABLE t (k INTEGER PRIMARY KEY)", ""),
        ("INSERT INTO t SELECT 1 FROM SERIES(1, 300000) AS s (n)", "!23000 k = 1 already"),
        ("INSERT INTO t SELECT 1 FROM SERIES(1, 300000) AS s (n) SKIP DUPLICATES", "1"),
        ("INSERT INTO t SELECT 1 FROM SERIES(1, 300000) AS s (n) REPLACE DUPLICATES", "1"),
        ("SELECT COUNT(*) FROM t", "=1"),
    ]);
}

#[test]
fn references_follow_columns_to_their_new_places() {
    tell(&[
        ("CREATE TABLE p (a INTEGER, k INTEGER PRIMARY KEY, j INTEGER UNIQUE)", ""),
        ("CREATE TABLE c (x INTEGER, k INTEGER REFERENCES p, up INTEGER)", ""),
        ("INSERT INTO p VALUES (9, 1, 5)", "1"),
        ("ALTER TABLE p DROP COLUMN a", ""),
        ("ALTER TABLE c DROP COLUMN x", ""),
        ("INSERT INTO c VALUES (1, 0)", "1"),
        ("INSERT INTO c VALUES (5, 0)", "!23000 is not in table"),
        ("ALTER TABLE p DROP COLUMN k", "!42000 part of"),
        ("ALTER TABLE p DROP COLUMN k CASCADE", ""),
        // The foreign key goes with its key, and does not mean the column that has its place now.
        ("INSERT INTO c VALUES (77, 0)", "1"),
        ("CREATE TABLE s (a INTEGER, id INTEGER PRIMARY KEY, up INTEGER REFERENCES s)", ""),
        ("ALTER TABLE s DROP COLUMN a", ""),
        ("INSERT INTO s VALUES (1, NULL), (2, 1)", "2"),
        ("INSERT INTO s VALUES (3, 9)", "!23000 is not in table"),
        // Columns in another order than those of the key.
        ("CREATE TABLE two (a INTEGER, b INTEGER, PRIMARY KEY (a, b))", ""),
        ("CREATE TABLE other (b INTEGER, a INTEGER, FOREIGN KEY (b, a) REFERENCES two (b, a))", ""),
        ("DROP TABLE c", ""),
        ("INSERT INTO two VALUES (1, 2)", "1"),
        ("INSERT INTO other VALUES (2, 1)", "1"),
        ("INSERT INTO other VALUES (1, 2)", "!23000 is not in table"),
    ]);
}
