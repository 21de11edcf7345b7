//! Text files read piece by piece: unpacked and decoded on the way, and cut where rows end, so that the pieces can be read side by
//! side and a file of any size needs little memory.

use super::json_array::Elements;
use super::location::Location;
use super::problem::Problem;
use super::records::Dialect;
use super::{LINE_LIMIT, unreadable};
use crate::catalog::FileOptions;
use crate::control;
use crate::diagnostic::{Error, Result};
use rayon::ThreadPool;
use rayon::prelude::*;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Bytes that are read before pieces are cut.
const BLOCK_BYTES: usize = 16 << 20;
/// Bytes of a piece, about.
const PIECE_BYTES: usize = 1 << 20;

/// How a file is packed, by the ending after that of its format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    None,
    Gzip,
    Zstd,
}

impl Packing {
    /// The packing of a path, and the path without its ending.
    pub(super) fn of(path: &Path) -> (Self, PathBuf) {
        let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
        let packing = match ending.to_ascii_lowercase().as_str() {
            "gz" => Self::Gzip,
            "zst" => Self::Zstd,
            _ => return (Self::None, path.to_owned()),
        };
        (packing, path.with_extension(""))
    }

    /// 0A000 for a compressed file in a build without the feature `compression`.
    pub(super) fn check_built(self, path: &Path) -> Result<()> {
        if self == Self::None || cfg!(feature = "compression") {
            return Ok(());
        }
        let problem = Problem::FeatureOff { what: "compressed files", feature: "compression" };
        Err(Error::from_facts(&problem).in_file(path, None))
    }

    fn reader(self, file: Counted) -> std::io::Result<Box<dyn Read + Send>> {
        Ok(match self {
            Self::None => Box::new(file),
            #[cfg(feature = "compression")]
            Self::Gzip => Box::new(flate2::read::MultiGzDecoder::new(std::io::BufReader::new(file))),
            #[cfg(feature = "compression")]
            Self::Zstd => Box::new(zstd::Decoder::new(file)?),
            #[cfg(not(feature = "compression"))]
            Self::Gzip | Self::Zstd => return Err(std::io::ErrorKind::Unsupported.into()),
        })
    }
}

/// A file that counts what is read of it.
struct Counted {
    file: File,
    read: Arc<AtomicU64>,
}

impl Read for Counted {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.file.read(buffer)?;
        self.read.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

/// A run of whole rows.
#[derive(Clone, Debug)]
pub(super) struct Chunk {
    pub(super) text: String,
    /// The line it begins on.
    pub(super) line: u64,
}

/// The pieces of a text file, in order.
pub(super) struct TextFile {
    path: PathBuf,
    reader: Box<dyn Read + Send>,
    dialect: Dialect,
    /// What was read and not yet given out.
    rest: Vec<u8>,
    /// Lines given out or skipped.
    line: u64,
    at_end: bool,
    /// Bytes that a row has at most.
    limit: usize,
    bytes: u64,
    read: Arc<AtomicU64>,
}

impl TextFile {
    /// Opens a file, and skips its byte order mark and its first `skip` lines.
    ///
    /// # Errors
    /// 58030 when it cannot be opened, 22018 when it is not the text it should be.
    pub(super) fn open(at: &Location, dialect: Dialect, options: &FileOptions) -> Result<Self> {
        let (file, path) = (at.open()?, at.path());
        let bytes = file.metadata().map_or(0, |metadata| metadata.len());
        let read = Arc::new(AtomicU64::new(0));
        let file = Counted { file, read: Arc::clone(&read) };
        let reader = Packing::of(path).0.reader(file).map_err(|error| unreadable(path, error))?;
        let reader = match options.encoding.as_deref() {
            None => reader,
            Some(name) => {
                let Some(encoding) = encoding_rs::Encoding::for_label(name.as_bytes()) else {
                    return Err(Error::from_facts(&Problem::UnknownEncoding(name.into())).in_file(path, None));
                };
                let decoder = encoding_rs_io::DecodeReaderBytesBuilder::new().encoding(Some(encoding)).build(reader);
                Box::new(decoder)
            }
        };
        let reader: Box<dyn Read + Send> = match super::format_of(path, options) {
            Some(super::Format::Json) => Box::new(Elements::new(reader)),
            _ => reader,
        };
        let limit = usize::try_from(options.line_limit.unwrap_or(LINE_LIMIT)).unwrap_or(usize::MAX);
        let path_owned = path.to_owned();
        let mut file =
            Self { path: path_owned, reader, dialect, rest: Vec::new(), line: 1, at_end: false, limit, bytes, read };
        file.fill(4096)?;
        if file.rest.starts_with(b"\xef\xbb\xbf") {
            file.rest.drain(..3);
        }
        if file.rest.starts_with(b"\xff\xfe") || file.rest.starts_with(b"\xfe\xff") {
            return Err(Error::from_facts(&Problem::Utf16).in_file(path, None));
        }
        for _ in 0..options.skip {
            file.skip_line()?;
        }
        Ok(file)
    }

    /// Bytes of the file, and how many of them have been read.
    pub(super) fn progress(&self) -> (u64, u64) {
        (self.bytes, self.read.load(Ordering::Relaxed))
    }

