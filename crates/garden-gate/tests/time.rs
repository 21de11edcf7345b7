//! History of rows (T180), periods of validity (T181), period predicates (T502), and what is ours beside them. Rows are computed by hand: each
//! story counts its own commits, and the first statement is commit 1.

use crate::story::{check, tell, told};
use crate::support::show;
use garden_gate::{Database, Parameters, SourceText, Value, inspect::CompareOptions};

const PRICES: &[(&str, &str)] = &[
    ("CREATE TABLE price (taxon INTEGER PRIMARY KEY, cents INTEGER) WITH SYSTEM VERSIONING", ""),
    ("INSERT INTO price VALUES (1, 100), (2, 200)", "2"),
    ("UPDATE price SET cents = 110 WHERE taxon = 1", "1"),
    ("DELETE FROM price WHERE taxon = 2", "1"),
];

fn after_prices(more: &[(&str, &str)]) -> garden_gate::Session {
    tell(&[PRICES, more].concat())
}

#[test]
fn a_moment_sees_the_rows_that_were_there() {
    after_prices(&[
        ("SELECT * FROM price", "=1|110"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 1", "="),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 2 ORDER BY 1", "=1|100; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 3 ORDER BY 1", "=1|110; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 4", "=1|110"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF CURRENT_TIMESTAMP", "=1|110"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF DATE '2001-01-01'", "="),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF TIMESTAMP '2001-01-01 00:00:00' + INTERVAL '1' DAY", "="),
        ("SELECT * FROM price FOR SYSTEM_TIME ALL ORDER BY 1, 2", "=1|100; 1|110; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME BETWEEN COMMIT 2 AND COMMIT 2 ORDER BY 1", "=1|100; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME BETWEEN COMMIT 3 AND COMMIT 4 ORDER BY 1", "=1|110; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME BETWEEN COMMIT 4 AND COMMIT 3", "="),
        ("SELECT * FROM price FOR SYSTEM_TIME BETWEEN SYMMETRIC COMMIT 4 AND COMMIT 3 ORDER BY 1", "=1|110; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME FROM COMMIT 2 TO COMMIT 3 ORDER BY 1", "=1|100; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME FROM COMMIT 3 TO COMMIT 3", "="),
        // Several times in one query, and in a subquery, a CTE and a recursion.
        (
            "SELECT a.taxon, a.cents, b.cents FROM price FOR SYSTEM_TIME AS OF COMMIT 2 AS a \
             LEFT JOIN price FOR SYSTEM_TIME AS OF COMMIT 4 AS b USING (taxon) ORDER BY 1",
            "=1|100|110; 2|200|NULL",
        ),
        (
            "SELECT taxon FROM price FOR SYSTEM_TIME AS OF COMMIT 3 p WHERE NOT EXISTS (SELECT 1 FROM price q WHERE q.taxon = p.taxon)",
            "=2",
        ),
        (
            "WITH RECURSIVE up (n, s) AS (SELECT taxon, cents FROM price FOR SYSTEM_TIME AS OF COMMIT 2 WHERE taxon = 1 \
             UNION ALL SELECT n + 1, s + p.cents FROM up JOIN price FOR SYSTEM_TIME AS OF COMMIT 2 p ON p.taxon = n + 1) \
             SELECT * FROM up ORDER BY 1",
            "=1|100; 2|300",
        ),
        ("LET back = 2", ""),
        ("SELECT COUNT(*) FROM price FOR SYSTEM_TIME AS OF COMMIT :back", "=2"),
        ("SELECT COUNT(*) FROM price WHERE system_start < system_end", "=1"),
        ("SELECT COUNT(DISTINCT system_end) FROM price FOR SYSTEM_TIME ALL", "=3"),
        ("CREATE VIEW first_prices AS SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 2", ""),
        ("SELECT COUNT(*) FROM first_prices", "=2"),
    ]);
}

#[test]
fn a_moment_may_be_a_parameter() {
    let mut session = after_prices(&[]);
    let mut count = |text: &str, parameters: Parameters| {
        let sql = format!("SELECT COUNT(*) FROM price FOR SYSTEM_TIME AS OF {text}");
        show(&session.query(&sql, parameters).unwrap())
    };
    let untyped = |text: &str| Parameters::new().set("t", Value::Untyped(text.into()));
    for (text, parameters, expected) in [
        ("COMMIT :t", Parameters::new().set("t", 2), "2"),
        ("COMMIT :t", untyped("2"), "2"),
        ("COMMIT :t + 1", untyped("3"), "1"),
        (":t", untyped("2001-01-01"), "0"),
        (":t", untyped("2001-01-01 10:00:00"), "0"),
        (":t", untyped("2999-01-01 10:00:00"), "1"),
        (":t", Parameters::new().set("t", Value::date("2999-01-01").unwrap()), "1"),
        (":t - INTERVAL '1' YEAR", Parameters::new().set("t", Value::date("2001-01-01").unwrap()), "0"),
    ] {
        assert_eq!(count(text, parameters), expected, "{text}");
    }
    let plan = session.plan("SELECT * FROM price FOR SYSTEM_TIME AS OF :t", ()).unwrap();
    assert!(plan.reads("price").by_scan());
}

#[test]
fn what_can_be_wrong_with_a_moment() {
    after_prices(&[
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 9", "!22000 there is no commit 9 … the last commit is 4"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT -1", "!22000 there is no commit -1"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF NULL", "!22004"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF '2024-05-01'", "!42000 write DATE '2024-05-01'"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF 7", "!42000 a date or a timestamp"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF taxon", "!42000 can't use columns"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF (SELECT CURRENT_TIMESTAMP)", "!0A000 LET a variable"),
        ("SELECT * FROM price FOR SYSTEM_TIME SINCE COMMIT 1", "!42000 AS OF, BETWEEN, FROM or ALL"),
        ("SELECT * FROM price AS p FOR SYSTEM_TIME ALL", "!42000 before the other name … AS p"),
        ("CREATE TABLE plain (a INTEGER)", ""),
        (
            "SELECT * FROM plain FOR SYSTEM_TIME ALL",
            "!42000 keeps no history … ALTER TABLE plain ADD SYSTEM VERSIONING",
        ),
        ("WITH w AS (SELECT 1 AS a) SELECT * FROM w FOR SYSTEM_TIME ALL", "!42000 a common table expression"),
        ("CREATE VIEW seen AS SELECT * FROM price", ""),
        ("SELECT * FROM seen FOR SYSTEM_TIME ALL", "!42000 is a view"),
        ("SELECT * FROM CHANGES OF plain BETWEEN COMMIT 1 AND COMMIT 2", "!42000 keeps no history"),
        ("TRUNCATE TABLE price", "!42000 erase"),
        ("UPDATE price SET system_end = CURRENT_TIMESTAMP", "!42000 filled by the database"),
        ("INSERT INTO price (taxon, system_start) VALUES (3, CURRENT_TIMESTAMP)", "!42000 filled by the database"),
        ("INSERT INTO price (taxon, system_start) VALUES (3, DEFAULT)", "1"),
    ]);
}

