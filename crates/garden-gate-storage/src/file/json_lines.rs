//! JSON lines: one object a line; its keys are columns, in the order in which they first appear. A key that is omitted is NULL.
//! Numbers keep all their digits; arrays and objects are kept as their JSON text.

use super::column_builder::{ColumnBuilder, Misfit};
use super::csv::{changed, finish};
use super::formats::Formats;
use super::infer::{Inference, TextOrigin};
use super::location::Location;
use super::problem::Problem;
use super::records::Dialect;
use super::text_file::{Chunk, TextFile, side_by_side};
use super::{FileContent, FileTable};
use crate::catalog::{Column, FileOptions, Segment};
use crate::diagnostic::{Error, Result};
use rayon::ThreadPool;
use serde_json::{Map, Value as Json};
use std::borrow::Cow;
use std::collections::HashMap;

pub(super) type Object = Map<String, Json>;

/// A file of JSON lines.
#[derive(Clone, Debug)]
pub(super) struct JsonLines {
    at: Location,
    options: FileOptions,
    pub(super) formats: Formats,
}

/// An object of the text, or what is wrong with its line.
pub(super) struct ObjectLine {
    pub(super) line: u64,
    /// Where it appears in the piece.
    pub(super) from: usize,
    pub(super) to: usize,
    pub(super) object: Result<Object, Problem>,
}

/// The table that a file of objects is, a line each.
pub(super) fn read(at: &Location, options: &FileOptions, threads: Option<&ThreadPool>) -> Result<FileTable> {
    let json = JsonLines::new(at, options)?;
    let (mut typed, mut reasons) = (Vec::new(), Vec::new());
    for (name, inference) in json.columns(threads)? {
        let sql_type =
            inference.finish(&name).map_err(|(problem, line)| Error::from_facts(&problem).in_file(at.path(), line))?;
        reasons.push(inference.text_reason(&name));
        typed.push(Column { name, sql_type });
    }
    let mut file = json.open()?;
    let mut segments = Vec::new();
    loop {
        let pieces = file.next_pieces()?;
        if pieces.is_empty() {
            return Ok(FileTable { columns: typed, content: FileContent::Segments { segments, reasons } });
        }
        let read = side_by_side(threads, pieces, |piece| json.segment(&piece, &typed))?;
        segments.extend(read.into_iter().filter(|segment| segment.rows > 0));
    }
}

/// The text of a value and what it may be; `None` for NULL.
pub(super) fn cell(value: &Json) -> Option<(Cow<'_, str>, TextOrigin)> {
    Some(match value {
        Json::Null => return None,
        Json::Bool(truth) => (if *truth { "true" } else { "false" }.into(), TextOrigin::Plain),
        Json::Number(number) => (number.to_string().into(), TextOrigin::Plain),
        Json::String(text) => (text.as_str().into(), TextOrigin::Text),
        Json::Array(_) | Json::Object(_) => (value.to_string().into(), TextOrigin::Text),
    })
}

impl JsonLines {
    /// A file as rows of objects, of which nothing is read yet.
    pub(super) fn new(at: &Location, options: &FileOptions) -> Result<Self> {
        let formats = Formats::new(options).map_err(|problem| Error::from_facts(&problem).in_file(at.path(), None))?;
        Ok(Self { at: at.clone(), options: options.clone(), formats })
    }

    /// The lines, from the first.
    pub(super) fn open(&self) -> Result<TextFile> {
        TextFile::open(&self.at, Dialect::LINES, &self.options)
    }

    /// Calls `visit` with each line that is not empty.
    pub(super) fn each(&self, piece: &Chunk, mut visit: impl FnMut(ObjectLine) -> Result<()>) -> Result<()> {
        let mut from = 0;
        for (line, content) in (piece.line..).zip(piece.text.split_inclusive('\n')) {
            let to = from + content.len();
            if !content.trim().is_empty() {
                let object = serde_json::from_str(content).map_err(|error| Problem::NotJson(reason(&error)));
                visit(ObjectLine { line, from, to, object })?;
            }
            from = to;
        }
        Ok(())
    }

    /// The keys, in the order in which they first appear, with what their values can be.
    pub(super) fn columns(&self, threads: Option<&ThreadPool>) -> Result<Vec<(String, Inference)>> {
        let mut file = self.open()?;
        let mut columns: Vec<(String, Inference)> = Vec::new();
        let mut places: HashMap<String, usize> = HashMap::new();
        loop {
            let pieces = file.next_pieces()?;
            if pieces.is_empty() {
                break;
            }
            for (name, seen) in side_by_side(threads, pieces, |piece| self.seen(&piece))?.into_iter().flatten() {
                match places.get(&name) {
                    Some(at) => columns[*at].1.merge(seen),
                    None => {
                        places.insert(name.clone(), columns.len());
                        columns.push((name, seen));
                    }
                }
            }
        }
        if columns.is_empty() {
            return Err(Error::from_facts(&Problem::Empty).in_file(self.at.path(), None));
        }
        Ok(columns)
    }

    fn seen(&self, piece: &Chunk) -> Result<Vec<(String, Inference)>> {
        let mut columns: Vec<(String, Inference)> = Vec::new();
        let mut places: HashMap<String, usize> = HashMap::new();
        self.each(piece, |line| {
            for (key, value) in &self.good(line.line, line.object)? {
                let at = places.get(key).copied().unwrap_or_else(|| {
                    places.insert(key.clone(), columns.len());
                    columns.push((key.clone(), Inference::new()));
                    columns.len() - 1
                });
                if let Some((text, origin)) = cell(value) {
                    columns[at].1.observe(&text, origin, (line.line, &self.formats));
                }
            }
            Ok(())
        })?;
        Ok(columns)
    }

    fn good(&self, line: u64, object: Result<Object, Problem>) -> Result<Object> {
        object.map_err(|problem| Error::from_facts(&problem).in_file(self.at.path(), Some(line)))
    }

    fn segment(&self, piece: &Chunk, columns: &[Column]) -> Result<Segment> {
        let mut builders: Vec<ColumnBuilder> =
            columns.iter().map(|column| ColumnBuilder::new(column.sql_type)).collect();
        let mut rows = 0;
        self.each(piece, |line| {
            let object = self.good(line.line, line.object)?;
            for (column, builder) in columns.iter().zip(&mut builders) {
                let value = object.get(&column.name).and_then(cell);
                let pushed = builder.push(value.as_ref().map(|(text, _)| text.as_ref()), &self.formats);
                pushed.map_err(|Misfit| changed(self.at.path(), line.line))?;
            }
            rows += 1;
            Ok(())
        })?;
        Ok(finish(&mut builders, rows))
    }
}

/// What the JSON reader says, without its own line and column, which are those of one line.
fn reason(error: &serde_json::Error) -> String {
    let text = error.to_string();
    text.split(" at line ").next().unwrap_or(&text).to_owned()
}