    fn fail(&self, problem: &Problem, line: u64) -> Error {
        Error::from_facts(problem).in_file(&self.path, Some(line))
    }

    /// Reads until there are so many bytes, or all.
    fn fill(&mut self, bytes: usize) -> Result<()> {
        while self.rest.len() < bytes && !self.at_end {
            let wanted = (bytes - self.rest.len()).min(BLOCK_BYTES);
            // What is read moves to a place twice as large when there is no more room after it.
            let full = self.rest.len() + wanted > self.rest.capacity();
            control::reserve(if full { 2 * self.rest.capacity() } else { 0 }, 1)?;
            let read = self.reader.by_ref().take(wanted as u64).read_to_end(&mut self.rest);
            self.at_end = read.map_err(|error| unreadable(&self.path, error))? == 0;
        }
        Ok(())
    }

    fn skip_line(&mut self) -> Result<()> {
        let mut wanted = 4096;
        loop {
            if let Some(end) = memchr::memchr(b'\n', &self.rest) {
                self.rest.drain(..=end);
                self.line += 1;
                return Ok(());
            }
            if self.at_end {
                self.rest.clear();
                return Ok(());
            }
            self.check_row(wanted)?;
            wanted += self.rest.len();
            self.fill(wanted)?;
        }
    }

    /// An error when so many bytes hold no whole row.
    fn check_row(&self, bytes: usize) -> Result<()> {
        if bytes > self.limit {
            return Err(self.fail(&Problem::RowTooLong { limit: self.limit }, self.line));
        }
        Ok(())
    }

    /// Takes the first row out, which is the header; `take` gives how many bytes and lines it has.
    pub(super) fn take_header<T>(
        &mut self,
        take: impl Fn(&str) -> Result<Option<(T, usize, u64)>, (Problem, u64)>,
    ) -> Result<Option<T>> {
        let mut wanted = 1 << 16;
        self.fill(wanted)?;
        let (end, whole) = loop {
            let (ends, at_end) = (self.dialect.cut(&self.rest, usize::MAX), self.at_end);
            match ends.last() {
                _ if at_end => break (self.rest.len(), true),
                Some(end) => break (*end, false),
                None => {
                    self.check_row(wanted)?;
                    wanted *= 4;
                    self.fill(wanted)?;
                }
            }
        };
        let text = self.decoded(&self.rest[..end], self.line)?;
        let taken = take(&text).map_err(|(problem, line)| self.fail(&problem, self.line + line - 1))?;
        let Some((header, bytes, lines)) = taken else {
            debug_assert!(whole, "a cut lies after a row");
            return Ok(None);
        };
        self.rest.drain(..bytes);
        self.line += lines;
        Ok(Some(header))
    }

    /// The next pieces; none at the end of the file.
    pub(super) fn next_pieces(&mut self) -> Result<Vec<Chunk>> {
        let mut wanted = BLOCK_BYTES;
        let mut ends = loop {
            self.fill(wanted)?;
            let ends = self.dialect.cut(&self.rest, PIECE_BYTES);
            if self.at_end || !ends.is_empty() {
                break ends;
            }
            self.check_row(wanted)?;
            wanted *= 2;
        };
        if self.at_end && ends.last().copied().unwrap_or(0) < self.rest.len() {
            ends.push(self.rest.len());
        }
        let mut pieces = Vec::with_capacity(ends.len());
        let mut from = 0;
        for end in ends {
            let bytes = &self.rest[from..end];
            let piece = Chunk { text: self.decoded(bytes, self.line)?, line: self.line };
            self.line += self.dialect.lines(bytes);
            pieces.push(piece);
            from = end;
        }
        self.rest.drain(..from);
        Ok(pieces)
    }

    /// Text, checked; `line` is where it begins.
    fn decoded(&self, bytes: &[u8], line: u64) -> Result<String> {
        let line_at = |at: usize| memchr::memchr_iter(b'\n', &bytes[..at]).count() as u64 + line;
        if let Some(at) = memchr::memchr(0, bytes) {
            return Err(self.fail(&Problem::Binary, line_at(at)));
        }
        match std::str::from_utf8(bytes) {
            Ok(text) => Ok(text.to_owned()),
            Err(error) => Err(self.fail(&Problem::NotUtf8, line_at(error.valid_up_to()))),
        }
    }
}

/// What `read` makes of each piece, in order, with all threads at once; the first failure in the order of the file.
pub(super) fn side_by_side<T: Send>(
    threads: Option<&ThreadPool>,
    pieces: Vec<Chunk>,
    read: impl Fn(Chunk) -> Result<T> + Sync,
) -> Result<Vec<T>> {
    match threads {
        Some(threads) if pieces.len() > 1 => {
            let statement = control::current();
            let read = |piece: Chunk| {
                let _entered = control::enter(statement.as_ref());
                control::checkpoint()?;
                read(piece)
            };
            let all: Vec<Result<T>> = threads.install(|| pieces.into_par_iter().map(read).collect());
            all.into_iter().collect()
        }
        _ => pieces.into_iter().map(read).collect(),
    }
}