#[test]
fn a_transaction_leaves_one_version_and_an_undone_one_none() {
    after_prices(&[
        ("START TRANSACTION", ""),
        ("UPDATE price SET cents = 120", "1"),
        ("UPDATE price SET cents = 130", "1"),
        ("INSERT INTO price VALUES (3, 1)", "1"),
        ("DELETE FROM price WHERE taxon = 3", "1"),
        // Its own rows are there for it; a moment before it sees none of them.
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF CURRENT_TIMESTAMP", "=1|130"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 4", "=1|110"),
        ("COMMIT", ""),
        ("SELECT * FROM price FOR SYSTEM_TIME ALL ORDER BY 1, 2", "=1|100; 1|110; 1|130; 2|200"),
        ("START TRANSACTION", ""),
        ("UPDATE price SET cents = 140", "1"),
        ("SAVEPOINT s", ""),
        ("DELETE FROM price", "1"),
        ("ROLLBACK TO s", ""),
        ("COMMIT", ""),
        ("START TRANSACTION", ""),
        ("DELETE FROM price", "1"),
        ("ROLLBACK", ""),
        ("SELECT * FROM price FOR SYSTEM_TIME ALL ORDER BY 1, 2", "=1|100; 1|110; 1|130; 1|140; 2|200"),
        (
            "SELECT commit_number, rows_added, rows_changed, rows_removed FROM INFORMATION_SCHEMA.COMMITS ORDER BY 1",
            // Statements are counted: the two updates, and the row that came and went.
            "=1|NULL|NULL|NULL; 2|2|0|0; 3|0|1|0; 4|0|0|1; 5|1|2|1; 6|0|1|0",
        ),
        (
            "SELECT COUNT(*) FROM price FOR SYSTEM_TIME ALL a, price FOR SYSTEM_TIME ALL b WHERE a.system_start > b.system_end AND a.cents = 100",
            "=0",
        ),
    ]);
}

#[test]
fn every_change_writes_history() {
    tell(&[
        ("CREATE TABLE p (k INTEGER PRIMARY KEY) WITH SYSTEM VERSIONING", ""),
        (
            "CREATE TABLE c (id INTEGER PRIMARY KEY, k INTEGER REFERENCES p ON DELETE CASCADE ON UPDATE CASCADE) WITH SYSTEM VERSIONING",
            "",
        ),
        ("INSERT INTO p VALUES (1), (2)", "2"),
        ("INSERT INTO c VALUES (10, 1), (20, 2)", "2"),
        ("UPDATE p SET k = 7 WHERE k = 1", "1"),
        ("DELETE FROM p WHERE k = 2", "1"),
        ("SELECT id, k FROM c FOR SYSTEM_TIME ALL ORDER BY 1, 2", "=10|1; 10|7; 20|2"),
        ("SELECT id, k FROM c FOR SYSTEM_TIME AS OF COMMIT 5 ORDER BY 1", "=10|7; 20|2"),
        (
            "MERGE INTO p USING (VALUES (7), (9)) s (k) ON p.k = s.k WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN INSERT VALUES (s.k)",
            "2",
        ),
        ("SELECT k FROM p FOR SYSTEM_TIME ALL ORDER BY 1", "=1; 2; 7; 9"),
        ("INSERT INTO p VALUES (9) REPLACE DUPLICATES", "1"),
        ("SELECT k FROM p FOR SYSTEM_TIME ALL ORDER BY 1", "=1; 2; 7; 9; 9"),
        // A key of a row that is history is free, and no foreign key means it.
        ("INSERT INTO c VALUES (30, 7)", "!23000 is not in table"),
        ("INSERT INTO p VALUES (7)", "1"),
        ("SELECT k FROM p FOR SYSTEM_TIME AS OF COMMIT 6", "=7"),
        ("UPDATE p SET k = k RETURNING OLD.k, OLD.system_end > NEW.system_start", "=9|TRUE; 7|TRUE"),
    ]);
}

