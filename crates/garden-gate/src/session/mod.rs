//! The story of a statement, start to end: [`statement`] reads on one page.

mod access;
mod add_table;
mod alter;
mod analyze;
mod change;
mod change_plan;
mod constraints;
#[cfg(test)]
mod crash;
mod database;
mod deferred;
mod definition;
mod delta;
mod dependents;
mod describe;
mod direct;
mod direct_lookup;
mod domain;
mod duplicates;
mod export;
mod files;
mod index;
mod last_query;
mod load;
mod objects;
mod outcome;
mod plan_notes;
mod prepared;
mod progress;
mod referential;
mod result_set;
mod script;
#[expect(clippy::module_inception, reason = "the session is what this layer is called after")]
mod session;
mod settings;
mod statement;
mod table_definition;
mod temporary;
mod transaction;
mod unique_index;
mod verify;
mod writer;

pub use database::Database;
pub use describe::{ColumnFacts, ConstraintFacts, TableFacts};
pub use files::{is_table_file, table_name};
pub use outcome::Outcome;
pub use prepared::PreparedStatement;
pub use progress::Progress;
pub use result_set::{FromValue, ResultColumn, ResultSet, Row};
pub use script::Statements;
pub use session::Session;
pub(crate) use session::{Call, no_query};
pub use verify::TableCheck;
