//! `format` and `completions`: files and standard input in, laid out text and exit status out.

use crate::tool::{tool, tool_with_input};

#[test]
fn sql_is_laid_out_from_input_and_files() {
    let ran = tool_with_input(&["format"], "select  1;\nselec 2;\n");
    assert_eq!((ran.status, ran.out.as_str()), (1, "SELECT 1;\nselec 2;\n"));
    assert!(ran.err.contains("error[42000]"), "{}", ran.err);
    let lower = tool_with_input(&["format", "--keywords", "lower", "--width", "20"], "SELECT a, b FROM t WHERE a = 1");
    assert_eq!((lower.status, lower.out.as_str()), (0, "select a, b\nfrom t\nwhere a = 1\n"));
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("q.sql").display().to_string();
    std::fs::write(&path, "select 1 -- one\n").unwrap();
    let check = tool(&["format", "--check", &path]);
    assert_eq!((check.status, check.out), (1, format!("{path} would change\n")));
    assert_eq!(tool(&["format", "--in-place", &path]).status, 0);
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "SELECT 1 -- one\n");
    assert_eq!(tool(&["format", "--check", &path]).status, 0);
    assert_eq!(tool(&["format", "no such.sql"]).status, 1);
    assert_eq!(tool_with_input(&["format"], "select 'open").status, 1);
    assert_eq!(tool(&["format", "--in-place"]).status, 2);
}

#[test]
fn completions_know_every_command() {
    for interpreter in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let ran = tool(&["completions", interpreter]);
        assert_eq!(ran.status, 0, "{interpreter}");
        for word in ["run", "describe", "format", "--keep-going", "--data"] {
            let found = ran.out.contains(word) || ran.out.contains(word.trim_start_matches('-'));
            assert!(found, "{word} is not in the completions of {interpreter}");
        }
    }
}

/// The example of the page on the command line.
#[test]
fn the_example_of_the_page_is_what_comes() {
    let page = std::fs::read_to_string(crate::tool::root().join("docs/cli.md")).unwrap();
    let example = page.split("$ echo \"").nth(1).and_then(|rest| rest.split("```").next()).unwrap();
    let (sql, shown) = example.split_once("\" | garden-gate format --width 60\n").unwrap();
    assert_eq!(tool_with_input(&["format", "--width", "60"], sql).out, shown);
}