#[test]
fn the_full_form_and_its_rules() {
    let period = "PERIOD FOR SYSTEM_TIME (s, e)";
    let columns = "s TIMESTAMP(6) WITH TIME ZONE GENERATED ALWAYS AS ROW START, e TIMESTAMP(6) WITH TIME ZONE GENERATED ALWAYS AS ROW END";
    let made = format!("CREATE TABLE t (a INTEGER, {columns} HIDDEN, {period}) WITH SYSTEM VERSIONING");
    tell(&[
        (&made, ""),
        ("INSERT INTO t VALUES (1, DEFAULT)", "1"),
        ("INSERT INTO t (a) VALUES (2)", "1"),
        ("DELETE FROM t WHERE a = 1", "1"),
        ("SELECT a FROM t FOR SYSTEM_TIME AS OF COMMIT 3 ORDER BY 1", "=1; 2"),
        ("SELECT a FROM t WHERE SYSTEM_TIME CONTAINS CURRENT_TIMESTAMP", "=2"),
        ("SELECT table_type FROM INFORMATION_SCHEMA.TABLES WHERE table_name = 't'", "=SYSTEM VERSIONED"),
        ("SELECT period_name, start_column_name, end_column_name FROM INFORMATION_SCHEMA.PERIODS", "=SYSTEM_TIME|s|e"),
        ("SELECT column_name FROM INFORMATION_SCHEMA.COLUMNS WHERE is_system_time_period_end = 'YES'", "=e"),
        ("ALTER TABLE t DROP COLUMN e", "!42000 an end of the period"),
    ]);
    for (elements, words) in [
        (format!("a INTEGER, {columns}"), "!42000 ROW START of no period"),
        ("a TIMESTAMP, b TIMESTAMP, PERIOD FOR SYSTEM_TIME (a, b)".into(), "!42000 not GENERATED ALWAYS AS ROW START"),
        (format!("{columns}, PERIOD FOR SYSTEM_TIME (e, s)"), "!42000 not GENERATED ALWAYS AS ROW START"),
        (format!("{columns}, {period}, {period}"), "!42000 two periods"),
        (columns.replace("(6)", "(3)") + ", " + period, "!42000 TIMESTAMP(6)"),
        (columns.replacen(" WITH TIME ZONE", "", 1) + ", " + period, "!42000 a period has one type"),
        ("a DATE, b DATE, PERIOD FOR a (a, b)".into(), "!42000 another name"),
        ("a DATE, b DATE, PERIOD FOR p (a, c)".into(), "!42S22 c"),
        ("a DATE, PERIOD FOR p (a, a)".into(), "!42000 two columns"),
        ("a INTEGER, b INTEGER, PERIOD FOR p (a, b)".into(), "!42000 dates or timestamps"),
        ("a DATE, b DATE, PERIOD FOR p (a, b), PRIMARY KEY (p WITHOUT OVERLAPS)".into(), "!42000 a column before"),
        ("a DATE, b DATE, PERIOD FOR p (a, b), PRIMARY KEY (a, p WITHOUT OVERLAPS)".into(), "!42000 part of the key"),
        ("k INTEGER, PRIMARY KEY (k, p WITHOUT OVERLAPS)".into(), "!42000 no period \"p\""),
    ] {
        tell(&[(&format!("CREATE TABLE z ({elements})"), words)]);
    }
    tell(&[
        ("CREATE LOCAL TEMPORARY TABLE t (a INTEGER) WITH SYSTEM VERSIONING", "!42000 temporary"),
        ("CREATE TABLE t (system_end INTEGER) WITH SYSTEM VERSIONING", "!42S21 PERIOD FOR SYSTEM_TIME"),
        ("CREATE TABLE a AS SELECT 1 AS n WITH DATA WITH SYSTEM VERSIONING", "1"),
        ("UPDATE a SET n = 2", "1"),
        ("SELECT n FROM a FOR SYSTEM_TIME ALL ORDER BY 1", "=1; 2"),
        ("CREATE TABLE b (LIKE a)", ""),
        ("SELECT COUNT(*) FROM INFORMATION_SCHEMA.COLUMNS WHERE table_name = 'b'", "=1"),
    ]);
}

#[test]
fn tables_begin_and_end_to_keep_history() {
    tell(&[
        ("CREATE TABLE p (k INTEGER PRIMARY KEY, v VARCHAR(9))", ""),
        ("INSERT INTO p VALUES (1, 'a'), (2, 'b')", "2"),
        ("ALTER TABLE p ADD SYSTEM VERSIONING", ""),
        ("ALTER TABLE p ADD SYSTEM VERSIONING", "!42000 already"),
        // What was before is not known, and never shown as nothing.
        ("SELECT * FROM p FOR SYSTEM_TIME AS OF COMMIT 2", "!22000 is not kept … it begins at"),
        ("SELECT v FROM p FOR SYSTEM_TIME AS OF COMMIT 3 ORDER BY k", "=a; b"),
        ("UPDATE p SET v = 'c' WHERE k = 1", "1"),
        ("SELECT v FROM p FOR SYSTEM_TIME AS OF COMMIT 3 ORDER BY k", "=a; b"),
        // ALTER TABLE changes versions that have ended too.
        ("ALTER TABLE p ADD COLUMN w INTEGER DEFAULT 7", ""),
        ("SELECT k, v, w FROM p FOR SYSTEM_TIME ALL ORDER BY k, v", "=1|a|7; 1|c|7; 2|b|7"),
        ("ALTER TABLE p DROP COLUMN v", ""),
        ("SELECT * FROM p FOR SYSTEM_TIME AS OF COMMIT 3 ORDER BY k", "=1|7; 2|7"),
        ("CREATE VIEW old AS SELECT * FROM p FOR SYSTEM_TIME AS OF COMMIT 4", ""),
        ("ALTER TABLE p DROP SYSTEM VERSIONING", "!42000 view \"old\""),
        ("ALTER TABLE p DROP SYSTEM VERSIONING CASCADE", "1"),
        ("SELECT * FROM old", "!42S02"),
        ("SELECT * FROM p FOR SYSTEM_TIME ALL", "!42000 keeps no history"),
        ("ALTER TABLE p DROP SYSTEM VERSIONING", "!42000 keeps no history"),
        ("ALTER TABLE p ADD SYSTEM VERSIONING", ""),
        ("DELETE FROM p", "2"),
        ("SELECT COUNT(*) FROM p FOR SYSTEM_TIME ALL", "=2"),
        ("CREATE TABLE q (a INTEGER)", ""),
        ("INSERT INTO q VALUES (1)", "1"),
        ("ALTER TABLE q ADD PERIOD FOR SYSTEM_TIME (s, e)", ""),
        ("ALTER TABLE q ADD SYSTEM VERSIONING", ""),
        ("UPDATE q SET a = 2", "1"),
        ("SELECT a, e > CURRENT_TIMESTAMP FROM q FOR SYSTEM_TIME ALL ORDER BY 1", "=1|FALSE; 2|TRUE"),
        (
            "ALTER TABLE r ADD PERIOD FOR SYSTEM_TIME (s, e) ADD COLUMN s TIMESTAMP(6) GENERATED ALWAYS AS ROW START \
             ADD COLUMN e TIMESTAMP(6) GENERATED ALWAYS AS ROW END",
            "!42S02",
        ),
        ("CREATE TABLE r (a INTEGER)", ""),
        ("INSERT INTO r VALUES (1)", "1"),
        (
            "ALTER TABLE r ADD PERIOD FOR SYSTEM_TIME (s, e) ADD COLUMN s TIMESTAMP(6) GENERATED ALWAYS AS ROW START \
             ADD COLUMN e TIMESTAMP(6) GENERATED ALWAYS AS ROW END",
            "",
        ),
        ("SELECT COUNT(*) FROM r JOIN INFORMATION_SCHEMA.COMMITS ON CAST(commit_time AS TIMESTAMP) = s", "=1"),
        ("ALTER TABLE q DROP PERIOD FOR SYSTEM_TIME", "!42000 DROP SYSTEM VERSIONING first"),
        ("ALTER TABLE q DROP SYSTEM VERSIONING", "1"),
        ("ALTER TABLE q DROP PERIOD FOR SYSTEM_TIME", ""),
        ("SELECT * FROM q", "=2"),
    ]);
}

