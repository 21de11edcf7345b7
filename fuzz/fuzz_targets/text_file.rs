//! Any bytes are a CSV or JSON lines file or an error, never a panic; the first byte says which, and how it is laid out.

#![no_main]

use garden_gate::Database;
use libfuzzer_sys::fuzz_target;

const OPTIONS: [&str; 6] =
    ["", "(NO HEADER)", "(ROW END CRLF)", "(QUOTE '''', DELIMITER ';')", "(SKIP 2)", "(ENCODING 'UTF-16LE')"];

fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let folder = tempfile::tempdir().expect("a folder");
    let ending = if first & 1 == 0 { "csv" } else { "jsonl" };
    let path = folder.path().join(format!("t.{ending}"));
    std::fs::write(&path, rest).expect("a file");
    let mut session = Database::in_memory().session();
    session.allow_folder(folder.path()).expect("the folder");
    let options = OPTIONS[usize::from(first >> 1) % OPTIONS.len()];
    let _ = session.query(&format!("SELECT * FROM FILE '{}' {options}", path.display()), ());
    let _ = session.run("CREATE TABLE t (a INTEGER, b VARCHAR(9), c DATE)");
    let load = options.strip_prefix('(').map_or("(ERROR LIMIT 9)".to_owned(), |rest| format!("(ERROR LIMIT 9, {rest}"));
    let _ = session.run(&format!("INSERT INTO t FROM FILE '{}' {load}", path.display()));
});
