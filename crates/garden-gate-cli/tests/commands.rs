//! Every command, its options, and what it does with bad input.

use crate::tool::{accepts, command, root, rows, same_but_times, tool, tool_with_input};
use serde_json::Value as Json;
use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::process::Stdio;
use std::time::Duration;

const DATA: [&str; 2] = ["--data", "demo/data"];

fn with_data<'a>(arguments: &[&'a str]) -> Vec<&'a str> {
    [arguments, &DATA].concat()
}

#[test]
fn run_shows_each_statement() {
    let ran = tool(&with_data(&[
        "run",
        "-e",
        "SELECT COUNT(*) AS beds FROM bed; SET workers = 1; SELECT 'a' AS x",
        "-e",
        "SELECT 2 AS y",
    ]));
    assert_eq!((ran.status, ran.err.as_str()), (0, ""));
    let lines: Vec<&str> = ran.out.lines().collect();
    assert_eq!((lines[0], lines[2], lines[5], lines[10]), ("beds", "  48", "x", "y"), "{}", ran.out);
    let empty = tool(&["run", "-e", "-- nothing"]);
    assert_eq!((empty.status, empty.out.as_str(), empty.err.as_str()), (0, "", ""));
}

#[test]
fn rows_go_to_files_of_other_formats() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let sql = "SELECT bed_id, name, opened FROM bed WHERE bed_id < 3 ORDER BY bed_id";
    for name in ["a.parquet", "a.arrow"] {
        let ran = tool(&with_data(&["run", "-e", sql, "--to", &path(name)]));
        assert_eq!((ran.status, ran.out.as_str(), ran.err.as_str()), (0, "", ""));
        let again = format!("SELECT COUNT(*), MIN(name), MIN(bed_id) FROM FILE '{}'", path(name));
        let allowed = format!("back={}", path(name));
        assert_eq!(rows(&["run", "--data", &allowed, "-e", &again]), ["2,Fern edge,1"]);
    }
    let page = path("a.html");
    tool(&with_data(&["run", "-e", "SELECT 1 AS a, '<b>' AS b; SELECT NULL AS c", "--to", &page]));
    let page = fs::read_to_string(page).unwrap();
    assert!(page.starts_with("<!DOCTYPE html>") && page.matches("<table>").count() == 2, "{page}");
    assert!(page.contains("&lt;b&gt;") && page.contains("<td class=\"null\">NULL</td>"), "{page}");
    for (arguments, status, words) in [
        (vec!["run", "-e", sql, "--to", "rows.abc"], 2, "names no format"),
        (vec!["plan", "-e", sql, "--to", "plan.abc"], 2, "txt, json, dot, svg or html"),
        (vec!["run", "-e", sql, "--output", "parquet"], 2, "--to rows.parquet"),
        (vec!["run", "-e", sql, "--output", "arrow", "--to", "rows.csv"], 2, "--to rows.arrow"),
        (vec!["run", "-e", "SELECT 1; SELECT 2", "--to", &path("two.parquet")], 2, "one query"),
    ] {
        let ran = tool(&with_data(&arguments));
        assert!(ran.status == status && ran.err.contains(words), "{arguments:?}: {}", ran.err);
    }
}

#[test]
fn run_reads_files_and_standard_input() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("q.sql");
    fs::write(&file, "\u{feff}SELECT 1 AS a;\nSELECT :n + 1 AS b;").unwrap();
    let path = file.to_str().unwrap();
    let ran = tool(&["run", path, "--param", "n=41", "--output", "csv"]);
    assert_eq!((ran.status, ran.out.as_str()), (0, "a\n1\n\nb\n42\n"));
    let piped = tool_with_input(&["run", "-", "--output", "csv"], "SELECT 'é' AS a");
    assert_eq!(piped.out, "a\né\n");
    let unnamed = tool_with_input(&["run", "--output", "csv"], "SELECT 5 AS a");
    assert_eq!(unnamed.out, "a\n5\n");
    fs::write(&file, b"SELECT '\xff'").unwrap();
    let ran = tool(&["run", path]);
    assert!(ran.status == 1 && ran.err.contains("not UTF-8 text"), "{}", ran.err);
    let ran = tool(&["run", "no/such.sql"]);
    assert!(ran.status == 1 && ran.err.contains("no/such.sql cannot be read"), "{}", ran.err);
}

