//! Where results go and how they look.

use crate::CliError;
use crate::args::Format;
use crate::destination::Destination;
use garden_gate::{Error, Outcome, ResultSet, error::Note};
use garden_gate_view::{self as view, Look, Separated};
use std::fmt::{self, Write as _};
use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};

/// How wide text may be when it is not for a terminal, and pleasant to read.
pub(crate) const READABLE: usize = 100;

/// Whether colours are wanted, and the terminal has them.
pub(crate) fn may_colour() -> bool {
    std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
        && std::env::var_os("TERM").is_none_or(|term| term != "dumb")
}

fn terminal_width() -> Option<usize> {
    terminal_size::terminal_size().map(|(width, _)| usize::from(width.0))
}

/// The look of standard output.
pub(crate) fn look() -> Look {
    if !io::stdout().is_terminal() {
        return Look::plain();
    }
    let look = terminal_width().map_or(Look::plain(), |width| Look::plain().wide(width));
    if may_colour() { look.coloured() } else { look }
}

/// The look of standard error.
pub(crate) fn error_look() -> Look {
    if !io::stderr().is_terminal() {
        return Look::plain();
    }
    let look = terminal_width().map_or(Look::plain(), |width| Look::plain().wide(width));
    if may_colour() { look.coloured() } else { look }
}

/// What was written last, on which it depends whether a blank line follows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Written {
    Nothing,
    /// Rows, or an error.
    Rows,
    /// A line that says what a statement did: such lines stand together.
    Done,
}

/// Writes outcomes in one format to standard output or a file.
pub(crate) struct Output {
    writer: Destination,
    format: Format,
    look: Look,
    last: Written,
    /// Whether notes and errors stand among the rows, not on standard error.
    has_errors: bool,
    /// The file of a format that is not a text, until it is written.
    whole: Option<PathBuf>,
}

impl Output {
    /// Output in a format, to a file if one is given.
    pub(crate) fn open(format: Option<Format>, to: Option<&Path>) -> Self {
        let format = format.or_else(|| to.and_then(Format::of_ending)).unwrap_or(Format::Table);
        let look = if to.is_some() { Look::plain() } else { look() };
        let whole = if is_whole(format) { to.map(Path::to_owned) } else { None };
        Self {
            writer: Destination::of(to.filter(|_| whole.is_none())),
            format,
            look,
            last: Written::Nothing,
            has_errors: false,
            whole,
        }
    }

    /// Whether a format that is not a text has a file to go to.
    ///
    /// # Errors
    /// When it has none, or the file's name says it is something else; when neither the name nor `--output` says what it is.
    pub(crate) fn check(&self, to: Option<&Path>, named: Option<Format>) -> Result<(), CliError> {
        if let (Some(path), None) = (to, named)
            && Format::of_ending(path).is_none()
            && !is_no_file(path)
        {
            return Err(unknown_ending(path, "csv, tsv, json, jsonl, md, html, txt, parquet or arrow"));
        }
        if !is_whole(self.format) || to.and_then(Format::of_ending) == Some(self.format) {
            return Ok(());
        }
        let (name, ending) = if self.format == Format::Parquet { ("parquet", "parquet") } else { ("arrow", "arrow") };
        Err(CliError::Usage(format!("--output {name} is not a text: give it a file, as in --to rows.{ending}")))
    }

    /// Output to standard output as a person reads it.
    pub(crate) fn table(look: Look) -> Self {
        let writer = Destination::of(None);
        Self { writer, format: Format::Table, look, last: Written::Nothing, has_errors: false, whole: None }
    }

    /// Notes and errors stand among the rows.
    pub(crate) fn with_errors(self) -> Self {
        Self { has_errors: true, ..self }
    }

    /// What follows has no blank line before it.
    pub(crate) fn begin(&mut self) {
        self.last = Written::Nothing;
    }

    /// Ends the output: a file takes its name.
    pub(crate) fn finish(self) -> Result<(), CliError> {
        Ok(self.writer.finish()?)
    }

