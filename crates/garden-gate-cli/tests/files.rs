//! What the tool writes, and what it never writes over.

use crate::tool::{command, rows, tool, tool_with_input};
use std::fs;
use std::io::Write;
use std::process::Stdio;

fn names(folder: &std::path::Path) -> Vec<String> {
    let mut names: Vec<String> =
        fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[test]
fn files_in_use_are_not_written_over() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    assert_eq!(
        rows(&[
            "run",
            "--db",
            &path("q.db"),
            "-e",
            "CREATE TABLE t (a INTEGER); INSERT INTO t VALUES (1); SELECT a FROM t"
        ]),
        ["1"]
    );
    fs::write(path("beds.csv"), "a\n1\n").unwrap();
    fs::write(path("q.sql"), "SELECT 1").unwrap();
    let query = ["-e", "SELECT 1 AS x"];
    for (arguments, what) in [
        (vec!["run", "--db", "q.db", "--to", "q.db"], "the database file"),
        (vec!["run", "--db", "q.db", "--to", "./q.db"], "the database file"),
        (vec!["run", "--data", "beds.csv", "--to", "beds.csv"], "a file of --data"),
        (vec!["run", "--data", ".", "--to", "beds.csv"], "a file of --data"),
        (vec!["run", "q.sql", "--to", "q.sql"], "a file of SQL"),
        (vec!["plan", "--db", "q.db", "--to", "q.db"], "the database file"),
        (vec!["sweep", "--db", "q.db", "--to", "q.db", "--over", "x=1"], "the database file"),
    ] {
        let query: &[&str] = if arguments[1] == "q.sql" { &[] } else { &query };
        let ran = command(&[&arguments[..], query].concat()).current_dir(folder.path()).output().unwrap();
        let err = String::from_utf8(ran.stderr).unwrap();
        assert_eq!(ran.status.code(), Some(2), "{arguments:?}: {err}");
        assert!(err.contains(what), "{arguments:?}: {err}");
    }
    // Nor by statements.
    for (statement, what) in [
        ("INSERT INTO FILE 'beds.csv' (REPLACE) SELECT 2 AS a", "come from this file"),
        ("INSERT INTO FILE 'q.csv' SELECT 2 AS a; INSERT INTO FILE 'q.csv' SELECT 3 AS a", "already"),
    ] {
        let ran = command(&["run", "--data", "beds.csv", "-e", statement]).current_dir(folder.path()).output().unwrap();
        assert!(String::from_utf8(ran.stderr).unwrap().contains(what), "{statement}");
    }
    assert_eq!(rows(&["run", "--db", &path("q.db"), "-e", "SELECT a FROM t"]), ["1"]);
    assert_eq!(fs::read_to_string(path("beds.csv")).unwrap(), "a\n1\n");
    assert_eq!(names(folder.path()), ["beds.csv", "q.csv", "q.db", "q.sql"], "nothing unfinished is left");
}

#[test]
fn a_file_is_replaced_when_all_is_written() {
    let folder = tempfile::tempdir().unwrap();
    let to = folder.path().join("out.csv").to_str().unwrap().to_owned();
    fs::write(&to, "old").unwrap();
    assert_eq!(tool(&["run", "--to", &to, "-e", "SELECT nothing"]).status, 1);
    assert_eq!(fs::read_to_string(&to).unwrap(), "old");
    assert_eq!(tool(&["run", "--to", &to, "-e", "SELECT 1 AS x"]).status, 0);
    assert_eq!(fs::read_to_string(&to).unwrap(), "x\n1\n");
    let lost = folder.path().join("no/such/out.csv");
    assert_eq!(tool(&["run", "--to", lost.to_str().unwrap(), "-e", "SELECT 1 AS x"]).status, 1);
    assert_eq!(names(folder.path()), ["out.csv"]);
}