/// What holds of current rows need not have held of those that ended before.
#[test]
fn keys_may_be_younger_than_the_history() {
    tell(&[
        ("CREATE TABLE d (k INTEGER, v INTEGER) WITH SYSTEM VERSIONING", ""),
        ("INSERT INTO d VALUES (1, 1), (1, 2), (NULL, 3)", "3"),
        ("DELETE FROM d WHERE v > 1", "2"),
        ("ALTER TABLE d ADD PRIMARY KEY (k)", ""),
        ("SELECT DISTINCT k FROM d FOR SYSTEM_TIME AS OF COMMIT 2 ORDER BY k", "=1; NULL"),
        ("SELECT DISTINCT k FROM d FOR SYSTEM_TIME ALL ORDER BY k", "=1; NULL"),
        ("SELECT k, v FROM d FOR SYSTEM_TIME AS OF COMMIT 2 ORDER BY k NULLS FIRST, v DESC", "=NULL|3; 1|2; 1|1"),
        (
            "SELECT COUNT(*) FROM d FOR SYSTEM_TIME AS OF COMMIT 2 a LEFT JOIN d FOR SYSTEM_TIME AS OF COMMIT 2 b USING (k)",
            "=5",
        ),
        ("SELECT COUNT(k) FROM d FOR SYSTEM_TIME AS OF COMMIT 2 WHERE k IS NULL OR k = 1", "=2"),
        // Nor does a foreign key mean rows that have ended.
        ("CREATE TABLE p (k INTEGER PRIMARY KEY)", ""),
        ("INSERT INTO p VALUES (1)", "1"),
        ("ALTER TABLE d ADD FOREIGN KEY (k) REFERENCES p", ""),
        ("INSERT INTO p VALUES (7)", "1"),
        ("INSERT INTO d VALUES (7, 7)", "1"),
        ("DELETE FROM d WHERE k = 7", "1"),
        ("DELETE FROM p WHERE k = 7", "1"),
        ("SELECT COUNT(*) FROM d FOR SYSTEM_TIME AS OF COMMIT 9 JOIN p USING (k)", "=1"),
    ]);
}

#[test]
fn history_is_kept_in_check() {
    tell(&[
        ("CREATE TABLE p (k INTEGER) WITH SYSTEM VERSIONING", ""),
        ("INSERT INTO p VALUES (0)", "1"),
        ("ALTER TABLE p SET HISTORY (ROLL EVERY 2 ROWS, KEEP 2)", ""),
        ("UPDATE p SET k = 1", "1"),
        ("UPDATE p SET k = 2", "1"),
        ("UPDATE p SET k = 3", "1"),
        ("UPDATE p SET k = 4", "1"),
        ("SELECT k FROM p FOR SYSTEM_TIME ALL ORDER BY 1", "=0; 1; 2; 3; 4"),
        // The fifth version begins a third stretch: the first, with 0 and 1, goes.
        ("UPDATE p SET k = 5", "1"),
        ("SELECT k FROM p FOR SYSTEM_TIME ALL ORDER BY 1", "=2; 3; 4; 5"),
        ("SELECT k FROM p FOR SYSTEM_TIME AS OF COMMIT 4", "!22000 is not kept"),
        ("SELECT k FROM p FOR SYSTEM_TIME BETWEEN COMMIT 4 AND COMMIT 8", "!22000 is not kept"),
        ("SELECT k FROM p FOR SYSTEM_TIME AS OF COMMIT 5", "=2"),
        ("TRIM HISTORY OF p BEFORE COMMIT 7", "2"),
        ("SELECT k FROM p FOR SYSTEM_TIME ALL ORDER BY 1", "=4; 5"),
        ("SELECT k FROM p FOR SYSTEM_TIME AS OF COMMIT 7", "=4"),
        ("TRIM HISTORY OF p BEFORE COMMIT 7", "0"),
        ("TRIM HISTORY OF p BEFORE DATE '2999-01-01'", "!42000 in the future"),
        ("ALTER TABLE p SET HISTORY (ROLL EVERY INTERVAL '0' DAY)", "!42000 longer than nothing"),
        ("ALTER TABLE p SET HISTORY (KEEP 0)", "!42000 1 or more"),
        ("ALTER TABLE p SET HISTORY (ROLL EVERY INTERVAL '1' MONTH, KEEP 12)", ""),
        ("CREATE TABLE plain (k INTEGER)", ""),
        ("TRIM HISTORY OF plain BEFORE COMMIT 1", "!42000 keeps no history"),
        ("ALTER TABLE plain SET HISTORY (KEEP 1)", "!42000 keeps no history"),
    ]);
    let mut session = tell(&[
        ("CREATE TABLE p (k INTEGER) WITH SYSTEM VERSIONING", ""),
        ("INSERT INTO p VALUES (0)", "1"),
        ("ALTER TABLE p SET HISTORY (ROLL EVERY 1 ROWS, KEEP 1, WHEN FULL NOTE)", ""),
    ]);
    let outcome = |session: &mut garden_gate::Session| session.run("UPDATE p SET k = k + 1").unwrap().remove(0);
    for _ in 0..2 {
        let garden_gate::Outcome::Changed { notes, .. } = outcome(&mut session) else { panic!("no change") };
        assert_eq!(notes.iter().map(|note| note.code).collect::<Vec<_>>(), ["history-full"]);
    }
    check(&mut session, ("SELECT k FROM p FOR SYSTEM_TIME ALL ORDER BY 1", "=0; 1; 2"));
    let facts = session.describe(Some("p")).unwrap().remove(0);
    let history = facts.history.unwrap();
    assert_eq!(
        (history.rule.as_str(), history.from, history.stretches.len()),
        ("ROLL EVERY 1 ROWS, KEEP 1, WHEN FULL NOTE", None, 1)
    );
    assert_eq!(history.stretches[0].rows, 2);
    assert!(history.stretches[0].oldest != history.stretches[0].newest && history.stretches[0].bytes > 0);
}

