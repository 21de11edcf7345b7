//! Places in a text: bytes here, lines and UTF-16 units in the protocol.

use lsp_types::{Position, Range};

/// Where the lines of a text begin, in bytes.
#[derive(Debug)]
pub(super) struct Lines(Vec<usize>);

impl Lines {
    /// O(length).
    pub(super) fn of(text: &str) -> Self {
        Self(std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect())
    }

    /// The place of a byte. O(log lines + length of its line).
    pub(super) fn position(&self, text: &str, at: usize) -> Position {
        let at = (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        let line = self.0.partition_point(|start| *start <= at).saturating_sub(1);
        let start = self.0.get(line).copied().unwrap_or(0);
        let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        Position::new(count(line), count(text[start..at].encode_utf16().count()))
    }

    /// The range of some bytes.
    pub(super) fn range(&self, text: &str, range: std::ops::Range<usize>) -> Range {
        Range::new(self.position(text, range.start), self.position(text, range.end))
    }

    /// The byte of a place; a place past the end of its line is that end. O(length of the line).
    pub(super) fn byte(&self, text: &str, position: Position) -> usize {
        let Some(start) = self.0.get(position.line as usize).copied() else { return text.len() };
        let line = text[start..].split('\n').next().unwrap_or_default();
        let mut units = 0;
        for (at, character) in line.char_indices() {
            if units >= position.character {
                return start + at;
            }
            units += u32::try_from(character.len_utf16()).unwrap_or(1);
        }
        start + line.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_go_there_and_back() {
        let text = "a\näß𝄞b\n\nend";
        let lines = Lines::of(text);
        for at in (0..=text.len()).filter(|at| text.is_char_boundary(*at)) {
            assert_eq!(lines.byte(text, lines.position(text, at)), at);
        }
        assert_eq!(lines.position(text, "a\näß𝄞".len()), Position::new(1, 4));
        assert_eq!(lines.byte(text, Position::new(1, 99)), "a\näß𝄞b".len());
        assert_eq!(lines.byte(text, Position::new(9, 0)), text.len());
    }
}
