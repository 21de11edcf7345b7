//! CSV text cut into records and fields (RFC 4180): quoted fields with delimiters, line ends and doubled quotes; LF or CRLF.
//!
//! A general CSV crate does not tell `""`, which is empty text, from an empty field, which is NULL; so the cut is made here.

use super::problem::Problem;

/// A field as it stands in the text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Field<'a> {
    /// The text between the quotes or delimiters; doubled quotes are still doubled.
    raw: &'a str,
    pub(super) quoting: Quoting,
}

/// Whether a field stands in quotes.
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
        while let Some(at) = rest.find("\"\"") {
            scratch.push_str(&rest[..=at]);
            rest = &rest[at + 2..];
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
    delimiter: u8,
}

impl<'a> Records<'a> {
    pub(super) fn new(text: &'a str, delimiter: u8) -> Self {
        Self { text, at: 0, line: 1, delimiter }
    }

    /// Passes over whole lines.
    pub(super) fn skip_lines(&mut self, lines: u64) {
        for _ in 0..lines {
            let Some(end) = memchr::memchr(b'\n', &self.text.as_bytes()[self.at..]) else {
                self.at = self.text.len();
                return;
            };
            self.at += end + 1;
            self.line += 1;
        }
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
            let field = if bytes.get(self.at) == Some(&b'"') { self.quoted(line)? } else { self.bare() };
            fields.push(field);
            match self.text.as_bytes().get(self.at) {
                Some(byte) if *byte == self.delimiter => self.at += 1,
                Some(b'\n') => {
                    self.at += 1;
                    self.line += 1;
                    return Ok(Some(line));
                }
                Some(b'\r') => {
                    self.at += if self.text.as_bytes().get(self.at + 1) == Some(&b'\n') { 2 } else { 1 };
                    self.line += 1;
                    return Ok(Some(line));
                }
                Some(_) => return Err((Problem::TextBehindQuote, self.line)),
                None => return Ok(Some(line)),
            }
        }
    }

    fn bare(&mut self) -> Field<'a> {
        let rest = &self.text.as_bytes()[self.at..];
        let length = memchr::memchr3(self.delimiter, b'\n', b'\r', rest).unwrap_or(rest.len());
        let raw = &self.text[self.at..self.at + length];
        self.at += length;
        Field { raw, quoting: Quoting::Bare }
    }

    fn quoted(&mut self, line: u64) -> Result<Field<'a>, (Problem, u64)> {
        let start = self.at + 1;
        let mut at = start;
        let mut quoting = Quoting::Quoted;
        let bytes = self.text.as_bytes();
        loop {
            let Some(end) = memchr::memchr(b'"', &bytes[at..]) else { return Err((Problem::UnclosedQuote, line)) };
            at += end;
            if bytes.get(at + 1) != Some(&b'"') {
                break;
            }
            quoting = Quoting::Doubled;
            at += 2;
        }
        let raw = &self.text[start..at];
        self.line += memchr::memchr_iter(b'\n', raw.as_bytes()).count() as u64;
        self.at = at + 1;
        Ok(Field { raw, quoting })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Records with the lines they begin on.
    type Lines = Vec<(u64, Vec<String>)>;

    fn all(text: &str) -> Result<Lines, (String, u64)> {
        let mut records = Records::new(text, b',');
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
