//! CSV: the entire file is looked at for the types of its columns, then read into them; a sample is never trusted.

use super::column_builder::{ColumnBuilder, Misfit};
use super::formats::Formats;
use super::infer::{Inference, TextOrigin};
use super::location::Location;
use super::problem::Problem;
use super::records::{Dialect, Field, Quoting, Records};
use super::text_file::{Chunk, TextFile, side_by_side};
use super::{FileContent, FileTable};
use crate::catalog::{Column, FileOptions, Segment, TextReason};
use crate::diagnostic::{Error, Result, SqlState};
use rayon::ThreadPool;
use std::collections::HashSet;
use std::path::Path;

/// A CSV file and how it is laid out.
#[derive(Clone, Debug)]
pub(super) struct Csv {
    at: Location,
    dialect: Dialect,
    options: FileOptions,
    pub(super) formats: Formats,
}

/// A record of the text, or what is wrong with it.
pub(super) struct Record<'r, 't> {
    pub(super) line: u64,
    /// Where it appears in the piece.
    pub(super) from: usize,
    pub(super) to: usize,
    pub(super) fields: Result<&'r [Field<'t>], Problem>,
}

/// The table that a file of delimited text is: all of it is read, first to know the types, then for the values.
pub(super) fn read(
    at: &Location,
    delimiter: u8,
    options: &FileOptions,
    threads: Option<&ThreadPool>,
) -> Result<FileTable> {
    let csv = Csv::new(at, delimiter, options)?;
    let (columns, reasons) = csv.infer(threads)?.into_iter().unzip::<_, _, Vec<Column>, Vec<_>>();
    let (mut file, _) = csv.open()?;
    let mut segments = Vec::new();
    loop {
        let pieces = file.next_pieces()?;
        if pieces.is_empty() {
            return Ok(FileTable { columns, content: FileContent::Segments { segments, reasons } });
        }
        let read = side_by_side(threads, pieces, |piece| csv.segment(&piece, &columns))?;
        segments.extend(read.into_iter().filter(|segment| segment.rows > 0));
    }
}

impl Csv {
    /// A file as rows of text, of which nothing is read yet.
    pub(super) fn new(at: &Location, delimiter: u8, options: &FileOptions) -> Result<Self> {
        let formats = Formats::new(options).map_err(|problem| Error::from_facts(&problem).in_file(at.path(), None))?;
        let dialect = Dialect::new(delimiter, options);
        Ok(Self { at: at.clone(), dialect, options: options.clone(), formats })
    }

    /// The file after its header, and the names of its columns: those given, those in the header, or numbers.
    pub(super) fn open(&self) -> Result<(TextFile, Vec<String>)> {
        let mut file = TextFile::open(&self.at, self.dialect, &self.options)?;
        let names = file.take_header(|text| {
            let mut records = Records::new(text, self.dialect, 1);
            let mut fields = Vec::new();
            if records.next_record(&mut fields)?.is_none() {
                return Ok(None);
            }
            let (bytes, line) = if self.options.no_header { (0, 1) } else { records.place() };
            Ok(Some((self.names(&fields)?, bytes, line - 1)))
        })?;
        let Some(names) = names else {
            // A file without a header and without rows has the columns that are named, or none that are known.
            if self.options.no_header {
                return Ok((file, self.options.columns.clone().unwrap_or_default()));
            }
            return Err(Error::from_facts(&Problem::Empty).in_file(self.at.path(), None));
        };
        Ok((file, names))
    }

    fn names(&self, fields: &[Field<'_>]) -> Result<Vec<String>, (Problem, u64)> {
        if let Some(names) = &self.options.columns {
            let (found, expected) = (fields.len(), names.len());
            let fits = found == expected;
            return if fits { Ok(names.clone()) } else { Err((Problem::Ragged { found, expected }, 1)) };
        }
        let mut scratch = String::new();
        let mut names: Vec<String> = Vec::with_capacity(fields.len());
        let mut seen: HashSet<String> = HashSet::with_capacity(fields.len());
        for (position, field) in fields.iter().enumerate() {
            let text = field.text(&mut scratch).trim();
            let is_numbered = self.options.no_header || text.is_empty();
            let name = if is_numbered { format!("column_{}", position + 1) } else { text.into() };
            if !seen.insert(name.clone()) {
                return Err((Problem::DuplicateColumn(name), 1));
            }
            names.push(name);
        }
        Ok(names)
    }

    /// Calls `visit` with each record of a piece; lines without anything are skipped where there are several columns.
    pub(super) fn each<'t>(
        &self,
        piece: &'t Chunk,
        width: usize,
        mut visit: impl FnMut(Record<'_, 't>) -> Result<()>,
    ) -> Result<()> {
        let mut records = Records::new(&piece.text, self.dialect, piece.line);
        let mut fields = Vec::with_capacity(width);
        loop {
            let from = records.place().0;
            let record = match records.next_record(&mut fields) {
                Ok(None) => return Ok(()),
                Ok(Some(line)) => {
                    if width > 1 && matches!(fields.as_slice(), [one] if one.is_null()) {
                        continue;
                    }
                    let ragged = Problem::Ragged { found: fields.len(), expected: width };
                    let fields = if fields.len() == width { Ok(fields.as_slice()) } else { Err(ragged) };
                    Record { line, from, to: records.place().0, fields }
                }
                Err((problem, line)) => {
                    records.skip_line();
                    Record { line, from, to: records.place().0, fields: Err(problem) }
                }
            };
            visit(record)?;
        }
    }

