//! Errors and notes as data: a code, a place in the text, a message, help. Nothing here draws; see `garden-gate-view`.

mod constraint;
mod counted;
mod error;
mod guard;
mod note;
mod source;
mod sqlstate;
mod suggest;

pub use constraint::{BrokenConstraint, ConstraintKind};
pub use counted::counted;
pub use error::Facts;
pub use error::{DataPlace, Error, Label, Result};
pub use guard::{caught, panic_is_caught};
pub use note::Note;
pub use source::{IntoSource, Position, SourceText, Span};
pub use sqlstate::SqlState;
pub use suggest::{nearest, sentence_list, suggestion};
