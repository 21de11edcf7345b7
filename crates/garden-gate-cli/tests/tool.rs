//! Runs the binary.

use std::fmt::Write as _;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

pub(crate) struct Ran {
    pub(crate) out: String,
    pub(crate) err: String,
    pub(crate) status: i32,
}

pub(crate) fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

pub(crate) fn command(arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_garden-gate"));
    command.args(arguments).current_dir(root()).env_remove("NO_COLOR").stdin(Stdio::null());
    command
}

fn ran(output: &Output) -> Ran {
    Ran {
        out: String::from_utf8(output.stdout.clone()).unwrap(),
        err: String::from_utf8(output.stderr.clone()).unwrap(),
        status: output.status.code().unwrap_or(-1),
    }
}

/// What the tool does with these arguments, in the project's folder.
pub(crate) fn tool(arguments: &[&str]) -> Ran {
    ran(&command(arguments).output().unwrap())
}

pub(crate) fn tool_with_input(arguments: &[&str], input: &str) -> Ran {
    let mut child =
        command(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    ran(&child.wait_with_output().unwrap())
}

/// The rows of a CSV result, without its header.
#[track_caller]
pub(crate) fn rows(arguments: &[&str]) -> Vec<String> {
    let ran = tool(&[arguments, &["--output", "csv"]].concat());
    assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{arguments:?}");
    ran.out.lines().skip(1).map(str::to_owned).collect()
}

/// Whether outputs are to be written into the pages that show them.
pub(crate) fn accepts() -> bool {
    std::env::var_os("GARDEN_GATE_ACCEPT").is_some()
}

/// A line without how long something took.
pub(crate) fn without_times(line: &str) -> String {
    let words: Vec<&str> = line.split_whitespace().collect();
    let is_comparison = line.starts_with("query ");
    let mut kept = String::new();
    for (at, word) in words.iter().enumerate() {
        let is_time = words.get(at + 1) == Some(&"ms") || at > 0 && words[at - 1].ends_with('×');
        let number = word.chars().all(|c| c.is_ascii_digit() || ".,".contains(c));
        write!(kept, "{} ", if is_time && number { "…" } else { word }).unwrap();
        if is_comparison && word.ends_with('×') {
            break;
        }
    }
    kept
}

/// Whether two outputs are the same but for how long things took.
pub(crate) fn same_but_times(found: &str, shown: &str) -> bool {
    found.lines().map(without_times).eq(shown.lines().map(without_times))
}
