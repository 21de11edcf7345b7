//! What a parser did with the tokens of a statement: which it took as names, and what it could have taken at the end of the text.

use std::cell::RefCell;
use std::collections::BTreeSet;

/// The notes of one parser, where somebody wants them.
#[derive(Debug, Default)]
pub(super) struct Trace(Option<Box<RefCell<Noted>>>);

#[derive(Clone, Debug, Default)]
pub(super) struct Noted {
    /// The tokens that were taken as names, by their numbers.
    pub(super) names: BTreeSet<usize>,
    /// The words that were looked for where the text ends.
    pub(super) words: BTreeSet<String>,
    /// What kinds of names were looked for there, as messages call them.
    pub(super) wanted: BTreeSet<&'static str>,
}

impl Trace {
    /// Notes what the parser looks for.
    pub(super) fn on() -> Self {
        Self(Some(Box::default()))
    }

    /// Notes that a token was taken as a name.
    pub(super) fn name(&self, token: usize) {
        if let Some(noted) = &self.0 {
            noted.borrow_mut().names.insert(token);
        }
    }

    /// Notes a keyword that may stand here.
    #[cold]
    pub(super) fn word(&self, word: &str) {
        if let Some(noted) = &self.0 {
            noted.borrow_mut().words.insert(word.to_owned());
        }
    }

    /// Notes what kind of name may stand here.
    #[cold]
    pub(super) fn wanted(&self, what: &'static str) {
        if let Some(noted) = &self.0 {
            noted.borrow_mut().wanted.insert(what);
        }
    }

    /// Whether notes are taken.
    pub(super) fn is_on(&self) -> bool {
        self.0.is_some()
    }

    /// The notes.
    pub(super) fn taken(self) -> Noted {
        self.0.map(|noted| noted.into_inner()).unwrap_or_default()
    }
}