#[test]
fn data_becomes_tables() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("old beds.csv");
    fs::write(&file, "a,b\n1,x\n2,\n").unwrap();
    let path = file.to_str().unwrap();
    assert_eq!(rows(&["run", "--data", path, "-e", "SELECT * FROM \"old beds\""]), ["1,x", "2,"]);
    let named = format!("old={path}");
    assert_eq!(rows(&["run", "--data", &named, "-e", "SELECT b FROM old WHERE a = 1"]), ["x"]);
    let schema = format!("archive.old={path}");
    assert_eq!(rows(&["run", "--data", &schema, "-e", "SET SCHEMA 'archive'; SELECT SUM(a) FROM old"]), ["3"]);
    let tables = format!("archive={}", folder.path().display());
    assert_eq!(rows(&["run", "--data", &tables, "-e", "SELECT COUNT(*) FROM archive.\"old beds\""]), ["2"]);
    let from_file = format!("SELECT a FROM FILE '{path}' WHERE b IS NULL");
    assert_eq!(rows(&["run", "--data", path, "-e", &from_file]), ["2"]);
    let elsewhere = tool(&["run", "-e", &from_file]);
    assert!(elsewhere.status == 1 && elsewhere.err.contains("58030"), "{}", elsewhere.err);
    assert_eq!(rows(&["run", "-e", "SELECT COUNT(*) FROM FILE 'demo/data/bed.csv'"]), ["48"]);
}

#[test]
fn parameters_are_typed_by_their_use() {
    let sql = "SELECT COUNT(*) FROM bed WHERE opened > :since AND area_m2 > :area AND sun = :sun";
    let values = ["--param", "since=1900-01-01", "--param", "area=0.5", "--param", "sun=shade"];
    assert_eq!(rows(&with_data(&[&["run", "-e", sql][..], &values].concat())), ["4"]);
    for (param, status, words) in [
        ("n=1", 1, "no parameter :n in the statement"),
        ("since", 2, "--param takes NAME=VALUE"),
        ("=5", 2, "--param takes NAME=VALUE"),
        ("since=soon", 1, "is not a valid DATE"),
    ] {
        let ran = tool(&with_data(&["run", "-e", "SELECT 1 FROM bed WHERE opened > :since", "--param", param]));
        assert_eq!(ran.status, status, "{param}: {}", ran.err);
        assert!(ran.err.contains(words), "{param}: {}", ran.err);
    }
}

#[test]
fn a_failed_statement_ends_the_script_unless_told_to_keep_going() {
    let script = "SELECT 1 AS a; SELECT nothing FROM bed; SELECT 2 AS b";
    let ran = tool(&with_data(&["run", "-e", script, "--output", "csv"]));
    assert_eq!((ran.status, ran.out.as_str()), (1, "a\n1\n"));
    assert!(ran.err.contains("error[42S22]: no column \"nothing\" in bed"), "{}", ran.err);
    let ran = tool(&with_data(&["run", "-e", script, "--output", "csv", "--keep-going"]));
    assert_eq!((ran.status, ran.out.as_str()), (1, "a\n1\n\nb\n2\n"));
}

