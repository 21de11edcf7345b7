//! The story of a statement, start to end: [`statement`] reads on one page.

mod database;
mod files;
mod outcome;
mod result_set;
#[expect(clippy::module_inception, reason = "the session is what this layer is called after")]
mod session;
mod settings;
mod statement;

pub use database::Database;
pub use outcome::Outcome;
pub use result_set::{FromValue, ResultColumn, ResultSet, Row};
pub use session::{Session, Statements};
