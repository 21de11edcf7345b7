//! Things together: sequences in transactions and files, views over functions, domains in foreign keys, deferred keys with cascades,
//! changes read by queries. Worked out by hand.

use crate::story::{check, tell, told};
use garden_gate::{Database, Parameters};

#[test]
fn a_garden_of_all_of_them() {
    tell(&[
        ("CREATE SCHEMA shed", ""),
        ("CREATE DOMAIN plot AS INTEGER CONSTRAINT real CHECK (VALUE BETWEEN 1 AND 9)", ""),
        ("CREATE SEQUENCE numbers START WITH 10", ""),
        ("CREATE TABLE bed (id plot PRIMARY KEY, name VARCHAR(9))", ""),
        (
            "CREATE TABLE task (id INTEGER DEFAULT NEXT VALUE FOR numbers PRIMARY KEY, bed plot, hours NUMERIC(4,1) NOT NULL, \
             FOREIGN KEY (bed) REFERENCES bed (id) ON DELETE CASCADE DEFERRABLE)",
            "",
        ),
        (
            "CREATE FUNCTION of_bed (which INTEGER) RETURNS TABLE (id INTEGER, hours NUMERIC(4,1)) \
             RETURN SELECT id, hours FROM task WHERE bed = which",
            "",
        ),
        ("CREATE VIEW long AS SELECT t.id, t.bed, t.hours FROM task AS t WHERE hours > 2 WITH CHECK OPTION", ""),
        ("CREATE VIEW sums AS SELECT b.id, (SELECT SUM(hours) FROM of_bed(b.id) AS f) AS hours FROM bed AS b", ""),
        ("INSERT INTO bed VALUES (1, 'Fern'), (2, 'Scree')", "2"),
        (
            "SELECT id FROM FINAL TABLE (INSERT INTO long (bed, hours) VALUES (1, 3), (1, 2.5), (2, 4)) ORDER BY id",
            "=10; 11; 12",
        ),
        ("INSERT INTO long (bed, hours) VALUES (1, 1)", "!44000"),
        ("INSERT INTO long (bed, hours) VALUES (3, 3)", "!23000 task_bed_reference"),
        ("INSERT INTO long (bed, hours) VALUES (10, 3)", "!23000 real"),
        ("TABLE sums", "=1|5.5; 2|4.0"),
        ("START TRANSACTION", ""),
        ("SET CONSTRAINTS ALL DEFERRED", ""),
        ("INSERT INTO long (bed, hours) VALUES (3, 8) RETURNING id", "=16"),
        ("UPDATE long SET hours = 2", "!44000"),
        ("INSERT INTO bed VALUES (3, 'Bog')", "1"),
        ("SAVEPOINT before", ""),
        ("DELETE FROM bed WHERE id = 1", "1"),
        ("TABLE sums", "=2|4.0; 3|8.0"),
        ("ROLLBACK TO SAVEPOINT before", ""),
        ("COMMIT", ""),
        ("SELECT SUM(o.hours) FROM OLD TABLE (DELETE FROM long WHERE bed = 1) AS o", "=5.5"),
        ("SELECT * FROM of_bed(3)", "=16|8.0"),
        ("ALTER TABLE bed RENAME COLUMN name TO title", ""),
        ("ALTER TABLE task DROP COLUMN hours", "!42000 function \"of_bed\" … view \"long\""),
        ("SET SCHEMA shed", ""),
        ("SELECT NEXT VALUE FOR numbers", "!42000 no sequence"),
        ("SELECT NEXT VALUE FOR home.numbers", "=17"),
        ("SELECT hours FROM home.of_bed(3)", "=8.0"),
        ("SELECT * FROM of_bed(3)", "!42000 no table function"),
        ("CREATE SEQUENCE numbers", ""),
        ("SELECT NEXT VALUE FOR numbers", "=1"),
        ("SET SCHEMA home", ""),
        ("DROP SCHEMA shed", "!42000 holds \"numbers\""),
        ("DROP SCHEMA shed CASCADE", ""),
        ("DROP TABLE task", "!42000 view \"sums\""),
        ("DROP TABLE task CASCADE", ""),
        ("SELECT TABLE_NAME FROM INFORMATION_SCHEMA.TABLES WHERE TABLE_SCHEMA = 'home'", "=bed"),
        ("SELECT COUNT(*) FROM INFORMATION_SCHEMA.ROUTINES", "=0"),
    ]);
}

