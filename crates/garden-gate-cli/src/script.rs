//! SQL text that comes in pieces: each statement of standard input is run when it is there, not when the input ends.

use garden_gate::{SourceText, value::Typed};
use std::io::{self, BufRead};
use std::sync::Arc;

/// The statements of a stream, a text of one or more at a time.
pub(crate) struct Pieces<R> {
    input: R,
    /// Lines given out so far.
    lines: usize,
    is_first: bool,
}

impl<R: BufRead> Pieces<R> {
    /// A text whose statements run as they are read.
    pub(crate) fn new(input: R) -> Self {
        Self { input, lines: 0, is_first: true }
    }

    /// The next text that ends with a semicolon, or what is left.
    fn next_text(&mut self) -> io::Result<Option<String>> {
        let mut text = String::new();
        let mut line = Vec::new();
        // Looking for the end of a long statement again at each of its lines would take the square of its length.
        let mut next_look = 0;
        loop {
            line.clear();
            if self.input.read_until(b'\n', &mut line)? == 0 {
                return Ok((!text.is_empty()).then_some(text));
            }
            if std::mem::take(&mut self.is_first) && line.starts_with(b"\xef\xbb\xbf") {
                line.drain(..3);
            }
            let read = std::str::from_utf8(&line)
                .map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "standard input is not UTF-8 text"))?;
            text.push_str(read);
            if read.contains(';') && text.len() >= next_look {
                if Typed::of(&text) == Typed::Finished {
                    return Ok(Some(text));
                }
                next_look = text.len() + text.len() / 8;
            }
        }
    }
}

impl<R: BufRead> Iterator for Pieces<R> {
    type Item = io::Result<Arc<SourceText>>;

    fn next(&mut self) -> Option<Self::Item> {
        let text = self.next_text().transpose()?;
        Some(text.map(|text| {
            let first = self.lines + 1;
            self.lines += text.bytes().filter(|byte| *byte == b'\n').count();
            SourceText::from_line(first, text)
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn statements_come_as_soon_as_they_are_there() {
        let input = "SELECT 1;\nSELECT 'a;\nb' -- c;\n;\n\nSELECT 2; SELECT 3\n";
        let texts: Vec<(String, usize)> = Pieces::new(input.as_bytes())
            .map(|text| text.map(|text| (text.text().to_owned(), text.first_line())).unwrap())
            .collect();
        let expected = [("SELECT 1;\n", 1), ("SELECT 'a;\nb' -- c;\n;\n", 2), ("\nSELECT 2; SELECT 3\n", 5)];
        assert_eq!(texts, expected.map(|(text, line)| (text.to_owned(), line)));
    }
}
