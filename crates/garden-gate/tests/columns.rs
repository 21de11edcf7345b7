//! Columns with limits besides their type, columns added to tables with rows, MERGE with queries in ON, and constraints that are
//! unproven. What each statement comes to was computed by hand.

use crate::story::{check, tell};
use garden_gate::Database;

#[test]
fn columns_hold_values_to_what_their_type_says() {
    tell(&[
        (
            "CREATE TABLE look (id INTEGER, at TIMESTAMP(1), hour TIME(0) DEFAULT TIME '10:00:00.7', seen TIMESTAMP(3) WITH TIME ZONE, \
             beds INTEGER ARRAY[2], later TIMESTAMP(0) GENERATED ALWAYS AS (at + INTERVAL '0.9' SECOND))",
            "",
        ),
        (
            "INSERT INTO look (id, at, seen, beds) VALUES (1, TIMESTAMP '2026-05-01 08:00:00.19', \
             TIMESTAMP '2026-05-01 08:00:00.123456+00:00', ARRAY[1, 2])",
            "1",
        ),
        // .19 is kept as .1, and with .9 more the next second begins.
        ("SELECT at, hour, later, beds FROM look", "=2026-05-01 08:00:00.1|10:00:00|2026-05-01 08:00:01|[1, 2]"),
        ("SELECT EXTRACT(SECOND FROM seen) FROM look", "=0.123000"),
        ("UPDATE look SET at = TIMESTAMP '1960-01-01 00:00:00.99'", "1"),
        ("SELECT at FROM look", "=1960-01-01 00:00:00.9"),
        ("UPDATE look SET beds = beds || 3", "!42000"),
        ("UPDATE look SET beds = beds || ARRAY[3]", "!2202F 3 elements"),
        ("INSERT INTO look (beds) SELECT ARRAY[1, 2, 3]", "!2202F"),
        (
            "MERGE INTO look USING (VALUES (1), (2)) AS v (n) ON id = n WHEN MATCHED THEN UPDATE SET hour = TIME '11:11:11.9' \
             WHEN NOT MATCHED THEN INSERT (id) VALUES (n)",
            "2",
        ),
        ("SELECT id, hour FROM look ORDER BY id", "=1|11:11:11; 2|10:00:00"),
        ("ALTER TABLE look ALTER COLUMN at SET DATA TYPE TIMESTAMP(0)", ""),
        ("SELECT at FROM look WHERE id = 1", "=1960-01-01 00:00:00"),
        ("ALTER TABLE look ALTER COLUMN beds SET DATA TYPE INTEGER ARRAY[1]", "!2202F"),
        ("CREATE TABLE copy (LIKE look)", ""),
        ("INSERT INTO copy (at) VALUES (TIMESTAMP '2026-05-01 08:00:00.19')", "1"),
        ("SELECT at FROM copy", "=2026-05-01 08:00:00"),
        (
            "SELECT COLUMN_NAME, DATA_TYPE FROM INFORMATION_SCHEMA.COLUMNS WHERE TABLE_NAME = 'look' ORDER BY ORDINAL_POSITION",
            "=id|INTEGER; at|TIMESTAMP(0); hour|TIME(0); seen|TIMESTAMP(3) WITH TIME ZONE; beds|INTEGER ARRAY[2]; later|TIMESTAMP(0)",
        ),
        ("CREATE TABLE bad (a TIME(7))", "!42000 digits from 0 to 6"),
        ("CREATE DOMAIN d AS TIME(3)", "!0A000 outside CAST and columns"),
    ]);
}

#[test]
fn limits_of_columns_come_back_with_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden.db");
    let mut session = Database::open(&path).unwrap().session();
    check(
        &mut session,
        (
            "CREATE TABLE t (a TIMESTAMP(2), b VARCHAR(3) ARRAY[1], CONSTRAINT c CHECK (CARDINALITY(b) > 0) DEFERRABLE)",
            "",
        ),
    );
    drop(session);
    let mut session = Database::open(&path).unwrap().session();
    check(&mut session, ("INSERT INTO t VALUES (TIMESTAMP '2026-01-01 00:00:00.129', ARRAY['a'])", "1"));
    check(&mut session, ("TABLE t", "=2026-01-01 00:00:00.12|['a']"));
    check(&mut session, ("INSERT INTO t (b) VALUES (ARRAY['a', 'b'])", "!2202F"));
    check(&mut session, ("START TRANSACTION", ""));
    check(&mut session, ("SET CONSTRAINTS c DEFERRED", ""));
}

#[test]
fn columns_are_added_to_rows_that_are_there() {
    tell(&[
        ("CREATE TABLE bed (name VARCHAR(9))", ""),
        ("INSERT INTO bed VALUES ('Fern'), ('Scree')", "2"),
        ("ALTER TABLE bed ADD COLUMN id SMALLINT GENERATED ALWAYS AS IDENTITY (START WITH 5 INCREMENT BY 5)", ""),
        (
            "ALTER TABLE bed ADD COLUMN label VARCHAR(20) GENERATED ALWAYS AS (CAST(id AS VARCHAR(5)) || ' ' || name)",
            "",
        ),
        ("INSERT INTO bed (name) VALUES ('Bog')", "1"),
        ("SELECT id, label FROM bed ORDER BY id", "=5|5 Fern; 10|10 Scree; 15|15 Bog"),
        ("ALTER TABLE bed ADD COLUMN n SMALLINT GENERATED ALWAYS AS (30000 * id)", "!22003"),
        ("ALTER TABLE bed ADD COLUMN at TIME(0) DEFAULT TIME '10:00:00.9'", ""),
        ("SELECT DISTINCT at FROM bed", "=10:00:00"),
    ]);
}

