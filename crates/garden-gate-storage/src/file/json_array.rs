//! A JSON file that holds one array of objects, read as JSON lines: each element on a line of its own. Works byte by byte on the way from the
//! file, so that an array of any length needs little memory. A file that does not begin with `[` comes through as it is.

use std::io::Read;

/// Bytes read at once.
const BLOCK: usize = 1 << 16;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    /// Only blanks so far.
    Start,
    /// No array.
    Plain,
    /// In the array; how many brackets are open inside it.
    Array(usize),
    /// In a text of the array.
    Text { depth: usize, escaped: bool },
    /// Behind the array.
    End,
}

pub(super) struct Elements<R> {
    inner: R,
    place: Place,
    out: Vec<u8>,
    given: usize,
    at_end: bool,
}

impl<R: Read> Elements<R> {
    /// The objects of an array, each on a line of its own.
    pub(super) fn new(inner: R) -> Self {
        Self { inner, place: Place::Start, out: Vec::new(), given: 0, at_end: false }
    }

    fn take(&mut self, bytes: &[u8]) {
        for byte in bytes {
            let (place, out) = self.place.after(*byte);
            self.place = place;
            self.out.extend(out);
        }
    }
}

impl Place {
    /// The place after a byte, and what is written for it.
    fn after(self, byte: u8) -> (Self, Option<u8>) {
        match (self, byte) {
            (Self::Start, b'[') => (Self::Array(0), None),
            // A byte order mark, and blanks.
            (Self::Start, b' ' | b'\t' | b'\r' | b'\n' | 0xEF | 0xBB | 0xBF) => (Self::Start, None),
            (Self::Start | Self::Plain, byte) => (Self::Plain, Some(byte)),
            (Self::Array(0), b',') => (self, Some(b'\n')),
            (Self::Array(0), b']') => (Self::End, Some(b'\n')),
            (Self::Array(depth), b'"') => (Self::Text { depth, escaped: false }, Some(byte)),
            (Self::Array(depth), b'{' | b'[') => (Self::Array(depth + 1), Some(byte)),
            (Self::Array(depth), b'}' | b']') => (Self::Array(depth.saturating_sub(1)), Some(byte)),
            // Line ends between the parts of an element are blanks.
            (Self::Array(0), b'\r' | b'\n') => (self, None),
            (Self::Array(_), b'\r' | b'\n') => (self, Some(b' ')),
            (Self::Array(_) | Self::End, byte) => (self, Some(byte)),
            (Self::Text { depth, escaped: true }, byte) => (Self::Text { depth, escaped: false }, Some(byte)),
            (Self::Text { depth, escaped: false }, b'"') => (Self::Array(depth), Some(byte)),
            (Self::Text { depth, escaped: false }, byte) => (Self::Text { depth, escaped: byte == b'\\' }, Some(byte)),
        }
    }
}

impl<R: Read> Read for Elements<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        while self.given == self.out.len() && !self.at_end {
            self.out.clear();
            self.given = 0;
            let mut block = vec![0; BLOCK];
            let count = self.inner.read(&mut block)?;
            self.at_end = count == 0;
            self.take(&block[..count]);
        }
        let count = buffer.len().min(self.out.len() - self.given);
        buffer[..count].copy_from_slice(&self.out[self.given..self.given + count]);
        self.given += count;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_element_is_a_line() {
        for (text, wanted) in [
            (r#"[{"a":1},{"a":[2,3]}]"#, "{\"a\":1}\n{\"a\":[2,3]}\n"),
            (
                "\u{feff} [\n {\"a\":\n \"],{\\\"\"} ,\r\n {\"b\": {\"c\": [ ]}}\n]\n",
                " {\"a\":  \"],{\\\"\"} \n {\"b\": {\"c\": [ ]}}\n\n",
            ),
            ("{\"a\":1}\n{\"a\":2}\n", "{\"a\":1}\n{\"a\":2}\n"),
            ("[]", "\n"),
            ("", ""),
        ] {
            let mut out = String::new();
            Elements::new(text.as_bytes()).read_to_string(&mut out).unwrap();
            assert_eq!(out, wanted, "{text}");
        }
    }
}
