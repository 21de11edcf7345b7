//! Places in a text: bytes here, lines and UTF-16 units in the protocol.

use lsp_types::{Position, Range};

/// The place of a byte. O(length).
pub(super) fn position(text: &str, at: usize) -> Position {
    let at = (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    let before = &text[..at];
    let line = before.rfind('\n').map_or(0, |end| end + 1);
    let count = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    Position::new(count(before.matches('\n').count()), count(before[line..].encode_utf16().count()))
}

pub(super) fn range(text: &str, range: std::ops::Range<usize>) -> Range {
    Range::new(position(text, range.start), position(text, range.end))
}

/// The byte of a place; a place past the end of its line is that end. O(length).
pub(super) fn byte(text: &str, position: Position) -> usize {
    let mut start = 0;
    for _ in 0..position.line {
        match text[start..].find('\n') {
            Some(end) => start += end + 1,
            None => return text.len(),
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_go_there_and_back() {
        let text = "a\näß𝄞b\n\nend";
        for at in (0..=text.len()).filter(|at| text.is_char_boundary(*at)) {
            assert_eq!(byte(text, position(text, at)), at);
        }
        assert_eq!(position(text, "a\näß𝄞".len()), Position::new(1, 4));
        assert_eq!(byte(text, Position::new(1, 99)), "a\näß𝄞b".len());
        assert_eq!(byte(text, Position::new(9, 0)), text.len());
    }
}
