//! The workspace: its folder, the file that says which tables belong to it, and the names that its texts define.

use super::document::Document;
use super::uri;
use crate::CliError;
use crate::args::Common;
use garden_gate::typing::OutlineItem;
use lsp_types::Location;
use serde::Deserialize;
use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// The file of a workspace, in its folder.
pub(super) const FILE: &str = "garden-gate.toml";
/// Files of SQL that are looked at for a definition.
const MOST_FILES: usize = 2000;
/// Files and folders that are passed on the way.
const MOST_ENTRIES: usize = 20_000;
/// Bytes of one that is looked at.
const MOST_BYTES: u64 = 4_000_000;

/// What the file of a workspace says, in the words of a check file; paths start at its folder.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Spec {
    #[serde(default)]
    data: Vec<String>,
    database: Option<PathBuf>,
    #[serde(default)]
    read_only: bool,
    #[serde(default)]
    settings: BTreeMap<String, Scalar>,
    #[serde(default)]
    params: BTreeMap<String, Scalar>,
}

/// A value as a setting or parameter is typed.
#[derive(Debug, Deserialize)]
#[serde(untagged)]
enum Scalar {
    Truth(bool),
    Whole(i64),
    Fraction(f64),
    Text(String),
}

impl Scalar {
    fn text(&self) -> String {
        match self {
            Self::Truth(truth) => truth.to_string(),
            Self::Whole(number) => number.to_string(),
            Self::Fraction(number) => number.to_string(),
            Self::Text(text) => text.clone(),
        }
    }
}

/// What a text of the workspace defines.
struct Defined {
    changed: Option<SystemTime>,
    document: Option<Document>,
}

/// The folder that an editor has open.
#[derive(Default)]
pub(super) struct Workspace {
    root: Option<PathBuf>,
    /// The texts that are not open, as they were read.
    files: RefCell<HashMap<PathBuf, Defined>>,
}

impl Workspace {
    /// The files below a folder.
    pub(super) fn new(root: Option<PathBuf>) -> Self {
        Self { root, files: RefCell::default() }
    }

    /// The path of its file.
    pub(super) fn file(&self) -> Option<PathBuf> {
        self.root.as_ref().map(|root| root.join(FILE))
    }

    /// What the command line gives, and its file where the command line says nothing; with the folder at which paths start.
    ///
    /// # Errors
    /// When the file is there but cannot be read.
    pub(super) fn common(&self, given: &Common) -> Result<(Common, PathBuf), CliError> {
        let mut common = given.clone();
        let (Some(root), Some(file)) = (&self.root, self.file().filter(|file| file.is_file())) else {
            return Ok((common, PathBuf::new()));
        };
        let text = std::fs::read_to_string(file)?;
        let spec: Spec = toml_edit::de::from_str(&text).map_err(|error| CliError::Usage(format!("{FILE}: {error}")))?;
        let list = |values: &BTreeMap<String, Scalar>| -> Vec<String> {
            values.iter().map(|(name, value)| format!("{name}={}", value.text())).collect()
        };
        let mut start = PathBuf::new();
        if common.data.is_empty() {
            (common.data, start) = (spec.data, root.clone());
        }
        common.db = common.db.or_else(|| spec.database.map(|path| root.join(path)));
        common.read_only |= spec.read_only;
        // What comes last counts.
        common.set.splice(0..0, list(&spec.settings));
        common.param.splice(0..0, list(&spec.params));
        Ok((common, start))
    }

    /// Where a table, view or other object is defined in a text that is not open.
    pub(super) fn definition(&self, name: &str, is_open: impl Fn(&Path) -> bool) -> Option<Location> {
        self.with_files(is_open, |document| defined_in(document, name)).into_iter().next()
    }

    /// The uses of a name in the texts that are not open.
    pub(super) fn uses(&self, name: &str, is_open: impl Fn(&Path) -> bool) -> Vec<Location> {
        let found = self.with_files(is_open, |document| {
            let uses: Vec<Location> =
                document.uses(name, 0..document.text.len()).map(|range| document.location(range)).collect();
            Some(uses)
        });
        found.into_iter().flatten().collect()
    }

    fn with_files<T>(&self, is_open: impl Fn(&Path) -> bool, of: impl Fn(&Document) -> Option<T>) -> Vec<T> {
        let (mut paths, mut left) = (Vec::new(), MOST_ENTRIES);
        if let Some(root) = &self.root {
            add_files(root, &mut paths, &mut left);
        }
        paths.sort();
        let mut files = self.files.borrow_mut();
        files.retain(|path, _| paths.binary_search(path).is_ok());
        let mut found = Vec::new();
        for path in paths.into_iter().filter(|path| !is_open(path)) {
            let changed = path.metadata().and_then(|known| known.modified()).ok();
            let known = files.entry(path.clone()).or_insert(Defined { changed: None, document: None });
            if known.document.is_none() || known.changed != changed {
                *known = Defined { changed, document: read(&path) };
            }
            found.extend(known.document.as_ref().and_then(&of));
        }
        found
    }
}

/// Where a text defines a name.
pub(super) fn defined_in(document: &Document, name: &str) -> Option<Location> {
    let defines =
        |item: &OutlineItem| item.defines.as_ref().filter(|(known, _)| known.eq_ignore_ascii_case(name)).cloned();
    let (_, span) = document.outline().iter().find_map(defines)?;
    Some(document.location(span.range()))
}

fn read(path: &Path) -> Option<Document> {
    let is_small = path.metadata().is_ok_and(|known| known.len() <= MOST_BYTES);
    let text = std::fs::read_to_string(path).ok().filter(|_| is_small)?;
    Some(Document::new(uri::of_path(path)?, text, None))
}

/// The files of SQL in a folder and those in it, but for hidden ones.
fn add_files(folder: &Path, found: &mut Vec<PathBuf>, left: &mut usize) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let (path, is_hidden) = (entry.path(), entry.file_name().to_string_lossy().starts_with('.'));
        let Ok(kind) = entry.file_type() else { continue };
        if found.len() >= MOST_FILES || *left == 0 {
            return;
        }
        *left -= 1;
        if is_hidden || kind.is_symlink() {
            continue;
        }
        if kind.is_dir() {
            add_files(&path, found, left);
        } else if path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("sql")) {
            found.push(path);
        }
    }
}