#[test]
fn changes_are_a_table() {
    after_prices(&[
        (
            "SELECT commit_number, change, taxon, old_cents, new_cents FROM CHANGES OF price BETWEEN COMMIT 1 AND COMMIT 4",
            "=2|inserted|1|NULL|100; 2|inserted|2|NULL|200; 3|updated|1|100|110; 4|deleted|2|200|NULL",
        ),
        ("SELECT commit_number FROM CHANGES OF price BETWEEN COMMIT 3 AND COMMIT 3", "=3"),
        ("SELECT COUNT(*) FROM CHANGES OF price BETWEEN COMMIT 4 AND COMMIT 3", "=0"),
        (
            "SELECT c.change FROM CHANGES OF price BETWEEN DATE '2001-01-01' AND CURRENT_TIMESTAMP AS c WHERE c.taxon = 2",
            "=inserted; deleted",
        ),
        (
            "SELECT COUNT(*) FROM CHANGES OF price BETWEEN COMMIT 1 AND COMMIT 4 c JOIN INFORMATION_SCHEMA.COMMITS m \
             ON m.commit_time = c.commit_time AND m.commit_number = c.commit_number",
            "=4",
        ),
        // A column that stays as it was has no values; a key that changes is another row.
        ("ALTER TABLE price ADD COLUMN note VARCHAR(9)", ""),
        ("UPDATE price SET note = 'new'", "1"),
        (
            "SELECT old_cents, new_cents, old_note, new_note FROM CHANGES OF price BETWEEN COMMIT 6 AND COMMIT 6",
            "=NULL|NULL|NULL|new",
        ),
        ("UPDATE price SET taxon = 5", "1"),
        (
            "SELECT change, taxon FROM CHANGES OF price BETWEEN COMMIT 7 AND COMMIT 7 ORDER BY 2",
            "=deleted|1; inserted|5",
        ),
    ]);
    tell(&[
        ("CREATE TABLE keyless (a INTEGER) WITH SYSTEM VERSIONING", ""),
        ("INSERT INTO keyless VALUES (1)", "1"),
        ("UPDATE keyless SET a = 2", "1"),
        (
            "SELECT change, old_a, new_a FROM CHANGES OF keyless BETWEEN COMMIT 3 AND COMMIT 3 ORDER BY 1",
            "=deleted|1|NULL; inserted|NULL|2",
        ),
    ]);
}

#[test]
fn a_session_reads_the_past() {
    let mut session = after_prices(&[
        ("CREATE TABLE plain (a INTEGER)", ""),
        ("INSERT INTO plain VALUES (1)", "1"),
        ("CREATE VIEW seen AS SELECT * FROM price", ""),
        ("SET AS OF = COMMIT 2", ""),
        ("SELECT * FROM price ORDER BY 1", "=1|100; 2|200"),
        ("SELECT * FROM seen ORDER BY 1", "=1|100; 2|200"),
        ("SELECT * FROM price FOR SYSTEM_TIME AS OF COMMIT 4", "=1|110"),
        ("SELECT * FROM plain", "=1"),
        ("UPDATE plain SET a = 2", "!25006 reads the past … SET AS OF = DEFAULT"),
        ("CREATE TABLE more (a INTEGER)", "!25006"),
        ("SET AS OF = COMMIT 99", "!22000"),
    ]);
    let rows = session.query("SELECT COUNT(*) FROM plain", ()).unwrap();
    assert_eq!(rows.notes().iter().map(|note| note.code).collect::<Vec<_>>(), ["no-history"]);
    let prepared = session.prepare("SELECT cents FROM price WHERE taxon = ?").unwrap();
    let look = |session: &mut garden_gate::Session| {
        show(&session.query_prepared(&prepared, Parameters::new().push(1)).unwrap())
    };
    assert_eq!(look(&mut session), "100");
    check(&mut session, ("SET AS OF = DEFAULT", ""));
    assert_eq!((look(&mut session), look(&mut session)), ("110".into(), "110".into()));
    session.read_as_of(Some("COMMIT 2")).unwrap();
    assert_eq!(look(&mut session), "100");
    session.read_as_of(Some("2001-01-01")).unwrap();
    check(&mut session, ("SELECT COUNT(*) FROM price", "=0"));
    session.read_as_of(None).unwrap();
    check(&mut session, ("START TRANSACTION", ""));
    assert!(told(&mut session, "SET AS OF = COMMIT 2").starts_with("!25001"));
    check(&mut session, ("ROLLBACK", ""));
    let options = |moments: &[&str]| {
        let mut options = CompareOptions::default();
        options.as_of = moments.iter().map(|moment| (*moment).to_owned()).collect();
        options
    };
    let query = [SourceText::new("SELECT * FROM price")];
    let found = session.compare_with(&query, Parameters::new(), &options(&["COMMIT 2", "COMMIT 4"])).unwrap();
    let rows: Vec<_> = found.differences.iter().filter_map(|known| Some((known.row.clone()?, known.times?))).collect();
    assert!(!found.same_rows && rows.len() == 3, "{rows:?}");
    assert!(session.compare_with(&query, Parameters::new(), &options(&["COMMIT 2"])).is_err());
    check(&mut session, ("SELECT * FROM price", "=1|110"));
}

const BOOKINGS: &[(&str, &str)] = &[
    (
        "CREATE TABLE stay (bay INTEGER, guest VARCHAR(9), f DATE, t DATE, PERIOD FOR p (f, t), PRIMARY KEY (bay, p WITHOUT OVERLAPS))",
        "",
    ),
    (
        "INSERT INTO stay VALUES (1, 'Ada', DATE '2024-05-01', DATE '2024-05-10'), (1, 'Bo', DATE '2024-05-10', DATE '2024-05-12')",
        "2",
    ),
];

