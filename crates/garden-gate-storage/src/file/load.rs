//! A text file read into the columns of a table that is there: each text must have the type of its column, and a row that does not
//! is distinguished from the others with its line.

use super::column_builder::{ColumnBuilder, Misfit};
use super::csv::Csv;
use super::json_lines::{JsonLines, cell};
use super::location::Location;
use super::problem::Problem;
use super::text_file::{Chunk, TextFile, side_by_side};
use super::{Format, format_of};
use crate::catalog::{Column, FileOptions};
use crate::diagnostic::{Facts, Result, SqlState};
use crate::types::SqlType;
use arrow::array::{ArrayRef, BooleanArray};
use arrow::compute;
use rayon::ThreadPool;
use std::fmt;

/// Rows of a text file on their way into a table.
pub struct Loader {
    file: TextFile,
    shape: Shape,
}

/// How a row of the file is read.
struct Shape {
    kind: Kind,
    names: Vec<String>,
    types: Vec<SqlType>,
}

enum Kind {
    Csv(Csv),
    JsonLines(JsonLines),
}

/// A run of rows of the file.
#[derive(Debug)]
pub struct Loaded {
    pub columns: Vec<ArrayRef>,
    /// Where each row appears.
    pub places: Vec<Place>,
    pub bad: Vec<BadRow>,
    text: String,
}

/// Where a row appears in the text it was read from.
#[derive(Clone, Copy, Debug)]
pub struct Place {
    pub line: u64,
    from: usize,
    to: usize,
}

/// A row that cannot be loaded.
#[derive(Clone, Debug)]
pub struct BadRow {
    pub line: u64,
    pub column: Option<String>,
    pub state: SqlState,
    pub reason: String,
    /// The row as it appears in the file.
    pub text: String,
}

impl fmt::Debug for Loader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Loader").field("names", &self.shape.names).finish_non_exhaustive()
    }
}

impl Loader {
    /// Opens a text file; `None` when it is none, but has columns with types of its own.
    ///
    /// # Errors
    /// As [`super::open`].
    pub fn open(at: &Location, options: &FileOptions, threads: Option<&ThreadPool>) -> Result<Option<Self>> {
        let (kind, file, names) = match format_of(at.path(), options) {
            Some(Format::Csv { delimiter }) => {
                let csv = Csv::new(at, delimiter, options)?;
                let (file, names) = csv.open()?;
                (Kind::Csv(csv), file, names)
            }
            Some(Format::Json | Format::JsonLines) => {
                let json = JsonLines::new(at, options)?;
                let names = json.columns(threads)?.into_iter().map(|(name, _)| name).collect();
                (Kind::JsonLines(json.clone()), json.open()?, names)
            }
            _ => return Ok(None),
        };
        let types = vec![SqlType::TEXT; names.len()];
        Ok(Some(Self { file, shape: Shape { kind, names, types } }))
    }

    /// Names the columns of a file that does not say what they are.
    pub fn name_columns(&mut self, names: Vec<String>) {
        self.shape.types = vec![SqlType::TEXT; names.len()];
        self.shape.names = names;
    }

    /// Sets the types that the texts must have, one a column; of types that are not read here the texts are given.
    pub fn set_types(&mut self, types: &[SqlType]) {
        let read = |sql_type: &SqlType| if ColumnBuilder::reads(*sql_type) { *sql_type } else { SqlType::TEXT };
        self.shape.types = types.iter().map(read).collect();
    }

    /// The columns of the rows that are read.
    pub fn columns(&self) -> Vec<Column> {
        let pairs = self.shape.names.iter().zip(&self.shape.types);
        pairs.map(|(name, sql_type)| Column::new(name.clone(), *sql_type)).collect()
    }

    /// Bytes of the file, as it is packed, and how many of them have been read.
    pub fn progress(&self) -> (u64, u64) {
        self.file.progress()
    }

    /// The next runs of rows; none at the end of the file.
    ///
    /// # Errors
    /// 58030 when it cannot be read on, 22018 when it is not a text.
    pub fn next_rows(&mut self, threads: Option<&ThreadPool>) -> Result<Vec<Loaded>> {
        let pieces = self.file.next_pieces()?;
        let shape = &self.shape;
        side_by_side(threads, pieces, |piece| shape.load(piece))
    }
}

