//! CSV text cut into records and fields (RFC 4180): quoted fields with delimiters, line ends and doubled quotes; LF or CRLF.
//!
//! A general CSV crate does not tell `""`, which is empty text, from an empty field, which is NULL; so the cut is made here.

use super::problem::Problem;
use crate::catalog::{FileOptions, RowEnd};

/// The marks of a CSV text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Dialect {
    pub(super) delimiter: u8,
    /// `None` where no field appears in quotes, as in JSON lines.
    pub(super) quote: Option<u8>,
    pub(super) row_end: RowEnd,
}

impl Dialect {
    /// Rows that are lines, whatever is in them.
    pub(super) const LINES: Self = Self { delimiter: 0, quote: None, row_end: RowEnd::Lf };

    /// How the records of a file are told apart.
    pub(super) fn new(delimiter: u8, options: &FileOptions) -> Self {
        let ascii = |mark: Option<char>| mark.and_then(|mark| u8::try_from(mark).ok());
        Self {
            delimiter: ascii(options.delimiter).unwrap_or(delimiter),
            quote: Some(ascii(options.quote).unwrap_or(b'"')),
            row_end: options.row_end,
        }
    }

    /// Places after rows, each about `bytes` after the one before; the last is the last row end there is. O(bytes) of text.
    pub(super) fn cut(self, text: &[u8], bytes: usize) -> Vec<usize> {
        let mut cuts = Vec::new();
        let mut last = 0;
        let mut at = 0;
        while at < text.len() {
            // Up to the next quoted field, every end of a line ends a row.
            let (plain, next) = self.next_quoted(text, at);
            let mut from = at;
            while let Some(least) = cuts.last().copied().unwrap_or(0_usize).checked_add(bytes)
                && least.max(from) < plain
                && let Some(end) = self.first_end(text, least.max(from), plain)
            {
                from = end;
                cuts.push(end);
            }
            last = self.last_end(text, at, plain).unwrap_or(last);
            at = next;
        }
        if last > cuts.last().copied().unwrap_or(0) {
            cuts.push(last);
        }
        cuts
    }

    /// The last byte of what ends a row.
    fn end_byte(self) -> u8 {
        if self.row_end == RowEnd::Cr { b'\r' } else { b'\n' }
    }

    /// How many row ends there are at most.
    pub(super) fn lines(self, text: &[u8]) -> u64 {
        memchr::memchr_iter(self.end_byte(), text).count() as u64
    }

    fn is_end(self, text: &[u8], at: usize) -> bool {
        self.row_end != RowEnd::CrLf || at > 0 && text[at - 1] == b'\r'
    }

    /// Behind the first row end.
    fn first_end(self, text: &[u8], from: usize, to: usize) -> Option<usize> {
        let mut ends = memchr::memchr_iter(self.end_byte(), &text[from..to]);
        ends.find(|at| self.is_end(text, from + at)).map(|at| from + at + 1)
    }

    fn last_end(self, text: &[u8], from: usize, to: usize) -> Option<usize> {
        let mut ends = memchr::memrchr_iter(self.end_byte(), &text[from..to]);
        ends.find(|at| self.is_end(text, from + at)).map(|at| from + at + 1)
    }

    /// Where the next quoted field begins, and where it ends.
    fn next_quoted(self, text: &[u8], mut from: usize) -> (usize, usize) {
        let Some(quote) = self.quote else { return (text.len(), text.len()) };
        while let Some(found) = memchr::memchr(quote, &text[from..]) {
            let begin = from + found;
            from = begin + 1;
            // A quote within a bare field is a character like others.
            if begin > 0 && ![self.delimiter, b'\n', b'\r'].contains(&text[begin - 1]) {
                continue;
            }
            while let Some(found) = memchr::memchr(quote, &text[from..]) {
                from += found + 1;
                if text.get(from) != Some(&quote) {
                    return (begin, from);
                }
                from += 1;
            }
            return (begin, text.len());
        }
        (text.len(), text.len())
    }
}

/// A field as it appears in the text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Field<'a> {
    /// The text between the quotes or delimiters; doubled quotes are still doubled.
    raw: &'a str,
    pub(super) quoting: Quoting,
    quote: char,
}

