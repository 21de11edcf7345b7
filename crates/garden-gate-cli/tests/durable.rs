//! Database files: what one run leaves the next one finds, whatever ends it.

use crate::tool::{command, rows, tool, tool_with_input};
use std::io::{BufRead, BufReader, Write};
use std::process::Stdio;

#[test]
fn what_one_run_commits_the_next_one_finds() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("garden.gate");
    let db = file.to_str().unwrap();
    let made = tool_with_input(
        &["run", "--db", db],
        "CREATE TABLE bed (id INTEGER GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name VARCHAR(9) DEFAULT 'new' NOT NULL,
           area NUMERIC(5,2) CHECK (area > 0), tags VARCHAR(9) ARRAY, since TIMESTAMP WITH TIME ZONE);
         CREATE TABLE task (bed INTEGER REFERENCES bed ON DELETE CASCADE, hours INTERVAL DAY TO SECOND);
         INSERT INTO bed (name, area, tags, since) VALUES ('Fern', 2.5, ARRAY['wet', NULL], TIMESTAMP '2024-05-06 07:08:09+02:00');
         INSERT INTO bed (area) VALUES (NULL);
         INSERT INTO task VALUES (1, INTERVAL '1:30' HOUR TO MINUTE), (2, NULL);
         CREATE SCHEMA shed; CREATE VIEW shed.wet AS SELECT name FROM home.bed WHERE area > 1;
         DELETE FROM task WHERE bed = 2;
         START TRANSACTION; DELETE FROM bed;",
    );
    assert_eq!(made.status, 0, "{}", made.err);
    assert!(made.err.contains("transaction-undone"), "{}", made.err);
    let found = |sql: &str| rows(&["run", "--db", db, "-e", sql]);
    assert_eq!(
        found("SELECT * FROM bed ORDER BY id"),
        ["1,Fern,2.50,\"['wet', NULL]\",2024-05-06 05:08:09+00:00", "2,new,,,"]
    );
    assert_eq!(found("SELECT * FROM task"), ["1,0 01:30:00"]);
    assert_eq!(found("SELECT * FROM shed.wet"), ["Fern"]);
    assert_eq!(found("INSERT INTO bed (area) VALUES (1) RETURNING id"), ["3"]);
    for (sql, words) in [
        ("INSERT INTO bed (area) VALUES (0)", "bed_check: CHECK (area > 0) is FALSE"),
        ("INSERT INTO task VALUES (9, NULL)", "bed = 9 is not in table \"bed\""),
        ("INSERT INTO bed (id) OVERRIDING SYSTEM VALUE VALUES (1)", "primary key id = 1 already"),
        ("DROP TABLE bed", "view \"wet\" and foreign key \"task_bed_reference\" of table \"task\" depend"),
    ] {
        let ran = tool(&["run", "--db", db, "-e", sql]);
        assert!(ran.status == 1 && ran.err.contains(words), "{sql}\n{}", ran.err);
    }
    assert_eq!(found("DELETE FROM bed WHERE id = 1 RETURNING name"), ["Fern"]);
    assert_eq!(found("SELECT COUNT(*) FROM task"), ["0"]);
}

#[test]
fn one_process_at_a_time_and_only_a_database() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("garden.gate");
    let db = file.to_str().unwrap();
    let mut holder = command(&["run", "--db", db, "-"]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    // It reads its statements before it opens the file: give it one that lasts.
    let mut input = holder.stdin.take().unwrap();
    let long = "CREATE TABLE t (a BIGINT); SELECT 1; INSERT INTO t SELECT SUM(a.value * b.value) FROM SERIES(1, 6000) a, SERIES(1, 3000) b;";
    input.write_all(long.as_bytes()).unwrap();
    drop(input);
    let mut lines = BufReader::new(holder.stdout.take().unwrap()).lines();
    lines.next().unwrap().unwrap();
    let busy = tool(&["run", "--db", db, "-e", "SELECT 1"]);
    let waited = tool(&["run", "--db", db, "--wait", "60", "--output", "csv", "-e", "SELECT COUNT(*) FROM t"]);
    assert!(holder.wait().unwrap().success());
    assert!(busy.status == 1 && busy.err.contains("another process has the database file open"), "{}", busy.err);
    assert_eq!((waited.status, waited.out.as_str()), (0, "COUNT(*)\n1\n"), "{}", waited.err);

    std::fs::write(&file, "name,id\nFern,1\n").unwrap();
    let ran = tool(&["run", "--db", db, "-e", "SELECT 1"]);
    assert!(ran.status == 1 && ran.err.contains("not a database file"), "{}", ran.err);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), "name,id\nFern,1\n", "it is left as it was");
}