#[test]
fn portions_of_a_period() {
    let all = "SELECT guest, f, t FROM stay ORDER BY f";
    tell(&[BOOKINGS, &[
        (
            "UPDATE stay FOR PORTION OF p FROM DATE '2024-05-03' TO DATE '2024-05-05' SET guest = 'Cy' WHERE bay = 1 RETURNING guest, f, t, OLD.f",
            "=Cy|2024-05-03|2024-05-05|2024-05-01",
        ),
        (all, "=Ada|2024-05-01|2024-05-03; Cy|2024-05-03|2024-05-05; Ada|2024-05-05|2024-05-10; Bo|2024-05-10|2024-05-12"),
        // Two rows are met, one of them whole.
        ("DELETE FROM stay FOR PORTION OF p FROM DATE '2024-05-03' TO DATE '2024-05-06'", "2"),
        (all, "=Ada|2024-05-01|2024-05-03; Ada|2024-05-06|2024-05-10; Bo|2024-05-10|2024-05-12"),
        ("UPDATE stay FOR PORTION OF p FROM DATE '2020-01-01' TO DATE '2030-01-01' SET guest = guest || '!'", "3"),
        ("UPDATE stay FOR PORTION OF p FROM DATE '2020-01-01' TO DATE '2024-05-01' SET guest = ''", "0"),
        (all, "=Ada!|2024-05-01|2024-05-03; Ada!|2024-05-06|2024-05-10; Bo!|2024-05-10|2024-05-12"),
        ("UPDATE stay FOR PORTION OF p FROM DATE '2024-05-05' TO DATE '2024-05-05' SET guest = ''", "!22020 starts at 2024-05-05"),
        ("UPDATE stay FOR PORTION OF p FROM NULL TO DATE '2024-05-05' SET guest = ''", "!22004"),
        ("UPDATE stay FOR PORTION OF p FROM DATE '2024-05-01' TO DATE '2024-05-05' SET t = DATE '2024-05-04'", "!42000 an end of the period"),
        ("UPDATE stay FOR PORTION OF q FROM DATE '2024-05-01' TO DATE '2024-05-05' SET guest = ''", "!42000 no period \"q\" … the periods are p"),
        ("UPDATE stay FOR PORTION OF SYSTEM_TIME FROM DATE '2024-05-01' TO DATE '2024-05-05' SET guest = ''", "!42000 system time"),
        ("UPDATE stay FOR PORTION OF p FROM f TO DATE '2024-05-05' SET guest = ''", "!42000 can't use columns"),
        ("UPDATE stay FOR PORTION OF p FROM 1 TO DATE '2024-05-05' SET guest = ''", "!42000 f"),
    ]].concat());
    // What is split off is numbered and computed anew.
    tell(&[
        (
            "CREATE TABLE n (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, f DATE, t DATE, half INTEGER GENERATED ALWAYS AS (id * 2), \
             PERIOD FOR p (f, t)) WITH SYSTEM VERSIONING",
            "",
        ),
        ("INSERT INTO n (f, t) VALUES (DATE '2024-01-01', DATE '2024-12-31')", "1"),
        ("DELETE FROM n FOR PORTION OF p FROM DATE '2024-03-01' TO DATE '2024-04-01'", "1"),
        ("SELECT * FROM n ORDER BY f", "=2|2024-01-01|2024-03-01|4; 3|2024-04-01|2024-12-31|6"),
        ("INSERT INTO n (f, t) VALUES (DATE '2025-01-01', DATE '2025-12-31') RETURNING id", "=4"),
        ("SELECT id FROM n FOR SYSTEM_TIME AS OF COMMIT 2", "=1"),
    ]);
}

#[test]
fn periods_do_not_overlap() {
    tell(&[BOOKINGS, &[
        (
            "INSERT INTO stay VALUES (1, 'Cy', DATE '2024-05-09', DATE '2024-05-11')",
            "!23000 2024-05-10 to 2024-05-12 already … 2024-05-09 to 2024-05-11 … guest = Bo",
        ),
        ("INSERT INTO stay VALUES (1, 'Cy', DATE '2024-05-19', DATE '2024-05-11')", "!23000 2024-05-19 (f) … 2024-05-11 (t)"),
        ("INSERT INTO stay VALUES (1, 'Cy', DATE '2024-05-19', DATE '2024-05-19')", "!23000 breaks period"),
        ("INSERT INTO stay VALUES (1, 'Cy', NULL, DATE '2024-05-19')", "!23000 can't be NULL"),
        ("INSERT INTO stay VALUES (2, 'Cy', DATE '2024-05-09', DATE '2024-05-11'), (2, 'Di', DATE '2024-05-10', DATE '2024-05-11')", "!23000 overlaps"),
        ("INSERT INTO stay VALUES (2, 'Cy', DATE '2024-05-09', DATE '2024-05-11'), (1, 'Di', DATE '2024-05-12', DATE '2024-05-13')", "2"),
        // Rows of one statement make room for each other.
        ("UPDATE stay SET f = f + INTERVAL '5' DAY, t = t + INTERVAL '5' DAY WHERE bay = 1", "3"),
        ("UPDATE stay SET t = t + INTERVAL '1' DAY WHERE guest = 'Ada'", "!23000 overlaps"),
        ("UPDATE stay SET bay = 1", "!23000 overlaps"),
        ("INSERT INTO stay VALUES (1, 'Ed', DATE '2024-05-01', DATE '2024-05-02') SKIP DUPLICATES", "!0A000 WITHOUT OVERLAPS"),
        ("SELECT constraint_name FROM INFORMATION_SCHEMA.KEY_COLUMN_USAGE WHERE column_name = 'f'", "=stay_primary_key"),
    ]].concat());
    tell(&[
        (
            "CREATE TABLE u (k INTEGER, f TIMESTAMP, t TIMESTAMP, PERIOD FOR p (f, t), UNIQUE (k, p WITHOUT OVERLAPS) DEFERRABLE INITIALLY DEFERRED)",
            "",
        ),
        (
            "INSERT INTO u VALUES (NULL, TIMESTAMP '2024-01-01 00:00', TIMESTAMP '2024-01-02 00:00'), (NULL, TIMESTAMP '2024-01-01 00:00', TIMESTAMP '2024-01-02 00:00')",
            "2",
        ),
        ("START TRANSACTION", ""),
        (
            "INSERT INTO u VALUES (1, TIMESTAMP '2024-01-01 00:00', TIMESTAMP '2024-01-03 00:00'), (1, TIMESTAMP '2024-01-02 00:00', TIMESTAMP '2024-01-04 00:00')",
            "2",
        ),
        ("COMMIT", "!40002 overlaps"),
        ("SELECT COUNT(*) FROM u", "=2"),
        ("ALTER TABLE u ADD CONSTRAINT x CHECK (f < t)", ""),
        ("CREATE TABLE late (k INTEGER, f DATE, t DATE)", ""),
        ("INSERT INTO late VALUES (1, DATE '2024-01-02', DATE '2024-01-01')", "1"),
        ("ALTER TABLE late ADD PERIOD FOR p (f, t)", "!23000 breaks period"),
        ("UPDATE late SET t = DATE '2024-01-05'", "1"),
        ("ALTER TABLE late ADD PERIOD FOR p (f, t)", ""),
        ("INSERT INTO late VALUES (1, DATE '2024-01-04', DATE '2024-01-09')", "1"),
        ("ALTER TABLE late ADD CONSTRAINT apart UNIQUE (k, p WITHOUT OVERLAPS)", "!23000 overlaps"),
        ("DELETE FROM late FOR PORTION OF p FROM DATE '2024-01-04' TO DATE '2024-01-05'", "2"),
        ("ALTER TABLE late ADD CONSTRAINT apart UNIQUE (k, p WITHOUT OVERLAPS)", ""),
        ("ALTER TABLE late ALTER COLUMN f DROP NOT NULL", "!42000 an end of the period"),
        ("ALTER TABLE late ALTER COLUMN t SET DATA TYPE TIMESTAMP", "!42000 an end of the period"),
        ("ALTER TABLE late RENAME COLUMN t TO until", ""),
        ("SELECT COUNT(*) FROM late WHERE p CONTAINS DATE '2024-01-03'", "=1"),
        ("ALTER TABLE late DROP PERIOD FOR p", "!42000 \"apart\""),
        ("ALTER TABLE late DROP PERIOD FOR p CASCADE", ""),
        ("INSERT INTO late SELECT * FROM late", "2"),
    ]);
}