#[test]
#[cfg(unix)]
fn a_link_under_the_name_of_old_is_not_followed() {
    let folder = tempfile::tempdir().unwrap();
    let (inside, victim) = (folder.path().join("in"), folder.path().join("victim.txt"));
    fs::create_dir(&inside).unwrap();
    fs::write(&victim, "mine").unwrap();
    std::os::unix::fs::symlink(&victim, inside.join(".out.csv.unfinished")).unwrap();
    std::os::unix::fs::symlink(&victim, inside.join("link.csv")).unwrap();
    let run = |sql: &str| command(&["run", "-e", sql]).current_dir(&inside).output().unwrap();
    assert!(run("INSERT INTO FILE 'out.csv' SELECT 1 AS a").status.success());
    // A link that leads out of the folder is not a file in it, to read or to write.
    assert!(!run("INSERT INTO FILE 'link.csv' (REPLACE) SELECT 1 AS a").status.success());
    assert!(!run("SELECT * FROM FILE 'link.csv'").status.success());
    assert_eq!(fs::read_to_string(&victim).unwrap(), "mine");
    assert_eq!(fs::read_to_string(inside.join("out.csv")).unwrap(), "a\n1\n");
    // A pipe would be waited for without end.
    assert!(std::process::Command::new("mkfifo").arg(inside.join("pipe.csv")).status().unwrap().success());
    let ran = run("SELECT * FROM FILE 'pipe.csv'");
    assert!(String::from_utf8(ran.stderr).unwrap().contains("pipe, a device or a folder"));
}

#[test]
#[cfg(unix)]
fn a_file_that_may_only_be_read_is_read_by_many() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("q.db");
    let db = path.to_str().unwrap();
    assert!(rows(&["run", "--db", db, "-e", "CREATE TABLE t (a INTEGER); INSERT INTO t VALUES (7)"]).is_empty());
    fs::set_permissions(&path, fs::Permissions::from_mode(0o444)).unwrap();
    let before = fs::read(&path).unwrap();
    let mut holding =
        command(&["run", "--db", db, "--read-only", "-"]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let mut input = holding.stdin.take().unwrap();
    input.write_all(b"SELECT a AS first FROM t;\n").unwrap();
    // Standard input is still open: its first statement has been run all the same.
    let mut out = std::io::BufReader::new(holding.stdout.take().unwrap());
    let mut line = String::new();
    assert!(std::io::BufRead::read_line(&mut out, &mut line).unwrap() > 0 && line.starts_with("first"), "{line}");
    assert_eq!(rows(&["run", "--db", db, "--read-only", "-e", "SELECT a FROM t"]), ["7"]);
    assert_eq!(tool(&["verify", "--db", db]).out, "home.t: 1 row, intact\n");
    let refused = tool(&["run", "--db", db, "--read-only", "-e", "INSERT INTO t VALUES (8)"]);
    assert!(refused.err.contains("25006"), "{}", refused.err);
    let writing = tool(&["run", "--db", db, "-e", "SELECT 1"]);
    assert!(writing.err.contains("58030"), "{}", writing.err);
    drop(input);
    assert!(holding.wait().unwrap().success());
    assert_eq!(fs::read(&path).unwrap(), before);
    let missing = tool(&["describe", "--db", folder.path().join("none.db").to_str().unwrap()]);
    assert_eq!((missing.status, names(folder.path())), (1, vec!["q.db".to_owned()]), "{}", missing.err);
}

#[test]
fn a_program_that_is_killed_while_it_makes_a_database_leaves_one_that_opens_or_none() {
    let folder = tempfile::tempdir().unwrap();
    for number in 0..12 {
        let path = folder.path().join(format!("{number}.db"));
        let db = path.to_str().unwrap();
        let mut child = command(&["run", "--db", db, "-e", "CREATE TABLE t (a INTEGER)"]).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(number));
        let _ = child.kill();
        child.wait().unwrap();
        let opened = tool(&["run", "--db", db, "-e", "SELECT 1 AS x"]);
        assert_eq!(opened.status, 0, "killed after {number} ms: {}", opened.err);
    }
}

#[test]
fn statements_of_standard_input_end_with_tokens() {
    let ran = tool_with_input(
        &["shell"],
        "CREATE TABLE fare (a INTEGER);\nINSERT INTO fare VALUES (1), (2);\ndelete from fare -- only the old ones;\nwhere a = 2;\nSELECT COUNT(*) AS left_over FROM fare;\nSTART TRANSACTION;\nDELETE FROM fare;\n",
    );
    assert_eq!(ran.status, 0, "{}", ran.err);
    assert!(ran.out.contains("left_over") && ran.out.contains("        1"), "{}", ran.out);
    assert!(ran.err.contains("the transaction that was still open is undone"), "{}", ran.err);
    let lines = tool_with_input(&["run", "-"], "SELECT 1 AS a;\n\nSELECT nothing;\n");
    assert!(lines.err.contains("3 │ SELECT nothing"), "{}", lines.err);
}

