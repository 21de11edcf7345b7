//! Constraints that are checked when their transaction ends (clause 10.8). What each statement comes to was computed by hand.

use crate::story::{check, tell};
use garden_gate::Database;

const BED: (&str, &str) = ("CREATE TABLE bed (id INTEGER PRIMARY KEY, place INTEGER UNIQUE DEFERRABLE)", "");
const TASK: (&str, &str) = (
    "CREATE TABLE task (id INTEGER PRIMARY KEY, bed INTEGER, CONSTRAINT of_bed FOREIGN KEY (bed) REFERENCES bed (id) \
     DEFERRABLE INITIALLY DEFERRED)",
    "",
);

#[test]
fn a_deferred_reference_is_checked_at_commit() {
    tell(&[
        BED,
        TASK,
        // A statement alone is a transaction.
        ("INSERT INTO task VALUES (1, 7)", "!23000 of_bed: bed = 7 is not in table \"bed\""),
        ("START TRANSACTION", ""),
        ("INSERT INTO task VALUES (1, 7)", "1"),
        ("INSERT INTO bed VALUES (7, 1)", "1"),
        ("COMMIT", ""),
        ("START TRANSACTION", ""),
        ("DELETE FROM bed", "1"),
        ("SELECT COUNT(*) FROM bed", "=0"),
        ("INSERT INTO bed VALUES (7, 2)", "1"),
        ("COMMIT", ""),
        ("START TRANSACTION", ""),
        ("DELETE FROM bed", "1"),
        ("COMMIT", "!40002 of_bed … the transaction is undone"),
        ("ROLLBACK", "!25000"),
        ("SELECT (SELECT COUNT(*) FROM bed), (SELECT COUNT(*) FROM task)", "=1|1"),
    ]);
}

#[test]
fn a_check_may_be_broken_for_a_while() {
    tell(&[
        (
            "CREATE TABLE plot (id INTEGER, size INTEGER, CONSTRAINT positive CHECK (size > 0) DEFERRABLE INITIALLY DEFERRED)",
            "",
        ),
        ("INSERT INTO plot VALUES (1, -1)", "!23000 positive"),
        ("START TRANSACTION", ""),
        ("INSERT INTO plot VALUES (1, -1)", "1"),
        ("SET CONSTRAINTS positive IMMEDIATE", "!23000 positive … size = -1"),
        ("UPDATE plot SET size = 1", "1"),
        ("SET CONSTRAINTS positive IMMEDIATE", ""),
        ("UPDATE plot SET size = -2", "!23000"),
        ("COMMIT", ""),
        ("START TRANSACTION", ""),
        ("UPDATE plot SET size = NULL", "1"),
        ("INSERT INTO plot VALUES (2, 0)", "1"),
        ("COMMIT", "!40002 positive"),
        ("TABLE plot", "=1|1"),
    ]);
}

#[test]
fn a_key_may_be_broken_for_a_while() {
    tell(&[
        BED,
        ("INSERT INTO bed VALUES (1, 1), (2, 2)", "2"),
        ("START TRANSACTION", ""),
        ("UPDATE bed SET place = 2 WHERE id = 1", "!23000 unique key place = 2"),
        ("SET CONSTRAINTS bed_place_unique DEFERRED", ""),
        ("UPDATE bed SET place = 2 WHERE id = 1", "1"),
        // While it is broken, no plan may lean on it.
        ("SELECT COUNT(*), COUNT(DISTINCT place) FROM bed WHERE place = 2", "=2|1"),
        ("SELECT DISTINCT place FROM bed", "=2"),
        ("SET CONSTRAINTS ALL IMMEDIATE", "!23000 unique key place = 2"),
        ("UPDATE bed SET place = 1 WHERE id = 2", "1"),
        ("SET CONSTRAINTS ALL IMMEDIATE", ""),
        ("UPDATE bed SET place = 2 WHERE id = 2", "!23000"),
        ("COMMIT", ""),
        ("SELECT place FROM bed ORDER BY id", "=2; 1"),
        ("START TRANSACTION", ""),
        ("SET CONSTRAINTS ALL DEFERRED", ""),
        ("UPDATE bed SET place = 5", "2"),
        ("COMMIT", "!40002 unique key place = 5"),
        ("SELECT place FROM bed ORDER BY id", "=2; 1"),
    ]);
}