#[test]
fn two_sessions_share_a_sequence_and_not_their_changes() {
    let db = Database::in_memory();
    let (mut one, mut other) = (db.session(), db.session());
    check(&mut one, ("CREATE SEQUENCE s", ""));
    check(&mut one, ("CREATE TABLE t (n BIGINT DEFAULT NEXT VALUE FOR s, who VARCHAR(5))", ""));
    for session in [&mut one, &mut other] {
        check(session, ("START TRANSACTION", ""));
    }
    check(&mut one, ("INSERT INTO t (who) VALUES ('one') RETURNING n", "=1"));
    check(&mut other, ("SELECT NEXT VALUE FOR s", "=2"));
    check(&mut one, ("INSERT INTO t (who) VALUES ('one') RETURNING n", "=3"));
    check(&mut other, ("ROLLBACK", ""));
    check(&mut one, ("COMMIT", ""));
    check(&mut other, ("SELECT n FROM t ORDER BY n", "=1; 3"));
    // On many threads no number comes twice.
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut session = db.session();
                (0..40).for_each(|_| {
                    check(&mut session, ("INSERT INTO t (who) SELECT 'many' FROM SERIES(1, 3) AS x (i)", "3"))
                });
            });
        }
    });
    check(&mut one, ("SELECT COUNT(*), COUNT(DISTINCT n), MAX(n) FROM t", "=482|482|483"));
}

#[test]
fn a_sequence_in_a_file_never_gives_a_number_twice() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let mut given = Vec::new();
    for round in 0..4 {
        let mut session = Database::open(&path).unwrap().session();
        if round == 0 {
            check(&mut session, ("CREATE SEQUENCE s", ""));
            check(&mut session, ("CREATE TABLE t (n BIGINT)", ""));
        }
        let mut take = |sql: &str| {
            let rows = session.query(sql, ()).unwrap();
            given.extend(rows.rows().map(|row| row.values()[0].to_string()));
        };
        take("SELECT NEXT VALUE FOR s FROM SERIES(1, 3) AS x (i)");
        take("INSERT INTO t VALUES (NEXT VALUE FOR s) RETURNING n");
        check(&mut session, ("START TRANSACTION", ""));
        let mut take = |sql: &str| {
            let rows = session.query(sql, ()).unwrap();
            given.extend(rows.rows().map(|row| row.values()[0].to_string()));
        };
        take("SELECT NEXT VALUE FOR s");
        check(&mut session, ("COMMIT", ""));
        check(&mut session, ("INSERT INTO t VALUES (0)", "1"));
    }
    let mut once = given.clone();
    once.sort_unstable();
    once.dedup();
    assert_eq!(once.len(), given.len(), "{given:?}");
}

#[test]
fn statements_over_changes_are_one_whole() {
    let mut session = tell(&[
        ("CREATE TABLE stock (id INTEGER PRIMARY KEY, amount INTEGER CHECK (amount >= 0))", ""),
        ("CREATE TABLE log (id INTEGER, was INTEGER, is_now INTEGER)", ""),
        ("INSERT INTO stock VALUES (1, 5), (2, 3)", "2"),
        // Both fail as one when either does.
        ("SELECT 1 / (amount - 4) FROM FINAL TABLE (UPDATE stock SET amount = amount - 1)", "!22012"),
        ("SELECT amount FROM FINAL TABLE (UPDATE stock SET amount = amount - 4)", "!23000"),
        ("SELECT SUM(amount) FROM stock", "=8"),
        (
            "SELECT f.id, f.amount, (SELECT COUNT(*) FROM stock AS s WHERE s.amount <= f.amount) \
             FROM FINAL TABLE (UPDATE stock SET amount = amount + 1 WHERE id = 2) AS f",
            "=2|4|1",
        ),
        (
            "WITH big AS (SELECT 4 AS least) SELECT o.id FROM OLD TABLE (DELETE FROM stock WHERE amount > 4) AS o, big WHERE o.amount > least",
            "=1",
        ),
        ("TABLE stock", "=2|4"),
    ]);
    let parameters = Parameters::new().set("id", 9).set("n", 7);
    let sql = "SELECT id + :n FROM FINAL TABLE (INSERT INTO stock VALUES (:id, :n))";
    let rows = session.query(sql, parameters).unwrap();
    assert_eq!(rows.rows().next().unwrap().values()[0].to_string(), "16");
    let plan = session.plan("SELECT * FROM FINAL TABLE (DELETE FROM stock)", ()).unwrap_err();
    assert_eq!(plan.sqlstate().as_str(), "0A000");
    assert_eq!(told(&mut session, "SELECT COUNT(*) FROM stock"), "=2");
}

