//! Rows written to a file: CSV, TSV, JSON lines, Parquet or Arrow IPC by the ending of its name, text packed if it says so. The file takes
//! its name when it is whole.

use super::delimited::Delimited;
use super::json_value::json_value;
use super::new_file::NewFile;
#[cfg(not(feature = "parquet"))]
use super::parquet_absent::ParquetWriter;
#[cfg(feature = "parquet")]
use super::parquet_write::ParquetWriter;
use super::problem::Problem;
use super::text_file::Packing;
use super::{Format, format};
use crate::catalog::{Column, FileOptions};
use crate::control::Turns;
use crate::diagnostic::{Error, Result};
use crate::types::{SqlType, Value};
use arrow::array::{ArrayRef, RecordBatch};
use arrow::datatypes::{Field, Schema};
use arrow::ipc::writer::FileWriter;
use serde_json::{Map, Value as Json};
use std::fmt::{self, Write as _};
use std::fs::File;
use std::io::{BufWriter, Write};
use std::mem::discriminant;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A file that rows are being written to.
pub struct Writer {
    path: PathBuf,
    /// Where the rows go until they are all there.
    file: NewFile,
    columns: Vec<Column>,
    target: Target,
}

enum Target {
    Text { out: Text, layout: TextLayout },
    Parquet(Box<ParquetWriter>),
    ArrowIpc(Box<FileWriter<BufWriter<File>>>),
}

enum Text {
    Plain(BufWriter<File>),
    #[cfg(feature = "compression")]
    Gzip(flate2::write::GzEncoder<BufWriter<File>>),
    #[cfg(feature = "compression")]
    Zstd(zstd::Encoder<'static, BufWriter<File>>),
}

#[derive(Debug)]
enum TextLayout {
    Separated(Delimited),
    JsonLines,
}

impl fmt::Debug for Writer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Writer").field("path", &self.path).finish_non_exhaustive()
    }
}

/// 0A000 for a format that this build has no writer of.
fn check_format_built(format: Format, path: &Path) -> Result<()> {
    if matches!(format, Format::Parquet) && !cfg!(feature = "parquet") {
        let problem = Problem::FeatureOff { what: "Parquet files", feature: "parquet" };
        return Err(Error::from_facts(&problem).in_file(path, None));
    }
    Ok(())
}

/// Whether values of a type come back as they were from a file of Arrow arrays; others are written as text.
pub fn has_own_array(sql_type: SqlType) -> bool {
    // A BINARY is read back as VARBINARY: its bytes are the same.
    matches!(sql_type, SqlType::Binary(_))
        || SqlType::from_arrow(&sql_type.arrow()).is_some_and(|back| discriminant(&back) == discriminant(&sql_type))
}

impl Writer {
    /// Begins a file.
    ///
    /// # Errors
    /// 58030 when it cannot be made or its ending tells no format; 0A000 when a Parquet or Arrow file is to be packed.
    pub fn create(path: &Path, columns: Vec<Column>, options: &FileOptions) -> Result<Self> {
        let (packing, inner) = Packing::of(path);
        let Some(format) = format(&inner) else {
            return Err(Error::from_facts(&Problem::UnknownEnding).in_file(path, None));
        };
        packing.check_built(path)?;
        check_format_built(format, path)?;
        let made = NewFile::create(path).map_err(|error| unwritable(path, error))?;
        if !made.is_in_place() {
            return Err(Error::from_facts(&Problem::OutsideFolders).in_file(path, None));
        }
        let file = made.writer().map_err(|error| unwritable(path, error))?;
        let target = match (format, packing) {
            (Format::Csv { delimiter }, _) => {
                let layout = TextLayout::Separated(Delimited::with_options(delimiter, options));
                Target::Text { out: Text::new(packing, file).map_err(|error| unwritable(path, error))?, layout }
            }
            (Format::JsonLines, _) => {
                let out = Text::new(packing, file).map_err(|error| unwritable(path, error))?;
                Target::Text { out, layout: TextLayout::JsonLines }
            }
            (Format::Parquet, Packing::None) => {
                let writer = ParquetWriter::new(file, schema(&columns));
                Target::Parquet(Box::new(writer.map_err(|error| unwritable(path, error))?))
            }
            (Format::ArrowIpc, Packing::None) => {
                let writer = FileWriter::try_new(BufWriter::new(file), &schema(&columns));
                Target::ArrowIpc(Box::new(writer.map_err(|error| unwritable(path, error))?))
            }
            _ => return Err(Error::from_facts(&Problem::UnknownEnding).in_file(path, None)),
        };
        let mut writer = Self { path: path.to_owned(), file: made, columns, target };
        if !options.no_header {
            writer.header()?;
        }
        Ok(writer)
    }

