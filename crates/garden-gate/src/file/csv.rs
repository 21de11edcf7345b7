//! CSV: the whole file is looked at for the types of its columns, then read into them; a sample is never trusted.

use super::column_builder::{ColumnBuilder, Misfit};
use super::infer::{Inference, Origin};
use super::problem::Problem;
use super::records::{Field, Quoting, Records};
use super::{Content, FileTable, text};
use crate::catalog::{Column, FileOptions, SEGMENT_ROWS, Segment};
use crate::diagnostic::{Error, Result, SqlState};
use std::path::Path;

struct Layout<'a> {
    path: &'a Path,
    text: &'a str,
    delimiter: u8,
    options: &'a FileOptions,
}

pub(super) fn read(path: &Path, bytes: &[u8], delimiter: u8, options: &FileOptions) -> Result<FileTable> {
    let text = text(path, bytes)?;
    let chosen = options.delimiter.and_then(|delimiter| u8::try_from(delimiter).ok());
    let layout = Layout { path, text, delimiter: chosen.unwrap_or(delimiter), options };
    let names = layout.names()?;
    let columns = layout.infer(names)?;
    let segments = layout.load(&columns)?;
    Ok(FileTable { columns, content: Content::Segments(segments) })
}

impl<'a> Layout<'a> {
    fn fail(&self, (problem, line): (Problem, u64)) -> Error {
        Error::from_facts(&problem).in_file(self.path, Some(line))
    }

    fn records(&self) -> Records<'a> {
        let mut records = Records::new(self.text, self.delimiter);
        records.skip_lines(self.options.skip);
        records
    }

    /// The names in the header; without one, the columns are numbered.
    fn names(&self) -> Result<Vec<String>> {
        let mut records = self.records();
        let mut fields = Vec::new();
        let Some(line) = records.next_record(&mut fields).map_err(|error| self.fail(error))? else {
            return Err(Error::from_facts(&Problem::Empty).in_file(self.path, None));
        };
        let mut scratch = String::new();
        let mut names: Vec<String> = Vec::with_capacity(fields.len());
        for (position, field) in fields.iter().enumerate() {
            let text = field.text(&mut scratch).trim();
            let name = if self.options.no_header || text.is_empty() {
                format!("column_{}", position + 1)
            } else {
                text.into()
            };
            if names.contains(&name) {
                return Err(self.fail((Problem::DuplicateColumn(name), line)));
            }
            names.push(name);
        }
        Ok(names)
    }

    /// Calls `visit` with each data record and its line.
    fn each(&self, width: usize, mut visit: impl FnMut(&[Field<'a>], u64) -> Result<()>) -> Result<()> {
        let mut records = self.records();
        let mut fields = Vec::with_capacity(width);
        let mut is_header = !self.options.no_header;
        while let Some(line) = records.next_record(&mut fields).map_err(|error| self.fail(error))? {
            if std::mem::take(&mut is_header) {
                continue;
            }
            let blank = width > 1 && matches!(fields.as_slice(), [one] if one.is_null());
            if blank {
                continue;
            }
            if fields.len() != width {
                return Err(self.fail((Problem::Ragged { found: fields.len(), expected: width }, line)));
            }
            visit(&fields, line)?;
        }
        Ok(())
    }

    /// The text of a field; `None` for NULL.
    fn value<'s>(&self, field: &Field<'a>, scratch: &'s mut String) -> Option<&'s str>
    where
        'a: 's,
    {
        if field.is_null() {
            return None;
        }
        let text = field.text(scratch);
        let null = field.quoting == Quoting::Bare && self.options.null_text.as_deref() == Some(text);
        if null { None } else { Some(text) }
    }

    fn infer(&self, names: Vec<String>) -> Result<Vec<Column>> {
        let mut columns = vec![Inference::new(); names.len()];
        let mut scratch = String::new();
        self.each(names.len(), |fields, line| {
            for (field, column) in fields.iter().zip(&mut columns) {
                if let Some(text) = self.value(field, &mut scratch) {
                    column.observe(text, Origin::Plain, line);
                }
            }
            Ok(())
        })?;
        let finish = |(name, inference): (String, Inference)| match inference.finish(&name) {
            Ok(sql_type) => Ok(Column { name, sql_type }),
            Err((problem, line)) => Err(Error::from_facts(&problem).in_file(self.path, line)),
        };
        names.into_iter().zip(columns).map(finish).collect()
    }

    fn load(&self, columns: &[Column]) -> Result<Vec<Segment>> {
        let mut builders: Vec<ColumnBuilder> =
            columns.iter().map(|column| ColumnBuilder::new(column.sql_type)).collect();
        let mut segments = Vec::new();
        let mut rows = 0;
        let mut scratch = String::new();
        self.each(columns.len(), |fields, line| {
            for (field, builder) in fields.iter().zip(&mut builders) {
                let pushed = builder.push(self.value(field, &mut scratch));
                pushed.map_err(|Misfit| changed(self.path, line))?;
            }
            rows += 1;
            if rows == SEGMENT_ROWS {
                segments.push(finish(&mut builders, &mut rows));
            }
            Ok(())
        })?;
        if rows > 0 {
            segments.push(finish(&mut builders, &mut rows));
        }
        Ok(segments)
    }
}

/// The arrays built so far as one segment.
pub(super) fn finish(builders: &mut [ColumnBuilder], rows: &mut usize) -> Segment {
    Segment { columns: builders.iter_mut().map(ColumnBuilder::finish).collect(), rows: std::mem::take(rows) }
}

#[cold]
pub(super) fn changed(path: &Path, line: u64) -> Error {
    let message = "internal error: a value does not have the type that was inferred from it";
    Error::new(SqlState::GENERAL, message).in_file(path, Some(line))
}