#[test]
fn plans_of_what_stands_for_something_else() {
    let mut session = tell(&[
        ("CREATE TABLE bed (id INTEGER PRIMARY KEY, sun VARCHAR(9), area INTEGER)", ""),
        (
            "INSERT INTO bed SELECT n, CASE MOD(n, 3) WHEN 0 THEN 'shade' ELSE 'sun' END, MOD(n, 50) FROM SERIES(1, 5000) AS s (n)",
            "5000",
        ),
        ("CREATE VIEW shady AS SELECT id AS n, area FROM bed WHERE sun = 'shade'", ""),
        (
            "CREATE FUNCTION larger (least INTEGER) RETURNS TABLE (n INTEGER) RETURN SELECT n FROM shady WHERE area > least",
            "",
        ),
        ("CREATE SEQUENCE s", ""),
    ]);
    // A change through a view finds its row by the key of the table.
    let plan = session.plan("UPDATE shady SET area = 1 WHERE n = 30", ()).unwrap();
    assert!(plan.reads("bed").by_index("bed_primary_key"), "{:?}", plan.root);
    // A call is its query: the same plan, and nothing of it is left.
    let call = session.plan("SELECT n FROM larger(48)", ()).unwrap();
    let query = session.plan("SELECT id FROM bed WHERE sun = 'shade' AND area > 48", ()).unwrap();
    assert_eq!(call.nodes().len(), query.nodes().len());
    assert_eq!(call.reads("bed").times(), 1);
    // One call for each row of another table is a join, not a loop.
    let plan = session.plan("SELECT b.id, l.n FROM bed AS b, larger(b.area) AS l", ()).unwrap();
    assert!(plan.reads("bed").times() <= 3, "{:?}", plan.root);
    // Asking for a plan takes no number.
    session.plan("SELECT NEXT VALUE FOR s", ()).unwrap();
    check(&mut session, ("SELECT NEXT VALUE FOR s", "=1"));
}

#[test]
fn names_are_looked_up_along_a_path() {
    tell(&[
        ("CREATE SCHEMA shed", ""),
        ("CREATE SCHEMA yard", ""),
        ("CREATE TABLE shed.tool AS SELECT 'shed' AS place", "1"),
        ("CREATE TABLE yard.tool AS SELECT 'yard' AS place", "1"),
        ("CREATE TABLE yard.cart AS SELECT 1 AS n", "1"),
        ("CREATE SEQUENCE shed.s", ""),
        ("CREATE FUNCTION yard.f () RETURNS TABLE (n INTEGER) RETURN SELECT 5", ""),
        ("CREATE VIEW shed.v AS SELECT 'view' AS place", ""),
        ("SELECT * FROM tool", "!42S02 shed.tool"),
        ("SET PATH shed, yard", ""),
        ("SELECT place FROM tool", "=shed"),
        ("SELECT n FROM cart", "=1"),
        ("SELECT place FROM v", "=view"),
        ("SELECT n, NEXT VALUE FOR s FROM f()", "=5|1"),
        ("INSERT INTO cart VALUES (2)", "1"),
        ("SET PATH yard, shed", ""),
        ("SELECT place FROM tool", "=yard"),
        // New things are made in the schema itself, and come first.
        ("CREATE TABLE tool AS SELECT 'home' AS place", "1"),
        ("SELECT place FROM tool", "=home"),
        ("SELECT place FROM yard.tool", "=yard"),
        ("CREATE VIEW cart AS SELECT 'a view' AS n", ""),
        ("SELECT n FROM cart", "=a view"),
        // What the database keeps means what it meant.
        ("CREATE VIEW w AS SELECT t.place FROM tool AS t", ""),
        ("SET SCHEMA shed", ""),
        ("SELECT tool.place, w.place FROM tool, home.w", "=shed|home"),
        ("SET PATH nowhere", "!3F000 no schema \"nowhere\""),
        ("SELECT * FROM nothing", "!42S02"),
    ]);
}
