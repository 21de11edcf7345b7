//! The commands that ask questions of queries: compare, sweep, steps.

use crate::tool::tool;
use serde_json::Value as Json;

const BEDS: &str =
    "CREATE TABLE plot (id INTEGER PRIMARY KEY, sun VARCHAR(9)); INSERT INTO plot VALUES (1, 'shade'), (2, NULL);";

fn objects(out: &str) -> Vec<Json> {
    out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn compare_tells_by_its_exit_status_too() {
    let all = "SELECT id FROM plot";
    for (queries, options, status, words) in [
        (&[all, all][..], &[][..], 0, &["the rows are the same, the plans are the same", "query 2"][..]),
        (
            &[all, "SELECT id FROM plot WHERE sun <> 'full'"],
            &[],
            1,
            &["the rows differ", "row (2): only query 1 has it"],
        ),
        (&[all, "SELECT id FROM plot ORDER BY id DESC"], &[], 0, &["the rows are the same, the plans differ"]),
        (
            &[all, "SELECT id FROM plot ORDER BY id DESC"],
            &["--ordered"],
            1,
            &["row 1 is (1) in query 1, (2) in query 2"],
        ),
        (&[all, "SELECT id FROM plot ORDER BY id DESC"], &["--same-plan"], 1, &["plan at the top"]),
        (&[all, all, "VALUES (1), (2)"], &["--runs", "1"], 0, &["query 1 and query 3"]),
        (&[all], &[], 2, &["compare takes two queries or more"]),
        (&[all, "SELECT x FROM plot"], &[], 1, &["error[42S22]"]),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let db = folder.path().join("plots.db");
        let db = db.to_str().unwrap();
        assert_eq!(tool(&["run", "--db", db, "-e", BEDS]).status, 0);
        let mut arguments = vec!["compare", "--db", db];
        arguments.extend(queries.iter().flat_map(|query| ["-e", query]));
        arguments.extend(options);
        let ran = tool(&arguments);
        let told = ran.out + &ran.err;
        assert_eq!(ran.status, status, "{queries:?} {options:?}\n{told}");
        assert!(words.iter().all(|words| told.contains(words)), "{queries:?} {options:?}\n{told}");
    }
    let ran = tool(&["compare", "-e", "VALUES (1)", "-e", "VALUES (1), (NULL)", "--output", "json"]);
    let found = &objects(&ran.out)[0];
    assert_eq!(
        (ran.status, &found["kind"], &found["same_rows"], &found["same_plan"]),
        (1, &"comparison".into(), &false.into(), &false.into())
    );
    assert_eq!(found["queries"][1]["rows_count"], 2);
    assert_eq!(found["differences"][0]["row"], Json::Array(vec![Json::Null]));
}

#[test]
fn sweep_shows_each_value() {
    let sql = format!("{BEDS} SELECT id FROM plot WHERE id >= :least");
    let ran = tool(&["sweep", "-e", &sql, "--over", "least=1..3"]);
    assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{}", ran.out);
    let lines: Vec<&str> = ran.out.lines().collect();
    assert!(lines[0].starts_with("plan A"), "{}", ran.out);
    assert!(lines.iter().any(|line| line.split_whitespace().take(2).eq(["least", "plan"])), "{}", ran.out);
    assert!(!ran.out.contains("grouped"));
    let counted = format!("{BEDS} SELECT COUNT(*) FROM plot WHERE id >= :least");
    let ran = tool(&["sweep", "-e", &counted, "--over", "least=1..3"]);
    assert!(ran.out.contains("rows are those that are grouped into one"), "{}", ran.out);
    let ran = tool(&["sweep", "-e", &sql, "--over", ":least=2,3,NULL", "--output", "json"]);
    assert!(ran.status == 1 && ran.out.contains("22018"), "the text NULL is not a valid INTEGER: {}", ran.out);
    let ran =
        tool(&["sweep", "-e", &sql, "--over", "least=SELECT id FROM (VALUES (3), (1)) AS v (id)", "--output", "json"]);
    let found = objects(&ran.out);
    assert_eq!(found.iter().map(|point| point["actual_rows"].as_u64().unwrap()).collect::<Vec<_>>(), [0, 2]);
    assert_eq!((&found[1]["kind"], &found[1]["parameters"]["least"]), (&"sweep".into(), &1.into()));
    assert!(found[0]["plan"].as_str().unwrap().contains("plot"));
    for (over, status, words) in [
        ("least", 2, "--over takes NAME=VALUE"),
        ("least=a..b", 1, "is not a range"),
        ("other=1", 1, "no parameter :other"),
    ] {
        let ran = tool(&["sweep", "-e", &sql, "--over", over]);
        assert!(ran.status == status && ran.err.contains(words), "{over}: {} {}", ran.status, ran.err);
    }
}

#[test]
fn sweeps_and_plans_are_drawn_into_files() {
    let folder = tempfile::tempdir().unwrap();
    let sql = format!("{BEDS} SELECT id FROM plot WHERE id >= :least");
    for (arguments, name, words) in [
        (
            &["sweep", "--over", "least=1..3", "--output", "svg"][..],
            "sweep.svg",
            &["<svg", "class=\"dot\"", "plan A"][..],
        ),
        (&["plan", "--measure", "--param", "least=1", "--output", "svg"], "plan.svg", &["<svg", "off by"]),
        (&["plan", "--param", "least=1", "--output", "dot"], "plan.dot", &["digraph", "plot"]),
        (
            &["plan", "--measure", "--param", "least=1", "--output", "html"],
            "plan.html",
            &["<!DOCTYPE html>", "<h2>Rows</h2>", "SELECT id"],
        ),
    ] {
        let path = folder.path().join(name);
        let mut all = arguments.to_vec();
        all.extend(["-e", &sql, "--to", path.to_str().unwrap()]);
        let ran = tool(&all);
        assert_eq!((ran.status, ran.out.as_str()), (0, ""), "{arguments:?} {}", ran.err);
        let written = std::fs::read_to_string(&path).unwrap();
        assert!(words.iter().all(|word| written.contains(word)), "{words:?} in {written}");
    }
    let ran = tool(&["sweep", "-e", &sql, "--over", "least=1..2", "--fixed-plan"]);
    assert!(ran.status == 0 && ran.out.contains("cost under A"), "{}{}", ran.out, ran.err);
    let ran = tool(&["sweep", "-e", &sql, "--over", "least=1..2", "--fixed-plan", "--output", "json"]);
    let found = objects(&ran.out);
    let (cost, fixed) = (&found[0]["cost"], found[0]["fixed"].as_object().unwrap());
    assert_eq!(fixed[found[0]["shape"].as_str().unwrap()], *cost);
}

#[test]
fn steps_show_a_sample_of_each() {
    let sql = "WITH a AS (SELECT value AS n FROM SERIES(1, 30)) SELECT COUNT(*) AS c FROM a WHERE n > 10";
    let ran = tool(&["steps", "-e", sql, "--sample", "2", "--clauses"]);
    assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{}", ran.out);
    for words in [
        "a  a common table expression: 30 rows",
        "… 28 more",
        "WHERE  kept by WHERE: 20 rows",
        "result  the query: 1 row",
    ] {
        assert!(ran.out.contains(words), "{words}: {}", ran.out);
    }
    let ran = tool(&["steps", "-e", sql, "--only", "a", "--sample", "1", "--output", "json"]);
    let found = objects(&ran.out);
    assert_eq!((found.len(), &found[0]["kind"], &found[0]["part"]), (1, &"step".into(), &"with".into()));
    assert_eq!((&found[0]["rows_count"], found[0]["rows"].as_array().unwrap().len()), (&30.into(), 1));
    let ran = tool(&["steps", "-e", sql, "--only", "b"]);
    assert!(ran.status == 1 && ran.err.contains("no step \"b\""), "{}", ran.err);
}

#[test]
fn check_runs_files_and_folders() {
    let ran = tool(&["check", "demo/checks"]);
    assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{}", ran.out);
    assert!(ran.out.ends_with("8 checks passed, 0 failed\n"), "{}", ran.out);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.check.toml");
    let text = "[[check]]\nname = \"<a>\"\nsql = 'VALUES (1), (NULL)'\nrows = \"\"\"\ncolumn_1\n2\n\"\"\"\n";
    std::fs::write(&path, text).unwrap();
    let (folder_name, xml) = (folder.path().to_str().unwrap(), folder.path().join("out.xml"));
    let ran = tool(&["check", folder_name, "--junit", xml.to_str().unwrap()]);
    assert_eq!(ran.status, 1);
    for words in ["failed  <a>", "−  2", "+  1", "+  ‹null›", "0 checks passed, 1 failed"] {
        assert!(ran.out.contains(words), "{words}: {}", ran.out);
    }
    let xml = std::fs::read_to_string(xml).unwrap();
    assert!(xml.contains("tests=\"1\" failures=\"1\"") && xml.contains("name=\"&lt;a&gt;\""), "{xml}");
    let ran = tool(&["check", path.to_str().unwrap(), "--output", "json"]);
    let found = &objects(&ran.out)[0];
    assert_eq!((&found["passed"], &found["failures"][0]["missing"][0][0]), (&false.into(), &2.into()), "{found}");
    // The difference is shown, then accepted.
    let ran = tool(&["check", folder_name, "--accept"]);
    assert!(ran.status == 1 && ran.out.contains("−  2") && ran.err.contains("accepted <a>"), "{} {}", ran.out, ran.err);
    assert_eq!(tool(&["check", folder_name]).status, 0);
    // Rows that stand in a file of their own are accepted there, and the check file stays as it is.
    let (text, rows) =
        ("[[check]]\nname = 'b'\nsql = 'VALUES (1)'\nrows_file = 'b.csv'\n", folder.path().join("b.csv"));
    std::fs::write(&path, text).unwrap();
    std::fs::write(&rows, "column_1\n2\n").unwrap();
    let ran = tool(&["check", folder_name, "--accept"]);
    assert!(ran.status == 1 && ran.err.contains("accepted b"), "{}", ran.err);
    let read = |path: &std::path::Path| std::fs::read_to_string(path).unwrap();
    assert_eq!((read(&rows).as_str(), read(&path).as_str()), ("column_1\n1\n", text));
    assert_eq!(tool(&["check", folder_name]).status, 0);
    std::fs::write(&path, "[[check]]\nname = 'a'").unwrap();
    let ran = tool(&["check", folder_name]);
    assert!(ran.status == 1 && ran.err.contains("neither sql nor file"), "{}", ran.err);
    std::fs::remove_file(&path).unwrap();
    assert_eq!(tool(&["check", folder_name]).status, 2);
}