#[test]
fn periods_that_refer_are_covered() {
    tell(&[
        (
            "CREATE TABLE gardener (g INTEGER, f DATE, t DATE, PERIOD FOR hired (f, t), PRIMARY KEY (g, hired WITHOUT OVERLAPS))",
            "",
        ),
        (
            "CREATE TABLE shift (g INTEGER, sf DATE, st DATE, PERIOD FOR s (sf, st), CONSTRAINT known FOREIGN KEY (g, PERIOD s) REFERENCES gardener (g, PERIOD hired))",
            "",
        ),
        (
            "INSERT INTO gardener VALUES (1, DATE '2024-01-01', DATE '2024-02-01'), (1, DATE '2024-02-01', DATE '2024-03-01'), (1, DATE '2024-04-01', DATE '2024-05-01')",
            "3",
        ),
        // Two rows that meet cover it; a gap does not.
        ("INSERT INTO shift VALUES (1, DATE '2024-01-10', DATE '2024-02-20')", "1"),
        ("INSERT INTO shift VALUES (1, DATE '2024-02-10', DATE '2024-04-20')", "!23000 from 2024-03-01 to 2024-04-01"),
        ("INSERT INTO shift VALUES (1, DATE '2023-12-31', DATE '2024-01-02')", "!23000 from 2023-12-31 to 2024-01-01"),
        ("INSERT INTO shift VALUES (2, DATE '2024-02-10', DATE '2024-02-20')", "!23000 from 2024-02-10 to 2024-02-20"),
        ("INSERT INTO shift VALUES (NULL, DATE '2024-02-10', DATE '2024-02-20')", "1"),
        (
            "DELETE FROM gardener FOR PORTION OF hired FROM DATE '2024-02-10' TO DATE '2024-02-12'",
            "!23000 breaks known … 2024-02-10 to 2024-02-12",
        ),
        ("DELETE FROM gardener FOR PORTION OF hired FROM DATE '2024-02-20' TO DATE '2024-02-25'", "1"),
        ("DELETE FROM gardener WHERE f = DATE '2024-01-01'", "!23000 2024-01-10 to 2024-02-01"),
        ("UPDATE gardener SET g = 3 WHERE f = DATE '2024-04-01'", "1"),
        ("UPDATE gardener SET f = DATE '2024-01-11' WHERE f = DATE '2024-01-01'", "!23000 2024-01-10 to 2024-01-11"),
        (
            "CREATE TABLE x (g INTEGER, sf DATE, st DATE, PERIOD FOR s (sf, st), FOREIGN KEY (g, PERIOD s) REFERENCES gardener)",
            "",
        ),
        (
            "CREATE TABLE y (g INTEGER, sf DATE, st DATE, PERIOD FOR s (sf, st), FOREIGN KEY (g, PERIOD s) REFERENCES gardener (g, PERIOD hired) ON DELETE CASCADE)",
            "!0A000 NO ACTION",
        ),
        ("CREATE TABLE y (g INTEGER REFERENCES gardener)", "!42000 no key"),
        ("CREATE TABLE y (g INTEGER, FOREIGN KEY (g) REFERENCES gardener (g, PERIOD hired))", "!42000 on both sides"),
    ]);
}

#[test]
fn periods_lie_to_each_other() {
    // p is 2024-05-01 to 2024-05-10; the other is given by its days in May.
    for (op, holds) in [
        ("OVERLAPS", [true, true, true, false, false, true]),
        ("EQUALS", [true, false, false, false, false, false]),
        ("CONTAINS", [true, true, false, false, false, false]),
        ("PRECEDES", [false, false, false, true, true, false]),
        ("IMMEDIATELY PRECEDES", [false, false, false, true, false, false]),
        ("SUCCEEDS", [false; 6]),
        ("IMMEDIATELY SUCCEEDS", [false; 6]),
    ] {
        let others = [(1, 10), (2, 5), (9, 12), (10, 12), (11, 12), (1, 20)];
        for ((from, to), holds) in others.into_iter().zip(holds) {
            let (p, other) = (
                "PERIOD (DATE '2024-05-01', DATE '2024-05-10')",
                format!("PERIOD (DATE '2024-05-{from:02}', DATE '2024-05-{to:02}')"),
            );
            let expected = if holds { "=TRUE" } else { "=FALSE" };
            tell(&[(&format!("SELECT {p} {op} {other}"), expected)]);
            let mirrored = match op {
                "PRECEDES" => "SUCCEEDS",
                "IMMEDIATELY PRECEDES" => "IMMEDIATELY SUCCEEDS",
                "OVERLAPS" | "EQUALS" => op,
                _ => continue,
            };
            tell(&[(&format!("SELECT {other} {mirrored} {p}"), expected)]);
        }
    }
    tell(
        &[
            BOOKINGS,
            &[
                ("SELECT guest FROM stay WHERE p CONTAINS DATE '2024-05-10'", "=Bo"),
                ("SELECT guest FROM stay WHERE NOT stay.p CONTAINS DATE '2024-05-10'", "=Ada"),
                ("SELECT a.guest, b.guest FROM stay a JOIN stay b ON a.p IMMEDIATELY PRECEDES b.p", "=Ada|Bo"),
                ("SELECT guest FROM stay a WHERE EXISTS (SELECT 1 FROM stay b WHERE b.p SUCCEEDS a.p)", "=Ada"),
                ("SELECT guest FROM stay WHERE p OVERLAPS PERIOD (DATE '2024-05-09', CAST(NULL AS DATE))", "="),
                ("SELECT p FROM stay", "!42000 a period is not a value"),
                (
                    "SELECT guest FROM stay WHERE guest CONTAINS DATE '2024-05-10'",
                    "!42000 CONTAINS needs a period before it",
                ),
                ("SELECT guest FROM stay WHERE p OVERLAPS f", "!42000 OVERLAPS needs a period after it"),
                ("SELECT guest FROM stay WHERE p OVERLAPS PERIOD (DATE '2024-05-02', DATE '2024-05-01')", "!22020"),
                ("SELECT guest FROM stay WHERE PERIOD (1, 2) CONTAINS 1", "!42000 dates or timestamps"),
                // The words are names where no period appears.
                ("SELECT bay AS contains, guest AS precedes FROM stay WHERE f = DATE '2024-05-01'", "=1|Ada"),
            ],
        ]
        .concat(),
    );
}

