//! A text that an editor has open.

use super::place::Lines;
use garden_gate::typing::{OutlineItem, TokenClass, outline, token_classes};
use lsp_types::{Location, Position, Uri};
use std::cell::OnceCell;
use std::ops::Range;

/// A text with what is worked out of it once.
#[derive(Debug)]
pub(super) struct Document {
    pub(super) uri: Uri,
    pub(super) text: String,
    pub(super) version: Option<i32>,
    lines: Lines,
    outline: OnceCell<Vec<OutlineItem>>,
    names: OnceCell<Vec<Range<usize>>>,
}

impl Document {
    /// A document as the client has it.
    pub(super) fn new(uri: Uri, text: String, version: Option<i32>) -> Self {
        let lines = Lines::of(&text);
        Self { uri, text, version, lines, outline: OnceCell::new(), names: OnceCell::new() }
    }

    /// The byte of a position.
    pub(super) fn byte(&self, position: Position) -> usize {
        self.lines.byte(&self.text, position)
    }

    /// The position of a byte.
    pub(super) fn position(&self, at: usize) -> Position {
        self.lines.position(&self.text, at)
    }

    /// The range of some bytes.
    pub(super) fn range(&self, range: Range<usize>) -> lsp_types::Range {
        self.lines.range(&self.text, range)
    }

    /// Where some bytes are.
    pub(super) fn location(&self, range: Range<usize>) -> Location {
        Location::new(self.uri.clone(), self.range(range))
    }

    /// The statements that can be read.
    pub(super) fn outline(&self) -> &[OutlineItem] {
        self.outline.get_or_init(|| outline(&self.text))
    }

    /// The statement at a place.
    pub(super) fn statement(&self, at: usize) -> Option<&OutlineItem> {
        self.outline().iter().find(|item| (item.span.range().start..=item.span.range().end).contains(&at))
    }

    /// Where names stand.
    pub(super) fn names(&self) -> &[Range<usize>] {
        self.names.get_or_init(|| {
            let names = token_classes(&self.text).into_iter().filter(|(_, class)| *class == TokenClass::Name);
            names.map(|(range, _)| range).collect()
        })
    }

    /// The name at a place, and its range.
    pub(super) fn name(&self, at: usize) -> Option<(Range<usize>, &str)> {
        let found = self.names().iter().find(|range| (range.start..=range.end).contains(&at))?.clone();
        Some((found.clone(), self.text.get(found)?))
    }

    /// The places of a name within a part of the text.
    pub(super) fn uses<'d>(&'d self, name: &'d str, within: Range<usize>) -> impl Iterator<Item = Range<usize>> + 'd {
        let same = move |range: &&Range<usize>| {
            within.contains(&range.start)
                && self.text.get((*range).clone()).is_some_and(|known| known.eq_ignore_ascii_case(name))
        };
        self.names().iter().filter(same).cloned()
    }
}
