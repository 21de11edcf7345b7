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
    assert_eq!(tool(&["verify", "--db", db]).out, "home.t: 1 row, whole\n");
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
