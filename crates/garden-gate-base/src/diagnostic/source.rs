use std::sync::Arc;

/// A half-open range of bytes in a [`SourceText`].
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Span {
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// The bytes from `start` up to, but without, `end`.
    pub fn new(start: usize, end: usize) -> Self {
        // Statements past 4 GB are cut short in messages, nowhere else.
        let place = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        Self { start: place(start), end: place(end) }
    }

    /// The smallest span that holds both.
    pub fn to(self, other: Self) -> Self {
        Self { start: self.start.min(other.start), end: self.end.max(other.end) }
    }

    /// The span as a range for slicing the text.
    pub fn range(self) -> std::ops::Range<usize> {
        self.start as usize..self.end as usize
    }
}

/// A place as people count it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Position {
    /// Line, from 1.
    pub line: usize,
    /// Character in the line, from 1.
    pub column: usize,
}

/// SQL text and where it came from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceText {
    name: Option<String>,
    text: String,
    /// Lines that come before it in the text that it is a part of.
    lines_before: usize,
}

impl SourceText {
    /// Text without a name, as given in a call or on a command line.
    pub fn new(text: impl Into<String>) -> Arc<Self> {
        Arc::new(Self { name: None, text: text.into(), lines_before: 0 })
    }

    /// Text with the name of the file it was read from.
    pub fn named(name: impl Into<String>, text: impl Into<String>) -> Arc<Self> {
        Arc::new(Self { name: Some(name.into()), text: text.into(), lines_before: 0 })
    }

    /// A part of a longer text, which begins with this line of it, counted from 1.
    pub fn from_line(line: usize, text: impl Into<String>) -> Arc<Self> {
        Arc::new(Self { name: None, text: text.into(), lines_before: line.saturating_sub(1) })
    }

    /// The number of its first line, 1 unless it is a part of a longer text.
    pub fn first_line(&self) -> usize {
        self.lines_before + 1
    }

    /// The file's name, if it has one.
    pub fn name(&self) -> Option<&str> {
        self.name.as_deref()
    }

    /// The entire text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The text of a span; empty when the span does not lie in this text.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.range()).unwrap_or("")
    }

    /// Line and column of the span's first character. O(bytes before it): computed when shown, never stored.
    pub fn position(&self, span: Span) -> Position {
        let before = self.text.get(..span.start as usize).unwrap_or(&self.text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Position {
            line: before.bytes().filter(|byte| *byte == b'\n').count() + self.first_line(),
            column: before[line_start..].chars().count() + 1,
        }
    }
}

/// A text of SQL that a call takes: a string, or a [`SourceText`], which may have a name that errors show.
pub trait IntoSource {
    /// The text with its name.
    fn into_source(self) -> Arc<SourceText>;
}

impl IntoSource for &str {
    fn into_source(self) -> Arc<SourceText> {
        SourceText::new(self)
    }
}

impl IntoSource for &&str {
    fn into_source(self) -> Arc<SourceText> {
        SourceText::new(*self)
    }
}

impl IntoSource for String {
    fn into_source(self) -> Arc<SourceText> {
        SourceText::new(self)
    }
}

impl IntoSource for &String {
    fn into_source(self) -> Arc<SourceText> {
        SourceText::new(self)
    }
}

impl IntoSource for Arc<SourceText> {
    fn into_source(self) -> Arc<SourceText> {
        self
    }
}

impl IntoSource for &Arc<SourceText> {
    fn into_source(self) -> Arc<SourceText> {
        Arc::clone(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_count_characters() {
        let source = SourceText::new("SELECT 'é',\n  sunn");
        let span = Span::new(15, 19);
        assert_eq!(source.slice(span), "sunn");
        assert_eq!(source.position(span), Position { line: 2, column: 3 });
        assert_eq!(source.position(Span::new(11, 12)), Position { line: 1, column: 11 });
    }
}