/// Whether a field appears in quotes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Quoting {
    Bare,
    Quoted,
    /// In quotes, with doubled quotes inside.
    Doubled,
}

impl<'a> Field<'a> {
    /// The field's text; `scratch` holds it when doubled quotes had to be taken out.
    pub(super) fn text<'s>(&self, scratch: &'s mut String) -> &'s str
    where
        'a: 's,
    {
        if self.quoting != Quoting::Doubled {
            return self.raw;
        }
        scratch.clear();
        let mut rest = self.raw;
        while let Some(at) = rest.find(self.quote) {
            scratch.push_str(&rest[..=at]);
            rest = rest.get(at + 2..).unwrap_or_default();
        }
        scratch.push_str(rest);
        scratch
    }

    /// Nothing between two delimiters.
    pub(super) fn is_null(&self) -> bool {
        self.raw.is_empty() && self.quoting == Quoting::Bare
    }
}

/// Walks over the records of a text.
#[derive(Debug)]
pub(super) struct Records<'a> {
    text: &'a str,
    at: usize,
    line: u64,
    dialect: Dialect,
}

impl<'a> Records<'a> {
    /// The records of a text that begins on this line.
    pub(super) fn new(text: &'a str, dialect: Dialect, line: u64) -> Self {
        Self { text, at: 0, line, dialect }
    }

    /// Bytes read so far, and the line that comes.
    pub(super) fn place(&self) -> (usize, u64) {
        (self.at, self.line)
    }

    /// The fields of the next record, written to `fields`, and the line it begins on; `None` at the end of the text.
    pub(super) fn next_record(&mut self, fields: &mut Vec<Field<'a>>) -> Result<Option<u64>, (Problem, u64)> {
        fields.clear();
        if self.at >= self.text.len() {
            return Ok(None);
        }
        let line = self.line;
        loop {
            let bytes = self.text.as_bytes();
            let is_quoted = self.dialect.quote.is_some() && bytes.get(self.at).copied() == self.dialect.quote;
            fields.push(if is_quoted { self.quoted(line)? } else { self.bare() });
            match bytes.get(self.at) {
                None => return Ok(Some(line)),
                Some(byte) if *byte == self.dialect.delimiter => self.at += 1,
                Some(_) => match self.row_end(self.at) {
                    Some(length) => {
                        self.at += length;
                        self.line += 1;
                        return Ok(Some(line));
                    }
                    None => return Err((Problem::TextBehindQuote, self.line)),
                },
            }
        }
    }

    /// Passes over what is left of the line, after a record that cannot be read.
    pub(super) fn skip_line(&mut self) {
        let rest = &self.text.as_bytes()[self.at..];
        self.at += memchr::memchr(b'\n', rest).map_or(rest.len(), |end| end + 1);
        self.line += 1;
    }

    /// The length of the end of a row that appears here.
    fn row_end(&self, at: usize) -> Option<usize> {
        let bytes = self.text.as_bytes();
        let (first, second) = (bytes.get(at).copied()?, bytes.get(at + 1).copied());
        match (self.dialect.row_end, first, second) {
            (RowEnd::Any | RowEnd::CrLf, b'\r', Some(b'\n')) => Some(2),
            (RowEnd::Any | RowEnd::Lf, b'\n', _) | (RowEnd::Any | RowEnd::Cr, b'\r', _) => Some(1),
            _ => None,
        }
    }

    fn bare(&mut self) -> Field<'a> {
        let start = self.at;
        let bytes = self.text.as_bytes();
        let delimiter = self.dialect.delimiter;
        loop {
            let rest = &bytes[self.at..];
            self.at += memchr::memchr3(delimiter, b'\n', b'\r', rest).unwrap_or(rest.len());
            match bytes.get(self.at) {
                Some(byte) if *byte != delimiter && self.row_end(self.at).is_none() => {
                    self.line += u64::from(*byte == b'\n');
                    self.at += 1;
                }
                _ => break,
            }
        }
        Field { raw: &self.text[start..self.at], quoting: Quoting::Bare, quote: '"' }
    }

    fn quoted(&mut self, line: u64) -> Result<Field<'a>, (Problem, u64)> {
        let start = self.at + 1;
        let mut at = start;
        let mut quoting = Quoting::Quoted;
        let bytes = self.text.as_bytes();
        let quote = self.dialect.quote.unwrap_or(b'"');
        loop {
            let Some(end) = memchr::memchr(quote, &bytes[at..]) else { return Err((Problem::UnclosedQuote, line)) };
            at += end;
            if bytes.get(at + 1) != Some(&quote) {
                break;
            }
            quoting = Quoting::Doubled;
            at += 2;
        }
        let raw = &self.text[start..at];
        self.line += memchr::memchr_iter(b'\n', raw.as_bytes()).count() as u64;
        self.at = at + 1;
        Ok(Field { raw, quoting, quote: quote.into() })
    }
}