#[test]
fn json_holds_everything_on_standard_output() {
    let script = "SELECT 7 / 2 AS half; SET workers = 1; SELECT nothing FROM bed; SELECT 1 / 0";
    let ran = tool(&with_data(&["run", "-e", script, "--output", "json", "--keep-going"]));
    assert_eq!((ran.status, ran.err.as_str()), (1, ""));
    let objects: Vec<Json> = ran.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let kinds: Vec<&str> = objects.iter().map(|object| object["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["rows", "done", "error", "error"]);
    assert_eq!(objects[0]["notes"][0]["code"], "integer-division");
    assert_eq!((&objects[2]["sqlstate"], &objects[2]["column"]), (&"42S22".into(), &47.into()));
    assert_eq!(objects[3]["sqlstate"], "22012");
    let unloaded = tool(&["run", "-e", "SELECT 1", "--data", "no/such.csv", "--output", "json"]);
    let object: Json = serde_json::from_str(&unloaded.out).unwrap();
    assert_eq!((unloaded.status, &object["sqlstate"], &object["file"]), (1, &"58030".into(), &"no/such.csv".into()));
}

#[test]
fn output_goes_to_a_file_in_the_format_of_its_ending() {
    let folder = tempfile::tempdir().unwrap();
    for (name, format, expected) in [
        ("o.csv", None, "a,b\n1,\n"),
        ("o.tsv", None, "a\tb\n1\t\n"),
        ("o.md", None, "| a | b |\n| ---: | --- |\n| 1 |  |\n"),
        ("o.jsonl", None, "{\"a\":1,\"b\":null}\n"),
        ("o.csv", Some("jsonl"), "{\"a\":1,\"b\":null}\n"),
        ("o.dat", Some("csv"), "a,b\n1,\n"),
    ] {
        let path = folder.path().join(name);
        let mut arguments = vec!["run", "-e", "SELECT 1 AS a, NULL AS b", "--to", path.to_str().unwrap()];
        arguments.extend(format.iter().flat_map(|format| ["--output", format]));
        let ran = tool(&arguments);
        assert_eq!((ran.status, ran.out.as_str()), (0, ""), "{name}: {}", ran.err);
        assert_eq!(fs::read_to_string(path).unwrap(), expected, "{name}");
    }
    let none = folder.path().join("none.jsonl");
    fs::write(&none, "old").unwrap();
    assert_eq!(
        tool(&["run", "-e", "SELECT 1 AS a FROM FILE 'demo/data/bed.csv' WHERE FALSE", "--to", none.to_str().unwrap()])
            .status,
        0
    );
    assert_eq!(fs::read_to_string(&none).unwrap(), "", "no rows are no lines");
    let kept = folder.path().join("kept.csv");
    fs::write(&kept, "old\n").unwrap();
    let ran = tool(&["run", "-e", "SELECT nothing", "--to", kept.to_str().unwrap()]);
    assert_eq!(
        (ran.status, fs::read_to_string(&kept).unwrap().as_str()),
        (1, "old\n"),
        "a failed statement leaves what was there"
    );
    let ran = tool(&["run", "-e", "SELECT 1", "--to", "no/such/folder/o.csv"]);
    assert!(ran.status == 1 && ran.err.contains("cannot be written"), "{}", ran.err);
}

#[test]
fn wrong_usage_is_status_two() {
    for arguments in [
        &["run", "--bogus"][..],
        &["dance"],
        &[],
        &["run", "-e", "SELECT 1", "--output", "scroll"],
        &["plan", "a.sql", "-e", "SELECT 1"],
        &["run", "-e", "SELECT 1", "--set", "workers"],
        &["demo", "--scale", "0"],
    ] {
        let ran = tool(arguments);
        assert!(
            ran.status == 2 && !ran.err.is_empty() && ran.out.is_empty(),
            "{arguments:?}: {} {}",
            ran.status,
            ran.err
        );
    }
    let ran = tool(&["run", "-e", "SELECT 1", "--set", "worker=2"]);
    assert!(ran.status == 1 && ran.err.contains("did you mean \"workers\"?"), "{}", ran.err);
    for arguments in [&["--help"][..], &["run", "--help"], &["--version"]] {
        assert_eq!(tool(arguments).status, 0, "{arguments:?}");
    }
}

#[test]
fn plan_shows_the_plan_that_measuring_runs() {
    let sql = "SELECT b.name, COUNT(*) FROM task t JOIN bed b USING (bed_id) WHERE b.sun <> :sun GROUP BY b.name";
    let base = with_data(&["plan", "-e", sql]);
    let generic = tool(&base);
    assert!(generic.status == 0 && generic.out.contains("generic"), "{}", generic.out);
    let given = [&base[..], &["--param", "sun=shade"]].concat();
    let (predicted, measured) = (tool(&given), tool(&[&given[..], &["--measure"]].concat()));
    // All but how long planning took.
    let first_line = |text: &str| text.lines().next().unwrap().split(", planned in").next().unwrap().to_owned();
    assert_eq!(first_line(&predicted.out), first_line(&measured.out));
    assert!(
        measured.out.contains("TRUE 35, FALSE 4, UNKNOWN 9") && measured.out.contains("9 rows were neither kept"),
        "{}",
        measured.out
    );
    assert!(!predicted.out.contains("TRUE") && predicted.out.contains("filter: b.sun <> :sun"));
    let full = tool(&[&given[..], &["--considered", "--rewrites"]].concat());
    assert!(full.out.contains("← chosen") && full.out.contains("predicate pushdown"), "{}", full.out);
    let json = tool(&[&given[..], &["--measure", "--output", "json"]].concat());
    let object: Json = serde_json::from_str(&json.out).unwrap();
    assert!(predicted.out.contains(object["fingerprint"].as_str().unwrap()));
    let wrong = tool(&with_data(&["plan", "-e", "SELECT nothing FROM bed", "--output", "json"]));
    let object: Json = serde_json::from_str(&wrong.out).unwrap();
    assert_eq!((wrong.status, &object["sqlstate"]), (1, &"42S22".into()));
    let missing = tool(&[&base[..], &["--measure"]].concat());
    assert!(missing.status == 1 && missing.err.contains("07001"), "{}", missing.err);
}

#[test]
fn the_demo_data_can_be_asked_in_the_shell() {
    let ran = tool_with_input(&["demo", "shell"], "SELECT COUNT(*) AS beds FROM bed;\nplan\n");
    assert_eq!((ran.status, ran.err.as_str()), (0, ""));
    assert!(ran.out.contains("48") && ran.out.contains("table scan bed"), "{}", ran.out);
}

#[test]
fn demo_data_can_be_written_larger() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("garden");
    let ran = tool(&["demo", "--scale", "2", "--to", path.to_str().unwrap()]);
    assert_eq!((ran.status, ran.err.as_str(), ran.out.lines().count()), (0, "", 14));
    let found = rows(&["run", "--data", path.to_str().unwrap(), "-e", "SELECT COUNT(*) FROM task"]);
    assert_eq!(found, ["12000"]);
    assert_eq!(rows(&["run", "--data", path.to_str().unwrap(), "-e", "SELECT COUNT(*) FROM bed"]), ["96"]);
}

#[test]
fn the_shell_runs_statements_and_lives_on_after_errors() {
    let input = "SELECT nothing FROM bed;\nSELECT COUNT(*) AS beds\nFROM bed;\nLET x = 2; SELECT :x + 1 AS y;\nSELECT 5 AS last;\nSELECT 6 AS unfinished";
    let ran = tool_with_input(&with_data(&["shell"]), input);
    assert_eq!(ran.status, 1, "{}", ran.err);
    assert!(ran.err.contains("not run: the statement has no ; at its end"), "{}", ran.err);
    assert!(!ran.out.contains("unfinished"), "{}", ran.out);
    assert!(ran.err.contains("no column \"nothing\" in bed"), "{}", ran.err);
    for part in ["beds", "  48", "y\n", "last"] {
        assert!(ran.out.contains(part), "{part:?} is not in\n{}", ran.out);
    }
}

#[test]
#[cfg(unix)]
fn an_interrupt_ends_the_statement_and_not_the_tool() {
    let script = "SELECT 'ready' AS x;
        SELECT COUNT(*) FROM reading a, reading b, reading c WHERE a.moisture < b.temperature + c.temperature;
        SELECT 'still here' AS x";
    let mut child = command(&with_data(&["run", "-e", script, "--keep-going", "--output", "csv"]))
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // Each statement's rows are out before the next runs: the endless one has begun, or is about to.
    let mut out = BufReader::new(child.stdout.take().unwrap());
    let mut line = String::new();
    while line.trim() != "ready" {
        line.clear();
        assert!(out.read_line(&mut line).unwrap() > 0, "the tool ended early");
    }
    std::thread::sleep(Duration::from_millis(200));
    let sent = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert!(sent.success());
    let mut rest = String::new();
    out.read_to_string(&mut rest).unwrap();
    let ended = child.wait_with_output().unwrap();
    let err = String::from_utf8(ended.stderr).unwrap();
    assert!(err.contains("HY008"), "{err}");
    assert!(rest.contains("still here"), "{rest}");
    assert_eq!(ended.status.code(), Some(1));
}

#[test]
fn documented_commands_run() {
    assert!(run_documented("README.md") >= 3);
    assert!(run_documented("docs/time.md") >= 4);
}

/// Runs the commands that a page shows, and compares what comes, but for times; gives how many there are.
fn run_documented(page: &str) -> usize {
    let path = root().join(page);
    let text = fs::read_to_string(&path).unwrap();
    let mut accepted = String::new();
    let mut tried = 0;
    for (number, part) in text.split("```\n").enumerate() {
        let separator = if number == 0 { "" } else { "```\n" };
        let command = part.strip_prefix("$ garden-gate ").and_then(|rest| rest.split_once('\n'));
        let Some((line, shown)) = command else {
            accepted.extend([separator, part]);
            continue;
        };
        let ran = std::process::Command::new("sh")
            .args(["-c", &format!("\"$TOOL\" {line}")])
            .env("TOOL", env!("CARGO_BIN_EXE_garden-gate"))
            .current_dir(root())
            .output()
            .unwrap();
        let out = String::from_utf8(ran.stdout).unwrap();
        tried += 1;
        // What a script says before its last result need not be shown.
        let found = out.lines().rev().take(shown.lines().count()).collect::<Vec<_>>();
        let found: String = found.into_iter().rev().map(|line| format!("{line}\n")).collect();
        let same = same_but_times(&found, shown);
        assert!(same || accepts(), "{page}: {line}\nshows\n{shown}\nand comes to\n{out}");
        accepted.extend([separator, "$ garden-gate ", line, "\n", if same { shown } else { &out }]);
    }
    if accepts() {
        fs::write(path, accepted).unwrap();
    }
    tried
}

#[test]
fn a_command_reads_the_past() {
    let folder = tempfile::tempdir().unwrap();
    let db = folder.path().join("garden.db");
    let db = db.to_str().unwrap();
    let made = "CREATE TABLE p (k INTEGER PRIMARY KEY, v INTEGER) WITH SYSTEM VERSIONING; INSERT INTO p VALUES (1, 10); UPDATE p SET v = 20";
    assert_eq!(tool(&["run", "--db", db, "-e", made]).status, 0);
    let query = ["run", "--db", db, "-e", "SELECT v FROM p"];
    assert_eq!(rows(&query), ["20"]);
    assert_eq!(rows(&[&query[..], &["--as-of", "COMMIT 2"]].concat()), ["10"]);
    assert_eq!(rows(&[&query[..], &["--as-of", "2001-01-01"]].concat()), Vec::<String>::new());
    let twice = tool(&[&query[..], &["--as-of", "COMMIT 2", "--as-of", "COMMIT 3"]].concat());
    assert_eq!(twice.status, 2, "{}", twice.err);
    let refused = tool(&["run", "--db", db, "--as-of", "COMMIT 2", "-e", "DELETE FROM p"]);
    assert!(refused.status == 1 && refused.err.contains("reads the past"), "{}", refused.err);
    let compared = ["compare", "--db", db, "-e", "SELECT * FROM p", "--as-of", "COMMIT 2", "--as-of", "COMMIT 3"];
    let found = tool(&compared);
    assert!(
        found.status == 1 && found.out.contains("as of COMMIT 2") && found.out.contains("(1, 20)"),
        "{}",
        found.out
    );
    let described = tool(&["describe", "--db", db, "p"]);
    assert!(described.out.contains("stretch 1  1") && described.out.contains("SYSTEM_TIME"), "{}", described.out);
    let json = tool(&["describe", "--db", db, "p", "--output", "json"]);
    assert!(json.out.contains("\"stretches\":[{\"bytes\"") || json.out.contains("\"stretches\":[{"), "{}", json.out);
}