#[test]
fn what_cannot_be_deferred_says_so() {
    tell(&[
        BED,
        TASK,
        ("SET CONSTRAINTS ALL DEFERRED", "!25000 no transaction"),
        ("START TRANSACTION", ""),
        ("SET CONSTRAINTS bed_primary_key DEFERRED", "!42000 \"bed_primary_key\" is not DEFERRABLE"),
        ("SET CONSTRAINTS nothing DEFERRED", "!42000 no constraint \"nothing\""),
        ("SET CONSTRAINTS of_bed IMMEDIATE", ""),
        ("INSERT INTO task VALUES (1, 9)", "!23000 of_bed"),
        ("SET CONSTRAINTS of_bed NEVER", "!42000 expected DEFERRED or IMMEDIATE"),
        ("ROLLBACK", ""),
        ("CREATE TABLE x (a INTEGER REFERENCES bed (place))", "!42000 is DEFERRABLE: rows can't refer to it"),
        ("CREATE TABLE x (a INTEGER UNIQUE NOT DEFERRABLE INITIALLY DEFERRED)", "!42000"),
        ("CREATE TABLE x (a INTEGER UNIQUE NOT DEFERRABLE INITIALLY IMMEDIATE)", ""),
        // RESTRICT never waits.
        ("CREATE TABLE y (bed INTEGER REFERENCES bed (id) ON DELETE RESTRICT INITIALLY DEFERRED)", ""),
        ("INSERT INTO bed VALUES (1, 1)", "1"),
        ("INSERT INTO y VALUES (1)", "1"),
        ("START TRANSACTION", ""),
        ("DELETE FROM bed", "!23001"),
        ("ROLLBACK", ""),
    ]);
}

#[test]
fn a_reference_ties_transactions_together() {
    let db = Database::in_memory();
    let (mut one, mut other) = (db.session(), db.session());
    for sql in ["CREATE TABLE bed (id INTEGER PRIMARY KEY)", "CREATE TABLE task (bed INTEGER REFERENCES bed (id))"] {
        check(&mut one, (sql, ""));
    }
    check(&mut one, ("INSERT INTO bed VALUES (1), (2)", "2"));
    // The row that a new one refers to goes before the commit.
    check(&mut one, ("START TRANSACTION", ""));
    check(&mut one, ("INSERT INTO task VALUES (1)", "1"));
    check(&mut other, ("DELETE FROM bed WHERE id = 1", "1"));
    check(&mut one, ("COMMIT", "!40001 table \"bed\""));
    // A row comes that refers to one that goes.
    check(&mut one, ("START TRANSACTION", ""));
    check(&mut one, ("DELETE FROM bed WHERE id = 2", "1"));
    check(&mut other, ("INSERT INTO task VALUES (2)", "1"));
    check(&mut one, ("COMMIT", "!40001"));
    check(&mut one, ("SELECT bed.id, task.bed FROM bed FULL JOIN task ON bed.id = task.bed", "=2|2"));
}

#[test]
fn views_of_two_transactions_stay_both() {
    let db = Database::in_memory();
    let (mut one, mut other) = (db.session(), db.session());
    check(&mut one, ("START TRANSACTION", ""));
    check(&mut one, ("CREATE VIEW mine AS SELECT 1 AS n", ""));
    check(&mut other, ("CREATE VIEW yours AS SELECT 2 AS n", ""));
    check(&mut one, ("COMMIT", ""));
    check(&mut one, ("SELECT mine.n, yours.n FROM mine, yours", "=1|2"));
    check(&mut one, ("START TRANSACTION", ""));
    check(&mut one, ("CREATE OR REPLACE VIEW yours AS SELECT 3 AS n", ""));
    check(&mut other, ("DROP VIEW yours", ""));
    check(&mut one, ("COMMIT", "!40001 \"yours\""));
    check(&mut one, ("CREATE SEQUENCE s", ""));
    check(&mut one, ("START TRANSACTION", ""));
    check(&mut one, ("SELECT NEXT VALUE FOR s", "=1"));
    check(&mut other, ("SELECT NEXT VALUE FOR s", "=2"));
    check(&mut one, ("COMMIT", ""));
}