impl Shape {
    fn load(&self, piece: Chunk) -> Result<Loaded> {
        let mut rows = RowsRead::new(self);
        match &self.kind {
            Kind::Csv(csv) => {
                let mut scratch = String::new();
                csv.each(&piece, self.types.len(), |record| {
                    let place = Place { line: record.line, from: record.from, to: record.to };
                    match record.fields {
                        Err(problem) => rows.refuse(&piece, place, None, &problem),
                        Ok(fields) => {
                            rows.begin(place);
                            for (at, field) in fields.iter().enumerate() {
                                rows.push(at, csv.value(field, &mut scratch), &piece);
                            }
                            rows.end();
                        }
                    }
                    Ok(())
                })?;
            }
            Kind::JsonLines(json) => json.each(&piece, |line| {
                let place = Place { line: line.line, from: line.from, to: line.to };
                match line.object {
                    Err(problem) => rows.refuse(&piece, place, None, &problem),
                    Ok(object) => {
                        rows.begin(place);
                        for (at, name) in self.names.iter().enumerate() {
                            let value = object.get(name).and_then(cell);
                            rows.push(at, value.as_ref().map(|(text, _)| text.as_ref()), &piece);
                        }
                        rows.end();
                    }
                }
                Ok(())
            })?,
        }
        rows.finish(piece)
    }
}

/// Rows that are being read. Builders cannot take a value back, so a bad row stays in them and is omitted at the end.
struct RowsRead<'l> {
    shape: &'l Shape,
    builders: Vec<ColumnBuilder>,
    places: Vec<Place>,
    good: Vec<bool>,
    bad: Vec<BadRow>,
    is_good: bool,
}

impl<'l> RowsRead<'l> {
    fn new(shape: &'l Shape) -> Self {
        let builders = shape.types.iter().map(|sql_type| ColumnBuilder::new(*sql_type)).collect();
        Self { shape, builders, places: Vec::new(), good: Vec::new(), bad: Vec::new(), is_good: true }
    }

    fn begin(&mut self, place: Place) {
        self.places.push(place);
        self.is_good = true;
    }

    fn push(&mut self, at: usize, value: Option<&str>, piece: &Chunk) {
        let formats = match &self.shape.kind {
            Kind::Csv(csv) => &csv.formats,
            Kind::JsonLines(json) => &json.formats,
        };
        let value = value.filter(|_| self.is_good);
        if let Err(Misfit) = self.builders[at].push(value, formats) {
            let text = value.unwrap_or_default().to_owned();
            let problem = Problem::Misfit { text, target: self.shape.types[at] };
            // A builder that refuses a value has added nothing.
            let _ = self.builders[at].push(None, formats);
            self.is_good = false;
            let place = self.places.last().copied();
            self.refuse(piece, place.unwrap_or(Place { line: 0, from: 0, to: 0 }), Some(at), &problem);
        }
    }

    fn end(&mut self) {
        self.good.push(self.is_good);
    }

    fn refuse(&mut self, piece: &Chunk, place: Place, column: Option<usize>, problem: &Problem) {
        let column = column.map(|at| self.shape.names[at].clone());
        let text = row_text(&piece.text, place);
        let (line, state) = (place.line, problem.state());
        self.bad.push(BadRow { line, column, state, reason: problem.to_string(), text });
    }

    fn finish(mut self, piece: Chunk) -> Result<Loaded> {
        let mut columns: Vec<ArrayRef> = self.builders.iter_mut().map(ColumnBuilder::finish).collect();
        if self.good.contains(&false) {
            let mask = BooleanArray::from(self.good.clone());
            columns = columns.iter().map(|column| compute::filter(column, &mask)).collect::<Result<_, _>>()?;
            let mut good = self.good.iter();
            self.places.retain(|_| good.next().copied().unwrap_or(true));
        }
        Ok(Loaded { columns, places: self.places, bad: self.bad, text: piece.text })
    }
}

impl Loaded {
    /// A row as it appears in the file.
    pub fn row_text(&self, row: usize) -> String {
        self.places.get(row).map_or_else(String::new, |place| row_text(&self.text, *place))
    }
}

fn row_text(text: &str, place: Place) -> String {
    text.get(place.from..place.to).unwrap_or_default().trim_end_matches(['\n', '\r']).to_owned()
}