    /// As [`Csv::each`], where a record that cannot be read ends it.
    fn each_good<'t>(
        &self,
        piece: &'t Chunk,
        width: usize,
        mut visit: impl FnMut(&[Field<'t>], u64) -> Result<()>,
    ) -> Result<()> {
        self.each(piece, width, |record| match record.fields {
            Ok(fields) => visit(fields, record.line),
            Err(problem) => Err(Error::from_facts(&problem).in_file(self.at.path(), Some(record.line))),
        })
    }

    /// The text of a field; `None` for NULL.
    pub(super) fn value<'s, 't>(&self, field: &Field<'t>, scratch: &'s mut String) -> Option<&'s str>
    where
        't: 's,
    {
        if field.is_null() {
            return None;
        }
        let text = field.text(scratch);
        let null = field.quoting == Quoting::Bare && self.options.null_text.as_deref() == Some(text);
        if null { None } else { Some(text) }
    }

    /// The columns with the types that hold all their values, and why such a type is text.
    fn infer(&self, threads: Option<&ThreadPool>) -> Result<Vec<(Column, Option<TextReason>)>> {
        let (mut file, names) = self.open()?;
        if names.is_empty() {
            return Err(Error::from_facts(&Problem::Empty).in_file(self.at.path(), None));
        }
        let mut columns = vec![Inference::new(); names.len()];
        loop {
            let pieces = file.next_pieces()?;
            if pieces.is_empty() {
                break;
            }
            for seen in side_by_side(threads, pieces, |piece| self.seen(&piece, names.len()))? {
                columns.iter_mut().zip(seen).for_each(|(column, later)| column.merge(later));
            }
        }
        let finish = |(name, inference): (String, Inference)| match inference.finish(&name) {
            Ok(sql_type) => {
                let reason = inference.text_reason(&name);
                Ok((Column { name, sql_type }, reason))
            }
            Err((problem, line)) => Err(Error::from_facts(&problem).in_file(self.at.path(), line)),
        };
        names.into_iter().zip(columns).map(finish).collect()
    }

    fn seen(&self, piece: &Chunk, width: usize) -> Result<Vec<Inference>> {
        let mut columns = vec![Inference::new(); width];
        let mut scratch = String::new();
        self.each_good(piece, width, |fields, line| {
            for (field, column) in fields.iter().zip(&mut columns) {
                if let Some(text) = self.value(field, &mut scratch) {
                    column.observe(text, TextOrigin::Plain, (line, &self.formats));
                }
            }
            Ok(())
        })?;
        Ok(columns)
    }

    fn segment(&self, piece: &Chunk, columns: &[Column]) -> Result<Segment> {
        let mut builders: Vec<ColumnBuilder> =
            columns.iter().map(|column| ColumnBuilder::new(column.sql_type)).collect();
        let mut rows = 0;
        let mut scratch = String::new();
        self.each_good(piece, columns.len(), |fields, line| {
            for (field, builder) in fields.iter().zip(&mut builders) {
                let pushed = builder.push(self.value(field, &mut scratch), &self.formats);
                pushed.map_err(|Misfit| changed(self.at.path(), line))?;
            }
            rows += 1;
            Ok(())
        })?;
        Ok(finish(&mut builders, rows))
    }
}

/// The arrays built so far as one segment.
pub(super) fn finish(builders: &mut [ColumnBuilder], rows: usize) -> Segment {
    Segment { columns: builders.iter_mut().map(ColumnBuilder::finish).collect(), rows }
}

/// The types were inferred from the same texts, unless the file was written to meanwhile.
#[cold]
pub(super) fn changed(path: &Path, line: u64) -> Error {
    let message = "a value does not have the type of its column any more: has the file changed while it was read?";
    Error::new(SqlState::DATA_EXCEPTION, message).in_file(path, Some(line))
}
