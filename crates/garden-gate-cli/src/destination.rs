//! Where a command writes to: standard output, or a file that takes its name when all is written.

use crate::CliError;
use crate::args::Common;
use garden_gate::source::NewFile;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};

/// Standard output, or the file of `--to`. The file is made when the first byte is written, and is there when [`Destination::finish`] says so:
/// a command that fails before, or a full disk, leaves what was there.
pub(crate) enum Destination {
    Standard(BufWriter<io::Stdout>),
    File { path: PathBuf, made: Option<(NewFile, BufWriter<File>)> },
}

impl Destination {
    /// A file, or standard output.
    pub(crate) fn of(to: Option<&Path>) -> Self {
        match to {
            Some(path) => Self::File { path: path.to_owned(), made: None },
            None => Self::Standard(BufWriter::new(io::stdout())),
        }
    }

    /// Ends the writing. A file that nothing was written to is left as it was.
    pub(crate) fn finish(self) -> io::Result<()> {
        match self {
            Self::Standard(mut out) => out.flush(),
            Self::File { made: None, .. } => Ok(()),
            Self::File { path, made: Some((file, mut out)) } => {
                out.flush().and_then(|()| file.finish()).map_err(|error| unwritable(&path, &error))
            }
        }
    }
}

fn unwritable(path: &Path, error: &io::Error) -> io::Error {
    io::Error::new(error.kind(), format!("{} cannot be written: {error}", path.display()))
}

impl Write for Destination {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::Standard(out) => out.write(bytes),
            Self::File { path, made } => {
                let (_, out) = match made {
                    Some(made) => made,
                    none => none.insert(begin(path).map_err(|error| unwritable(path, &error))?),
                };
                out.write(bytes).map_err(|error| unwritable(path, &error))
            }
        }
    }

    /// A result without a byte, such as no rows as JSON lines, makes an empty file.
    fn flush(&mut self) -> io::Result<()> {
        self.write(&[])?;
        match self {
            Self::Standard(out) => out.flush(),
            Self::File { path, made } => {
                let flushed = made.as_mut().map_or(Ok(()), |(_, out)| out.flush());
                flushed.map_err(|error| unwritable(path, &error))
            }
        }
    }
}

fn begin(path: &Path) -> io::Result<(NewFile, BufWriter<File>)> {
    let file = NewFile::create(path)?;
    let writer = BufWriter::new(file.writer()?);
    Ok((file, writer))
}

/// Writes an entire text to a file, which is replaced at once.
pub(crate) fn write_whole(path: &Path, text: &str) -> io::Result<()> {
    let mut file = Destination::of(Some(path));
    file.write_all(text.as_bytes())?;
    file.flush()?;
    file.finish()
}

/// Refuses to write over a file that the command reads: the database, the files of `--data`, its SQL.
///
/// # Errors
/// Wrong usage, with what the file is.
pub(crate) fn check(to: Option<&Path>, common: &Common, sql: &[PathBuf]) -> Result<(), CliError> {
    let Some(to) = to else { return Ok(()) };
    let own = to.canonicalize().ok();
    let is_same = |other: &Path| other == to || own.is_some() && other.canonicalize().ok() == own;
    let refuse = |what: &str| Err(CliError::Usage(format!("--to {}: this is {what}", to.display())));
    if common.db.as_deref().is_some_and(is_same) {
        return refuse("the database file");
    }
    if sql.iter().any(|path| is_same(path)) {
        return refuse("a file of SQL that is run");
    }
    for data in &common.data {
        let files = garden_gate::source::TableFiles::parse(data, Path::new(""));
        let path = files.path();
        let holds = own.as_deref().is_some_and(|own| {
            let folder = path.canonicalize().ok();
            own.parent() == folder.as_deref() && garden_gate::source::is_table_file(own)
        });
        if is_same(path) || path.is_dir() && holds {
            return refuse("a file of --data");
        }
    }
    Ok(())
}