/// A pipe or a device of that name is not replaced by a file.
#[cfg(unix)]
#[test]
fn only_regular_files_are_replaced() {
    use std::os::unix::fs::FileTypeExt;
    let folder = tempfile::tempdir().unwrap();
    let pipe = folder.path().join("pipe.csv");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    for arguments in [
        ["-e", "SELECT 1 AS x", "--to", "pipe.csv"],
        ["-e", "INSERT INTO FILE 'pipe.csv' (REPLACE) SELECT 1 AS x", "--output", "csv"],
        ["-e", "SELECT 1 AS x", "--to", "."],
    ] {
        let ran = command(&[&["run"], &arguments[..]].concat()).current_dir(folder.path()).output().unwrap();
        let err = String::from_utf8(ran.stderr).unwrap();
        assert!(!ran.status.success() && err.contains("regular file"), "{arguments:?}: {err}");
        assert!(pipe.symlink_metadata().unwrap().file_type().is_fifo(), "{arguments:?}");
    }
    assert_eq!(names(folder.path()), ["pipe.csv"]);
}

#[test]
fn formats_are_said_where_names_do_not_tell_them() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let write = |name: &str, text: &str| fs::write(path(name), text).unwrap();
    write("beds.txt", "id;name\n1;Fern\n2;Bog\n");
    write("tabs.dat", "id\tname\n3\tScree\n");
    write("all.json", "[\n {\"id\": 1, \"name\": \"a,\\\"[\"},\n {\"id\": 2,\n  \"name\": null}\n]");
    write("lines.json", "{\"id\": 7}\n");
    write("bad.csv", "a,b\n1\n");
    write("wide.csv", "id;name\n1;Fern\n");
    write(
        "odd.csv",
        "hours,day\n1.5,2026-01-01\nn/a,2026-01-02\n12,2026-02-30\n3,2026-01-03\n,2026-01-04\n,soon\n,2026-01-05\n,2026-01-06\n",
    );
    write("strange.jsonl", "{\"n\": 1}\n{\"n\": \"many\"}\n{\"n\": 2}\n{\"n\": 3}\n");
    write("days.csv", "id,day\n1,2012/01/31\n2,2013/12/01\n");
    for (data, query, wanted) in [
        ("bed=beds.txt(FORMAT CSV, DELIMITER ;)", "SELECT COUNT(*), MAX(name) FROM bed", "2,Fern"),
        ("beds.txt(FORMAT CSV, DELIMITER ';', NO HEADER)", "SELECT COUNT(*) FROM beds", "3"),
        ("t=tabs.dat (FORMAT TSV)", "SELECT name FROM t", "Scree"),
        ("t=tabs.dat(FORMAT CSV, DELIMITER \\t)", "SELECT id FROM t", "3"),
        ("all.json", "SELECT COUNT(*), MAX(name) FROM \"all\"", "2,\"a,\"\"[\""),
        ("lines.json", "SELECT id FROM lines", "7"),
        ("days.csv(DATE FORMAT 'YYYY/MM/DD')", "SELECT EXTRACT(YEAR FROM day) FROM days WHERE id = 2", "2013"),
        (".", "SELECT name FROM FILE 'beds.txt' (FORMAT CSV, DELIMITER ';') WHERE id = 2", "Bog"),
        // A file of a folder that is not a table troubles nobody who does not ask for it.
        (".", "SELECT id FROM lines", "7"),
    ] {
        let ran = command(&["run", "--data", data, "-e", query, "--output", "csv"])
            .current_dir(folder.path())
            .output()
            .unwrap();
        let (out, err) = (String::from_utf8(ran.stdout).unwrap(), String::from_utf8(ran.stderr).unwrap());
        assert_eq!(out.lines().nth(1), Some(wanted), "{data}: {query}\n{err}");
    }
    for (data, query, words) in [
        (".", "SELECT * FROM bad", "1 fields, the header has 2, line 2"),
        ("beds.txt", "SELECT 1", "(FORMAT CSV)"),
        ("bed.csv", "SELECT 1", "there is no such file"),
        ("bads.csv", "SELECT 1", "did you mean bad.csv?"),
        ("t=tabs.dat(FORMAT XLS)", "SELECT 1", "expected CSV, TSV, JSON"),
        ("odd.csv", "SELECT hours FROM odd", "note[text-column]"),
        ("odd.csv", "SELECT MAX(hours) FROM odd", "'n/a' in line 3 is not a number, as the other 3 values are"),
        ("odd.csv", "SELECT MAX(hours) FROM odd", "CAST(NULLIF(hours, 'n/a') AS NUMERIC(3,1)) makes it NULL"),
        ("odd.csv", "SELECT day FROM odd", "'2026-02-30' in line 4 is not a day; nor is one other of 8 values"),
        ("strange.jsonl", "SELECT n FROM strange", "'many' in line 2 is not a number"),
        ("wide.csv", "SELECT * FROM wide", "note[one-column-header]"),
        ("wide.csv", "SELECT * FROM wide", "(DELIMITER ';')"),
        (
            "days.csv",
            "SELECT EXTRACT(YEAR FROM day) FROM days",
            "write EXTRACT(YEAR FROM CAST(day AS DATE FORMAT 'YYYY/MM/DD'))",
        ),
    ] {
        let ran = command(&["run", "--data", data, "-e", query]).current_dir(folder.path()).output().unwrap();
        let err = String::from_utf8(ran.stderr).unwrap();
        assert!(err.contains(words), "{data}: {query}\n{err}");
    }
}

