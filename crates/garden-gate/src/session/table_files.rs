//! A file or folder of tables in one text, as command lines and check files have it.

use super::{Database, files::table_name};
use crate::diagnostic::Result;
use std::path::{Path, PathBuf};

/// A file, or a folder of files, that become tables: `[NAME=]PATH[(OPTIONS)]`.
///
/// NAME is that of a table, or of a schema and a table with a dot between; of a folder, of a schema. The options are those in parentheses
/// after FROM FILE. A path that is there, equal signs, parentheses and all, is taken as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableFiles {
    name: Option<String>,
    path: PathBuf,
    options: String,
}

impl TableFiles {
    /// Reads a text. Relative paths start at `folder`.
    pub fn parse(text: &str, folder: &Path) -> Self {
        let is_there = |path: &str| folder.join(path).exists();
        let (named, options) = match text.strip_suffix(')').and_then(|rest| rest.split_once('(')) {
            Some((named, options)) if !is_there(text) => (named.trim_end(), with_quotes(options)),
            _ => (text, String::new()),
        };
        let (name, path) = match named.split_once('=') {
            Some((name, path)) if !name.is_empty() && !is_there(named) => (Some(name.to_owned()), path),
            _ => (None, named),
        };
        Self { name, path: folder.join(path), options }
    }

    /// The file or folder.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The folder, or that of the file.
    pub fn folder(&self) -> &Path {
        if self.path.is_dir() {
            return &self.path;
        }
        self.path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."))
    }
}

impl Database {
    /// Makes a file, or each file of a folder, a table.
    ///
    /// # Errors
    /// As [`Database::add_file_with`] and [`Database::add_folder`].
    pub fn add_table_files(&self, files: &TableFiles) -> Result<()> {
        let name = files.name.as_deref();
        if files.path.is_dir() {
            return self.add_folder(name, &files.path).map(|_| ());
        }
        // A file's name may hold dots, and none of them separates a schema.
        let stem = table_name(&files.path);
        let (schema, table) = match name.map(|name| name.split_once('.').ok_or(name)) {
            Some(Ok((schema, table))) => (Some(schema), table),
            Some(Err(table)) => (None, table),
            None => (None, stem.as_str()),
        };
        self.add_file_with(schema, table, (&files.path, &files.options))
    }
}

/// Options in which single characters may stand without quotes: a command interpreter takes its own off.
fn with_quotes(options: &str) -> String {
    let mut out = String::new();
    let mut rest = options;
    loop {
        let upper = rest.to_ascii_uppercase();
        let words = ["DELIMITER ", "QUOTE ", "DECIMAL MARK "];
        let found = words.iter().filter_map(|word| upper.find(word).map(|at| at + word.len())).min();
        let Some(at) = found else { return out + rest };
        let (before, after) = rest.split_at(at);
        out.push_str(before);
        let blanks = after.len() - after.trim_start_matches(' ').len();
        let after = &after[blanks..];
        if after.starts_with('\'') || after.is_empty() {
            rest = after;
            continue;
        }
        // The character itself may be a comma.
        let length = after.chars().next().map_or(1, char::len_utf8);
        let end = after[length..].find(',').map_or(after.len(), |at| length + at);
        out.push_str(&format!("'{}'", after[..end].trim_end().replace('\'', "''")));
        rest = &after[end..];
    }
}
