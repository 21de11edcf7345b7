//! The examples run to their end: each asserts what it shows.

use std::path::PathBuf;
use std::process::Command;

/// `cargo test` builds the examples beside the folder of the test binaries.
fn folder() -> PathBuf {
    let test = std::env::current_exe().unwrap();
    test.parent().and_then(|deps| deps.parent()).unwrap().join("examples")
}

#[test]
fn examples_run() {
    for (name, shown) in [
        ("first_query", "did you mean \"name\"?"),
        ("check_a_plan", "b.sun <> 'shade'"),
        ("results_as_arrow", "the wettest: "),
    ] {
        let ran = Command::new(folder().join(name)).output().unwrap();
        let (out, err) = (String::from_utf8(ran.stdout).unwrap(), String::from_utf8(ran.stderr).unwrap());
        assert!(ran.status.success(), "{name}: {err}");
        assert!(out.contains(shown), "{name} does not show {shown:?}:\n{out}");
    }
}