#[test]
fn a_database_file_is_compacted_and_its_damage_named() {
    let folder = tempfile::tempdir().unwrap();
    let db = folder.path().join("q.db");
    let name = db.to_str().unwrap();
    let script = "CREATE TABLE bed (id INTEGER, note VARCHAR(40)); INSERT INTO bed SELECT n, 'note ' || CAST(n * 7919 AS VARCHAR(12)) FROM SERIES(1, 20000) AS s (n); CREATE TABLE other (a INTEGER); INSERT INTO other VALUES (1)";
    let ran = tool(&["run", "--db", name, "-e", script]);
    assert_eq!(ran.status, 0, "{}", ran.err);
    for words in ["table bed created, ", "bed: 20000 rows inserted, ", "other: 1 row inserted, "] {
        assert!(ran.out.contains(words), "{words}: {}", ran.out);
    }
    let ran = tool(&["compact", "--db", name]);
    assert!(ran.status == 0 && ran.out.contains(", before "), "{}{}", ran.out, ran.err);
    assert_eq!(tool(&["compact", "--db", "no/such.db"]).status, 2);
    assert_eq!(tool(&["verify", "--db", name]).status, 0);
    // Somewhere in the texts of the notes a byte changes.
    let mut bytes = fs::read(&db).unwrap();
    let at = bytes.len() / 2;
    let changed = (at..bytes.len()).find(|at| bytes[*at..*at + 64].iter().all(|byte| *byte != 0)).unwrap();
    bytes[changed + 32] ^= 0xFF;
    fs::write(&db, &bytes).unwrap();
    let ran = tool(&["verify", "--db", name]);
    assert!(ran.out.contains("home.other: 1 row, intact"), "{}{}", ran.out, ran.err);
    assert!(
        ran.status == 0 || ran.err.contains("table \"bed\", column ") || ran.err.contains("an index"),
        "{}{}",
        ran.out,
        ran.err
    );
}

#[test]
fn nothing_in_data_or_names_is_obeyed_by_a_terminal() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("evil.csv");
    fs::write(&path, "\"a\u{1b}[31m\",b\nx\u{1b}]0;title\u{7}\u{202e}y,<b>|bold|</b>\n").unwrap();
    let data = format!("evil={}", path.display());
    let query = "SELECT * FROM evil";
    for arguments in [
        &["run", "-e", query][..],
        &["run", "--output", "markdown", "-e", query],
        &["describe", "evil"],
        &["describe"],
        &["plan", "-e", "SELECT * FROM evil WHERE b = 'c\u{1b}[2J'"],
        &[
            "plan",
            "--measure",
            "--considered",
            "--rewrites",
            "-e",
            "SELECT * FROM evil AS \"e\u{9b}31m\" WHERE b = 'c\u{1b}[2J'",
        ],
        &["sweep", "-e", "SELECT * FROM evil WHERE b = :x", "--over", "x=c\u{1b}[2J,d"],
        &["compare", "-e", query, "-e", "SELECT b, b FROM evil"],
        &["steps", "-e", "WITH \"w\u{1b}[1m\" AS (SELECT * FROM evil) SELECT * FROM \"w\u{1b}[1m\""],
        &["run", "-e", "SELECT \"no\u{1b}[31m\u{202e}such\" FROM evil"],
        &["run", "-e", "SELECT * FROM \"no\u{1b}[31m\""],
    ] {
        let ran = tool(&[arguments, &["--data", &data]].concat());
        let all = ran.out + &ran.err;
        let unseen = |c: &char| c.is_control() && !matches!(c, '\n' | '\t') || ('\u{202a}'..='\u{202e}').contains(c);
        assert_eq!(all.chars().find(unseen), None, "{arguments:?}\n{all:?}");
        assert!(!arguments.contains(&"markdown") || all.contains("&lt;b>\\|bold\\|"), "{all}");
    }
}
