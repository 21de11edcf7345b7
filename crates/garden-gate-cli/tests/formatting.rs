//! `format`, `completions`, `manual` and the examples of the help.

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

/// What an interpreter is given for the words of a command line, the last of which is being typed.
fn completed(words: &[&str]) -> Vec<String> {
    let all = [&["--", "garden-gate"], words].concat();
    let mut command = crate::tool::command(&all);
    let ran = command
        .env("GARDEN_GATE_COMPLETE", "bash")
        .env("_CLAP_COMPLETE_INDEX", words.len().to_string())
        .env("_CLAP_IFS", "\n")
        .output()
        .unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    String::from_utf8(ran.stdout).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn completions_know_commands_tables_and_settings() {
    for interpreter in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let ran = tool(&["completions", interpreter]);
        assert!(ran.status == 0 && ran.out.contains("GARDEN_GATE_COMPLETE"), "{interpreter}: {}", ran.out);
    }
    for (words, expected) in [
        (&["des"][..], &["describe"][..]),
        (&["run", "--keep"], &["--keep-going"]),
        (&["describe", "--data", "demo/data", "b"], &["bay_booking", "bed"]),
        (&["describe", "--data=demo/data", "tas"], &["task"]),
        (&["describe", "--data", "nowhere", "b"], &[]),
        (&["run", "--set", "time_l"], &["time_limit="]),
    ] {
        assert_eq!(completed(words), expected, "{words:?}");
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

/// Each command has two examples, and those on the demo data run.
#[test]
fn the_examples_of_the_help_run() {
    let help = tool(&["--help"]).out;
    let (_, commands) = help.split_once("Commands:\n").unwrap();
    let lines = commands.lines().take_while(|line| !line.trim().is_empty());
    let names: Vec<&str> =
        lines.filter_map(|line| line.strip_prefix("  ")?.split(' ').next()).filter(|name| !name.is_empty()).collect();
    assert!(names.len() > 14, "{names:?}");
    for name in names.into_iter().filter(|name| *name != "help") {
        let help = tool(&[name, "--help"]).out;
        let (_, examples) = help.split_once("Examples:\n").unwrap_or_else(|| panic!("{name} has no examples"));
        let examples: Vec<&str> = examples.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
        assert_eq!(examples.len(), 2, "{name}: {examples:?}");
        let runs = |example: &&&str| {
            !["garden.db", " > ", "manual", "language-server"].iter().any(|part| example.contains(part))
        };
        for example in examples.iter().filter(runs) {
            let script = example.replace("garden-gate", "\"$TOOL\"");
            let ran = std::process::Command::new("sh")
                .args(["-c", &script])
                .env("TOOL", env!("CARGO_BIN_EXE_garden-gate"))
                .current_dir(crate::tool::root())
                .stdin(std::process::Stdio::null())
                .output()
                .unwrap();
            assert!(ran.status.success(), "{example}\n{}", String::from_utf8_lossy(&ran.stderr));
        }
    }
}

#[test]
fn the_manual_is_current() {
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(tool(&["manual", "--to", folder.path().to_str().unwrap()]).status, 0);
    let kept = crate::tool::root().join("docs/man");
    let pages: Vec<_> = std::fs::read_dir(folder.path()).unwrap().map(|page| page.unwrap().file_name()).collect();
    assert!(pages.len() > 15, "{pages:?}");
    for page in &pages {
        let text = |folder: &std::path::Path| std::fs::read_to_string(folder.join(page)).unwrap_or_default();
        assert!(text(folder.path()) == text(&kept), "{page:?} is old: scripts/manual writes it anew");
    }
    assert_eq!(std::fs::read_dir(kept).unwrap().count(), pages.len());
}