#[test]
fn merge_may_ask_a_query_in_on() {
    tell(&[
        ("CREATE TABLE stock (plant VARCHAR(9) PRIMARY KEY, n INTEGER)", ""),
        ("INSERT INTO stock VALUES ('rose', 1), ('fern', 2), ('iris', 3)", "3"),
        ("CREATE TABLE alias (short CHAR(1), plant VARCHAR(9))", ""),
        ("INSERT INTO alias VALUES ('r', 'rose'), ('f', 'fern')", "2"),
        // By the condition r is rose and f is fern; the others are new.
        (
            "MERGE INTO stock USING (VALUES ('r', 10), ('f', 20), ('x', 30)) AS v (short, n) \
             ON stock.plant = (SELECT plant FROM alias WHERE alias.short = v.short) \
             WHEN MATCHED AND v.n > 15 THEN DELETE WHEN MATCHED THEN UPDATE SET n = stock.n + v.n \
             WHEN NOT MATCHED THEN INSERT VALUES (short, v.n)",
            "3",
        ),
        ("SELECT * FROM stock ORDER BY plant", "=iris|3; rose|11; x|30"),
        // Every row of the source that matches none of the aliased plants.
        (
            "MERGE INTO stock USING (VALUES ('iris'), ('rose')) AS v (p) \
             ON stock.plant = p AND EXISTS (SELECT * FROM alias WHERE alias.plant = stock.plant AND stock.n > 5) \
             WHEN MATCHED THEN UPDATE SET n = 0 WHEN NOT MATCHED THEN INSERT VALUES (p || '2', 1)",
            "2",
        ),
        ("SELECT * FROM stock ORDER BY plant", "=iris|3; iris2|1; rose|0; x|30"),
        (
            "MERGE INTO stock USING (VALUES (1), (2)) AS v (p) ON plant IN (SELECT plant FROM alias) WHEN MATCHED THEN DELETE",
            "!21000 more than one row",
        ),
    ]);
}

#[test]
fn a_merge_may_update_and_delete_what_others_refer_to() {
    tell(&[
        ("CREATE TABLE bed (id INTEGER PRIMARY KEY)", ""),
        ("CREATE TABLE task (n INTEGER, bed INTEGER REFERENCES bed ON UPDATE CASCADE ON DELETE SET NULL)", ""),
        ("INSERT INTO bed VALUES (1), (2), (3)", "3"),
        ("INSERT INTO task VALUES (1, 1), (2, 2), (3, 3)", "3"),
        (
            "MERGE INTO bed USING (VALUES (1, 10), (2, 0)) AS v (old, new) ON id = old \
             WHEN MATCHED AND new = 0 THEN DELETE WHEN MATCHED THEN UPDATE SET id = new",
            "2",
        ),
        ("SELECT * FROM task ORDER BY n", "=1|10; 2|NULL; 3|3"),
        ("SELECT * FROM bed ORDER BY id", "=3; 10"),
    ]);
}

#[test]
fn files_are_loaded_through_views_and_leave_constraints_unproven() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("beds.csv"), "label,number\nFern,1\nScree,-2\nBog,x\n").unwrap();
    let mut session = Database::in_memory().session();
    session.allow_folder(folder.path()).unwrap();
    let file = folder.path().join("beds.csv").display().to_string();
    let load = |options: &str| format!("INSERT INTO beds FROM FILE '{file}' ({options})");
    check(
        &mut session,
        (
            "CREATE TABLE bed (id INTEGER, CONSTRAINT positive CHECK (id > 0), name VARCHAR(9), sun VARCHAR(9) DEFAULT 'shade')",
            "",
        ),
    );
    check(&mut session, ("CREATE VIEW beds (number, label) AS SELECT id, name FROM bed", ""));
    check(&mut session, (&load("ERROR LIMIT 1"), "!23000 positive"));
    check(&mut session, (&load("ERROR LIMIT 2"), "1"));
    check(&mut session, ("TABLE bed", "=1|Fern|shade"));
    check(&mut session, (&load("CHECKS OFF, ERROR LIMIT 1"), "2"));
    let text = |session: &garden_gate::Session| session.describe(Some("bed")).unwrap()[0].constraints[0].text.clone();
    assert_eq!(text(&session), "CHECK (id > 0) UNPROVEN");
    // What is unproven appears in the way of no other change; new rows are checked all the same.
    check(&mut session, ("ALTER TABLE bed ADD COLUMN more INTEGER", ""));
    check(&mut session, ("INSERT INTO bed (id) VALUES (-5)", "!23000 positive"));
    let problem = session.verify().remove(0).problem.unwrap();
    assert!(problem.message().contains("breaks positive"), "{problem:?}");
    check(&mut session, ("ALTER TABLE bed CHECK CONSTRAINTS", "!23000 positive … id = -2"));
    check(&mut session, ("DELETE FROM bed WHERE id < 0", "1"));
    check(&mut session, ("ALTER TABLE bed CHECK CONSTRAINTS", ""));
    assert_eq!(text(&session), "CHECK (id > 0)");
}