#[test]
fn a_period_is_found_by_the_index_of_its_key() {
    let mut session = tell(BOOKINGS);
    session
        .run("INSERT INTO stay SELECT 2 + value, 'x', DATE '2024-01-01', DATE '2024-02-01' FROM SERIES(1, 5000)")
        .unwrap();
    session.run("ANALYZE stay").unwrap();
    let sql = "SELECT guest FROM stay WHERE bay = 77 AND p CONTAINS DATE '2024-01-15'";
    let plan = session.plan(sql, ()).unwrap();
    assert!(plan.reads("stay").by_index("stay_primary_key"), "{plan:?}");
    assert_eq!(show(&session.query(sql, ()).unwrap()), "x");
}

/// A current query reads no history, and one of a moment prunes what ended before it.
#[test]
fn history_is_read_only_when_it_is_asked_for() {
    let mut session = Database::in_memory().session();
    session.run("CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER) WITH SYSTEM VERSIONING").unwrap();
    session.run("INSERT INTO t SELECT value, 0 FROM SERIES(1, 1000)").unwrap();
    for _ in 0..20 {
        session.run("UPDATE t SET v = v + 1").unwrap();
    }
    let scanned = |session: &mut garden_gate::Session, sql: &str| {
        let (rows, plan) = session.measure(sql, ()).unwrap();
        let scan = plan.nodes().into_iter().find(|node| node.target.as_deref() == Some("t")).unwrap().actual_rows;
        (show(&rows), scan)
    };
    assert_eq!(scanned(&mut session, "SELECT COUNT(*) FROM t").1, Some(1000));
    // Commit 2 inserted, and commit 3 updated first.
    let (rows, read) = scanned(&mut session, "SELECT COUNT(*), MAX(v) FROM t FOR SYSTEM_TIME AS OF COMMIT 12");
    assert_eq!((rows.as_str(), read), ("1000|10", Some(1000)));
    let plan = session.plan("SELECT v FROM t FOR SYSTEM_TIME AS OF COMMIT 12 WHERE k = 7", ()).unwrap();
    assert!(plan.reads("t").by_index("t_primary_key"), "{plan:?}");
}

/// Loads write history like any change, batch by batch a commit; hidden columns stay out of files.
#[test]
fn loads_and_files_of_versioned_tables() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).display().to_string();
    std::fs::write(path("p.csv"), "k,v\n1,10\n2,20\n3,30\n").unwrap();
    let db = Database::open(path("garden.db")).unwrap();
    let mut session = db.session();
    session.allow_folder(folder.path()).unwrap();
    session.allow_writing(folder.path()).unwrap();
    for (sql, expected) in [
        ("CREATE TABLE t (k INTEGER PRIMARY KEY, v INTEGER) WITH SYSTEM VERSIONING", ""),
        ("INSERT INTO t FROM FILE 'p.csv' (BATCH 2)", "3"),
        ("SELECT commit_number, rows_added FROM INFORMATION_SCHEMA.COMMITS ORDER BY 1", "=1|NULL; 2|2; 3|1"),
        ("INSERT INTO t FROM FILE 'p.csv' REPLACE DUPLICATES", "3"),
        ("SELECT COUNT(*) FROM t FOR SYSTEM_TIME ALL", "=6"),
        ("SELECT COUNT(*) FROM t FOR SYSTEM_TIME AS OF COMMIT 2", "=2"),
        ("CREATE TABLE u FROM FILE 'p.csv' WITH SYSTEM VERSIONING", "3"),
        ("DELETE FROM u", "3"),
        ("SELECT SUM(v) FROM u FOR SYSTEM_TIME AS OF COMMIT 5", "=60"),
        (
            "SELECT COUNT(*) FROM t FOR SYSTEM_TIME ALL WHERE system_start NOT IN (SELECT commit_time FROM INFORMATION_SCHEMA.COMMITS)",
            "=0",
        ),
    ] {
        let sql = sql.replace("'p.csv'", &format!("'{}'", path("p.csv")));
        check(&mut session, (&sql, expected));
    }
    session.run(format!("INSERT INTO FILE '{}' SELECT * FROM t ORDER BY k", path("out.csv"))).unwrap();
    assert_eq!(std::fs::read_to_string(path("out.csv")).unwrap(), "k,v\n1,10\n2,20\n3,30\n");
    assert!(session.verify().iter().all(|table| table.problem.is_none()));
    let insert = session.prepare("INSERT INTO t (k, v) VALUES (?, ?)").unwrap();
    session.execute_prepared(&insert, Parameters::new().push(9).push(90)).unwrap();
    check(
        &mut session,
        ("SELECT v FROM t JOIN INFORMATION_SCHEMA.COMMITS ON commit_time = system_start WHERE k = 9", "=90"),
    );
    drop((insert, session, db));
    let mut session = Database::open(path("garden.db")).unwrap().session();
    check(&mut session, ("SELECT COUNT(*) FROM t FOR SYSTEM_TIME AS OF COMMIT 2", "=2"));
    check(&mut session, ("CREATE SHARED TEMPORARY TABLE s (a INTEGER) WITH SYSTEM VERSIONING", "!42000 temporary"));
}
