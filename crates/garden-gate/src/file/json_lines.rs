//! JSON lines: one object a line; its keys are columns, in the order in which they first appear. A key that is left out is NULL.
//! Numbers keep all their digits; arrays and objects are kept as their JSON text.

use super::column_builder::{ColumnBuilder, Misfit};
use super::csv::{changed, finish};
use super::infer::{Inference, Origin};
use super::problem::Problem;
use super::{Content, FileTable, text};
use crate::catalog::{Column, SEGMENT_ROWS, Segment};
use crate::diagnostic::{Error, Result};
use serde_json::{Map, Value as Json};
use std::borrow::Cow;
use std::path::Path;

type Object = Map<String, Json>;

pub(super) fn read(path: &Path, bytes: &[u8]) -> Result<FileTable> {
    let text = text(path, bytes)?;
    let mut names: Vec<String> = Vec::new();
    let mut columns: Vec<Inference> = Vec::new();
    let mut objects: Vec<(u64, Object)> = Vec::new();
    for (line, content) in (1_u64..).zip(text.lines()).filter(|(_, content)| !content.trim().is_empty()) {
        let parsed: Object = serde_json::from_str(content)
            .map_err(|error| Error::from_facts(&Problem::NotJson(reason(&error))).in_file(path, Some(line)))?;
        for (key, value) in &parsed {
            let at = names.iter().position(|name| name == key).unwrap_or_else(|| {
                names.push(key.clone());
                columns.push(Inference::new());
                names.len() - 1
            });
            if let Some((text, origin)) = cell(value) {
                columns[at].observe(&text, origin, line);
            }
        }
        objects.push((line, parsed));
    }
    if names.is_empty() {
        return Err(Error::from_facts(&Problem::Empty).in_file(path, None));
    }
    let mut typed = Vec::new();
    for (name, inference) in names.into_iter().zip(columns) {
        let sql_type =
            inference.finish(&name).map_err(|(problem, line)| Error::from_facts(&problem).in_file(path, line))?;
        typed.push(Column { name, sql_type });
    }
    let segments = load(path, &typed, &objects)?;
    Ok(FileTable { columns: typed, content: Content::Segments(segments) })
}

/// What the JSON reader says, without its own line and column, which are those of one line.
fn reason(error: &serde_json::Error) -> String {
    let text = error.to_string();
    text.split(" at line ").next().unwrap_or(&text).to_owned()
}

/// The text of a value and what it may be; `None` for NULL.
fn cell(value: &Json) -> Option<(Cow<'_, str>, Origin)> {
    Some(match value {
        Json::Null => return None,
        Json::Bool(truth) => (if *truth { "true" } else { "false" }.into(), Origin::Plain),
        Json::Number(number) => (number.to_string().into(), Origin::Plain),
        Json::String(text) => (text.as_str().into(), Origin::Text),
        Json::Array(_) | Json::Object(_) => (value.to_string().into(), Origin::Text),
    })
}

fn load(path: &Path, columns: &[Column], objects: &[(u64, Object)]) -> Result<Vec<Segment>> {
    let mut builders: Vec<ColumnBuilder> = columns.iter().map(|column| ColumnBuilder::new(column.sql_type)).collect();
    let mut segments = Vec::new();
    let mut rows = 0;
    for (line, object) in objects {
        for (column, builder) in columns.iter().zip(&mut builders) {
            let value = object.get(&column.name).and_then(cell);
            let pushed = builder.push(value.as_ref().map(|(text, _)| text.as_ref()));
            pushed.map_err(|Misfit| changed(path, *line))?;
        }
        rows += 1;
        if rows == SEGMENT_ROWS {
            segments.push(finish(&mut builders, &mut rows));
        }
    }
    if rows > 0 {
        segments.push(finish(&mut builders, &mut rows));
    }
    Ok(segments)
}