/// The records of a CSV text with the usual marks; a field that is NULL is `None`. O(bytes).
///
/// # Errors
/// What is wrong, and in which line.
pub fn csv_records(text: &str) -> Result<Vec<Vec<Option<String>>>, String> {
    let mut records = Records::new(text, Dialect::new(b',', &FileOptions::default()), 1);
    let (mut fields, mut found, mut scratch) = (Vec::new(), Vec::new(), String::new());
    while records.next_record(&mut fields).map_err(|(problem, line)| format!("line {line}: {problem}"))?.is_some() {
        let own = |field: &Field<'_>| (!field.is_null()).then(|| field.text(&mut scratch).to_owned());
        found.push(fields.iter().map(own).collect());
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Records with the lines they begin on.
    type Lines = Vec<(u64, Vec<String>)>;

    fn all(text: &str) -> Result<Lines, (String, u64)> {
        let mut records = Records::new(text, Dialect::new(b',', &FileOptions::default()), 1);
        let (mut fields, mut found, mut scratch) = (Vec::new(), Vec::new(), String::new());
        while let Some(line) =
            records.next_record(&mut fields).map_err(|(problem, line)| (problem.to_string(), line))?
        {
            let show = |field: &Field<'_>| {
                if field.is_null() { "NULL".into() } else { field.text(&mut scratch).to_owned() }
            };
            found.push((line, fields.iter().map(show).collect()));
        }
        Ok(found)
    }

    #[test]
    fn texts_are_cut_behind_rows_only() {
        let dialect = Dialect::new(b',', &FileOptions::default());
        for (text, bytes, cuts) in [
            ("a,b\nc,d\ne", 1, &[4, 8][..]),
            ("a,b\nc,d\n", usize::MAX, &[8]),
            ("a,\"x\ny\"\n\"p\"\"\n\",q\n1,2\n", 1, &[8, 17, 21]),
            ("5\" pipe\nb\n", 1, &[8, 10]),
            ("a,\"open\nb\n", 1, &[]),
            ("", 1, &[]),
        ] {
            assert_eq!(dialect.cut(text.as_bytes(), bytes), cuts, "{text:?}");
        }
    }

    #[test]
    fn records_and_their_lines() {
        type Case = (&'static str, &'static [(u64, &'static [&'static str])]);
        let cases: &[Case] = &[
            ("a,b\n1,2\n", &[(1, &["a", "b"]), (2, &["1", "2"])]),
            ("a,b\r\n1,2", &[(1, &["a", "b"]), (2, &["1", "2"])]),
            ("a,,c\n", &[(1, &["a", "NULL", "c"])]),
            ("a,\n", &[(1, &["a", "NULL"])]),
            ("\"\",x\n", &[(1, &["", "x"])]),
            ("\"a,\"\"b\"\"\nc\",2\nlast\n", &[(1, &["a,\"b\"\nc", "2"]), (3, &["last"])]),
            ("\"\"\"\"", &[(1, &["\""])]),
            ("", &[]),
        ];
        for (text, expected) in cases {
            let expected: Lines = expected
                .iter()
                .map(|(line, fields)| (*line, fields.iter().map(|f| (*f).to_owned()).collect()))
                .collect();
            assert_eq!(all(text).unwrap(), expected, "{text:?}");
        }
        assert_eq!(all("a\n\"b").unwrap_err().1, 2);
        assert_eq!(all("\"a\"b\n").unwrap_err().1, 1);
    }
}