    /// Shows what a statement came to.
    pub(crate) fn outcome(&mut self, outcome: Outcome) -> Result<(), CliError> {
        match outcome {
            Outcome::Rows(rows) => {
                self.rows(&rows)?;
                self.writer.flush()?;
                self.notes(rows.notes())
            }
            Outcome::Changed { what, affected, elapsed, notes } => {
                match self.format {
                    Format::Json => write!(self.writer, "{}", view::changed_json((&what, affected), elapsed, &notes))?,
                    Format::Table => {
                        if std::mem::replace(&mut self.last, Written::Done) == Written::Rows {
                            writeln!(self.writer)?;
                        }
                        write!(self.writer, "{}", view::done(&what, elapsed))?;
                    }
                    // The other formats hold rows and nothing else.
                    _ => {}
                }
                self.writer.flush()?;
                self.notes(&notes)
            }
            Outcome::Done { what, elapsed, notes } => {
                match self.format {
                    Format::Json => write!(self.writer, "{}", view::done_json(&what, elapsed, &notes))?,
                    Format::Table if !what.is_empty() => {
                        if std::mem::replace(&mut self.last, Written::Done) == Written::Rows {
                            writeln!(self.writer)?;
                        }
                        write!(self.writer, "{}", view::done(&what, elapsed))?;
                    }
                    // The other formats hold rows and nothing else.
                    _ => {}
                }
                self.writer.flush()?;
                self.notes(&notes)
            }
            _ => Ok(()),
        }
    }

    fn rows(&mut self, rows: &ResultSet) -> Result<(), CliError> {
        if is_whole(self.format) {
            let Some(path) = self.whole.take() else {
                return Err(CliError::Usage("a Parquet or Arrow file holds the rows of one query".into()));
            };
            return Ok(rows.save(path)?);
        }
        if self.format == Format::Html && self.last == Written::Nothing {
            write!(self.writer, "{}", view::rows_html_head())?;
        }
        let separate = !matches!(self.format, Format::Json | Format::Jsonl);
        if std::mem::replace(&mut self.last, Written::Rows) != Written::Nothing && separate {
            writeln!(self.writer)?;
        }
        // Row by row: the text of a large result is larger than its rows.
        let mut out = TextWriter { writer: io::BufWriter::new(&mut self.writer), failed: None };
        let written = match self.format {
            Format::Table => view::write_table(rows, self.look, &mut out),
            Format::Csv => view::write_separated(rows, Separated::Csv, &mut out),
            Format::Tsv => view::write_separated(rows, Separated::Tsv, &mut out),
            Format::Json => view::write_rows_json(rows, &mut out),
            Format::Jsonl => view::write_lines_json(rows, &mut out),
            Format::Markdown => view::write_markdown(rows, &mut out),
            Format::Html | Format::Parquet | Format::Arrow => out.write_str(&view::rows_html(rows)),
        };
        out.finish(written)
    }

    /// Notes go to standard error, unless the format has a place for them.
    pub(crate) fn notes(&mut self, notes: &[Note]) -> Result<(), CliError> {
        for note in notes.iter().filter(|_| self.format != Format::Json) {
            if self.has_errors {
                write!(self.writer, "{}", view::note(note, self.look))?;
            } else {
                write!(io::stderr().lock(), "{}", view::note(note, error_look()))?;
            }
        }
        Ok(self.writer.flush()?)
    }

    /// An error goes to standard error; in JSON it is an object like the others.
    pub(crate) fn error(&mut self, error: &Error) -> Result<(), CliError> {
        if self.format == Format::Json {
            write!(self.writer, "{}", view::error_json(error))?;
            return Ok(self.writer.flush()?);
        }
        let first = std::mem::replace(&mut self.last, Written::Rows) == Written::Nothing;
        let blank = if first { "" } else { "\n" };
        if self.has_errors {
            write!(self.writer, "{blank}{}", view::error(error, self.look))?;
            return Ok(self.writer.flush()?);
        }
        Ok(write!(io::stderr().lock(), "{blank}{}", view::error(error, error_look()))?)
    }
}

/// Whether there is something else than a file: what is wrong with that is reported where it is written.
fn is_no_file(path: &Path) -> bool {
    path.exists() && !path.is_file()
}

/// A file whose name does not say what is to be written.
pub(crate) fn unknown_ending(path: &Path, known: &str) -> CliError {
    let name = path.display();
    CliError::Usage(format!("the ending of {name} names no format: give it one of {known}, or say --output"))
}

/// Text on its way to a writer whose failure is kept.
struct TextWriter<W: Write> {
    writer: io::BufWriter<W>,
    failed: Option<io::Error>,
}

impl<W: Write> TextWriter<W> {
    fn finish(mut self, written: fmt::Result) -> Result<(), CliError> {
        match (self.failed, written) {
            (Some(error), _) => Err(error.into()),
            (None, Err(_)) => Err(io::Error::other("a value cannot be written").into()),
            (None, Ok(())) => Ok(self.writer.flush()?),
        }
    }
}

impl<W: Write> fmt::Write for TextWriter<W> {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        self.writer.write_all(text.as_bytes()).map_err(|error| {
            self.failed = Some(error);
            fmt::Error
        })
    }
}

/// Whether a format is not a text, and holds one result.
fn is_whole(format: Format) -> bool {
    matches!(format, Format::Parquet | Format::Arrow)
}
