//! Errors and notes as data: a code, a place in the text, a message, help. Nothing here draws; see `garden-gate-view`.

mod error;
mod note;
mod source;
mod sqlstate;
mod suggest;

pub(crate) use error::Facts;
pub use error::{DataPlace, Error, Label, Result};
pub use note::Note;
pub use source::{Position, SourceText, Span};
pub use sqlstate::SqlState;
pub(crate) use suggest::{nearest, sentence_list, suggestion};