    fn header(&mut self) -> Result<()> {
        let Target::Text { out, layout: TextLayout::Separated(layout) } = &mut self.target else {
            return Ok(());
        };
        let mut line = String::new();
        // Writing to a String does not fail.
        let _ = layout.write_row(self.columns.iter().map(|column| Some(&column.name)), &mut line);
        out.write_all(line.as_bytes()).map_err(|error| unwritable(&self.path, error))
    }

    /// Adds rows; `value` gives a cell by column and row.
    ///
    /// # Errors
    /// 58030 when the file cannot be written to.
    pub fn write(&mut self, arrays: &[ArrayRef], rows: usize, value: &dyn Fn(usize, usize) -> Value) -> Result<()> {
        let width = self.columns.len();
        let batch = || RecordBatch::try_new(schema(&self.columns), arrays.to_vec());
        match &mut self.target {
            Target::Parquet(writer) => {
                writer.write(&batch()?).map_err(|error| unwritable(&self.path, error))?;
            }
            Target::ArrowIpc(writer) => writer.write(&batch()?).map_err(|error| unwritable(&self.path, error))?,
            Target::Text { out, layout } => {
                let mut text = String::new();
                let mut turns = Turns::new();
                for row in 0..rows {
                    turns.turn()?;
                    let cells = (0..width).map(|at| value(at, row));
                    match layout {
                        TextLayout::JsonLines => {
                            let names = self.columns.iter().map(|column| column.name.clone());
                            let object: Map<String, Json> = names.zip(cells.map(|cell| json_value(&cell))).collect();
                            let _ = writeln!(text, "{}", Json::Object(object));
                        }
                        TextLayout::Separated(layout) => {
                            let fields = cells.map(|cell| (!cell.is_null()).then(|| cell.to_string()));
                            let _ = layout.write_row(fields, &mut text);
                        }
                    }
                }
                out.write_all(text.as_bytes()).map_err(|error| unwritable(&self.path, error))?;
            }
        }
        Ok(())
    }

    /// Ends the file, which takes its name now.
    ///
    /// # Errors
    /// 58030 when it cannot be written.
    pub fn finish(mut self) -> Result<()> {
        let path = self.path.clone();
        let done = match &mut self.target {
            Target::Text { out, .. } => out.finish(),
            Target::Parquet(writer) => writer.finish().map_err(std::io::Error::other),
            Target::ArrowIpc(writer) => writer.finish().map_err(std::io::Error::other),
        };
        done.and_then(|()| self.file.finish()).map_err(|error| unwritable(&path, error))
    }
}

impl Text {
    fn new(packing: Packing, file: File) -> std::io::Result<Self> {
        let file = BufWriter::with_capacity(1 << 18, file);
        Ok(match packing {
            Packing::None => Self::Plain(file),
            #[cfg(feature = "compression")]
            Packing::Gzip => Self::Gzip(flate2::write::GzEncoder::new(file, flate2::Compression::default())),
            #[cfg(feature = "compression")]
            Packing::Zstd => Self::Zstd(zstd::Encoder::new(file, 0)?),
            #[cfg(not(feature = "compression"))]
            Packing::Gzip | Packing::Zstd => return Err(std::io::ErrorKind::Unsupported.into()),
        })
    }

    fn write_all(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        match self {
            Self::Plain(out) => out.write_all(bytes),
            #[cfg(feature = "compression")]
            Self::Gzip(out) => out.write_all(bytes),
            #[cfg(feature = "compression")]
            Self::Zstd(out) => out.write_all(bytes),
        }
    }

    fn finish(&mut self) -> std::io::Result<()> {
        match self {
            Self::Plain(out) => out.flush(),
            #[cfg(feature = "compression")]
            Self::Gzip(out) => out.try_finish().and_then(|()| out.get_mut().flush()),
            #[cfg(feature = "compression")]
            Self::Zstd(out) => out.do_finish().and_then(|()| out.get_mut().flush()),
        }
    }
}

fn schema(columns: &[Column]) -> Arc<Schema> {
    let field = |column: &Column| Field::new(&column.name, column.sql_type.arrow(), true);
    Arc::new(Schema::new(columns.iter().map(field).collect::<Vec<_>>()))
}

fn unwritable(path: &Path, error: impl std::error::Error + Send + Sync + 'static) -> Error {
    Error::from_facts(&Problem::Unwritable(error.to_string())).caused_by(error).in_file(path, None)
}
