//! Layers point one way: a file uses layers below its own only.

use std::fs;
use std::path::{Path, PathBuf};

/// From the top down, as `ARCHITECTURE.md` draws them. A query is read by `syntax` first; the tree it makes is a vocabulary that
/// `bind` and `session` read, so for this purpose it lies below them.
const LAYERS: &[&str] = &[
    "inspect",
    "session",
    "bind",
    "rewrite",
    "choose",
    "estimate",
    "execute",
    "storage",
    "kernel",
    "file",
    "syntax",
    "physical",
    "logical",
    "catalog",
    "types",
    "control",
    "diagnostic",
];

fn rust_files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            rust_files(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            found.push(path);
        }
    }
}

#[test]
fn no_file_uses_a_layer_above_its_own() {
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut files = Vec::new();
    rust_files(&source, &mut files);
    let rank = |layer: &str| LAYERS.iter().position(|known| *known == layer);
    let mut seen = 0;
    for file in files.iter().filter(|file| file.parent() != Some(source.as_path())) {
        let layer = file.strip_prefix(&source).unwrap().iter().next().unwrap().to_str().unwrap().to_owned();
        let own = rank(&layer).unwrap_or_else(|| panic!("{layer} is no known layer"));
        let text = fs::read_to_string(file).unwrap();
        for part in text.split("crate::").skip(1) {
            let used: String = part.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
            let Some(other) = rank(&used) else { continue };
            seen += 1;
            assert!(other >= own, "{} uses {used}, which lies above {layer}", file.display());
        }
    }
    assert!(seen > 200, "only {seen} uses were found: does this test still read the code?");
}