/// A writer is killed at moments of its own choosing: rows that belong together are there together, and none that were told are lost.
#[test]
fn a_killed_writer_loses_nothing_it_told() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("garden.gate");
    let db = file.to_str().unwrap();
    assert_eq!(
        tool(&[
            "run",
            "--db",
            db,
            "-e",
            "CREATE TABLE a (n INTEGER PRIMARY KEY); CREATE TABLE b (n INTEGER REFERENCES a)"
        ])
        .status,
        0
    );
    let mut told = 0_u32;
    for kill in [1_u32, 7, 20] {
        let statements: Vec<String> = (told + 1..told + 400)
            .map(|n| format!("START TRANSACTION; INSERT INTO a VALUES ({n}); INSERT INTO b VALUES ({n}); COMMIT; SELECT {n} AS n;"))
            .collect();
        let path = folder.path().join("statements.sql");
        std::fs::write(&path, statements.concat()).unwrap();
        let mut writer = command(&["run", "--db", db, "--output", "jsonl", path.to_str().unwrap()])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(writer.stdout.take().unwrap()).lines();
        for _ in 0..kill {
            let line = lines.next().unwrap().unwrap();
            told = line.trim_start_matches("{\"n\":").trim_end_matches('}').parse().unwrap();
        }
        writer.kill().unwrap();
        writer.wait().unwrap();
        let found = rows(&[
            "run",
            "--db",
            db,
            "-e",
            "SELECT COUNT(*), MAX(n), (SELECT COUNT(*) FROM b), (SELECT MAX(n) FROM b) FROM a",
        ]);
        let numbers: Vec<u32> = found[0].split(',').map(|number| number.parse().unwrap()).collect();
        assert!(
            numbers[0] >= told && numbers.iter().all(|number| *number == numbers[0]),
            "{told} told, {numbers:?} found"
        );
        told = numbers[0];
    }
}

#[test]
fn describe_tells_what_there_is_and_what_is_in_it() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("garden.gate");
    let db = file.to_str().unwrap();
    let made = "CREATE TABLE bed (id INTEGER PRIMARY KEY, sun VARCHAR(9) DEFAULT 'shade' NOT NULL, area NUMERIC(5,2) CHECK (area > 0));
                INSERT INTO bed VALUES (1, DEFAULT, 2.5), (2, DEFAULT, NULL), (3, 'sun', 4);
                CREATE VIEW shady (what) AS SELECT id FROM bed WHERE sun = 'shade'";
    assert_eq!(tool_with_input(&["run", "--db", db], made).status, 0);
    let all = tool(&["describe", "--db", db]);
    assert_eq!(
        all.out.lines().skip(2).collect::<Vec<_>>(),
        ["home    bed    table  3     3", "home    shady  view         1"],
        "{}",
        all.out
    );
    let bed = tool(&["describe", "bed", "--db", db]).out;
    for words in [
        "table home.bed, 3 rows",
        "id      INTEGER       0      3         1        3        NOT NULL",
        "sun     VARCHAR(9)    0      2         shade    sun      NOT NULL DEFAULT 'shade'",
        "area    NUMERIC(5,2)  1      2         2.50     4.00",
        "bed_primary_key  PRIMARY KEY (id)",
        "bed_check        CHECK (area > 0)",
        "shade   66.7 %  ████████████████████\nsun     33.3 %  ██████████\n",
    ] {
        assert!(bed.contains(words), "{words}\n{bed}");
    }
    assert!(tool(&["describe", "HOME.shady", "--db", db]).out.contains("SELECT id FROM bed WHERE sun = 'shade'"));
    let missing = tool(&["describe", "bad", "--db", db]);
    assert!(missing.status == 1 && missing.err.contains("did you mean \"bed\""), "{}", missing.err);
    let json: serde_json::Value =
        serde_json::from_str(&tool(&["describe", "bed", "--db", db, "--output", "json"]).out).unwrap();
    assert_eq!((&json["kind"], &json["rows"], &json["columns"][2]["nulls"]), (&"table".into(), &3.into(), &1.into()));
    assert_eq!(json["columns"][1]["most_common"][0]["value"], "shade");
    assert_eq!(json["keys"][0]["text"], "PRIMARY KEY (id)");
}
