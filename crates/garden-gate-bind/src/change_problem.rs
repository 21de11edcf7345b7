use crate::diagnostic::{Facts, SqlState, counted, sentence_list};
use crate::types::SqlType;

/// What can be wrong with a statement that changes rows or defines a table.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChangeProblem {
    #[error("{table} holds rows of a file or a program, and can't be changed")]
    NotStored { table: String },
    #[error("{name} is a view: {what} needs its table")]
    IsView { name: String, what: &'static str },
    #[error("rows can't be changed through view {name:?}: {reason}")]
    NotUpdatable { name: String, reason: &'static str },
    #[error("column {column:?} of view {view:?} is computed from others")]
    ComputedColumn { column: String, view: String },
    #[error("{} for {}", counted(*given, "value"), counted(*wanted, "column"))]
    Width { given: usize, wanted: usize, columns: Vec<String> },
    #[error("column {column:?} is {to}, the value is {from}")]
    NotAssignable { column: String, from: SqlType, to: SqlType },
    #[error("column {column:?} appears twice")]
    ColumnTwice { column: String },
    #[error("column {column:?} is generated, and takes only DEFAULT")]
    Generated { column: String },
    #[error("column {column:?} is numbered by the database, and takes only DEFAULT")]
    IdentityAlways { column: String },
    #[error("column {column:?} is GENERATED ALWAYS AS IDENTITY: UPDATE sets it only to DEFAULT")]
    IdentitySet { column: String },
    #[error("column {column:?} is filled by the database with the times of commits")]
    PeriodOfSystem { column: String },
    #[error("FOR PORTION OF is about periods that rows give: system time is past, and stays as it was")]
    SystemTimePortion,
    #[error("column {column:?} is an end of the period: FOR PORTION OF sets it")]
    PortionEnd { column: String },
    #[error("{what} can't hold a query")]
    Subquery { what: &'static str },
    #[error("a file with the columns {found} does not fit the table")]
    FileColumns { found: String, wanted: Vec<String> },
}

impl Facts for ChangeProblem {
    fn state(&self) -> SqlState {
        SqlState::SYNTAX_OR_RULE
    }

    fn help(&self) -> Option<String> {
        Some(match self {
            Self::NotStored { table } => {
                format!("CREATE TABLE my_{table} AS SELECT * FROM {table} makes a table of them that can")
            }
            Self::Width { columns, .. } => format!("the columns are {}", sentence_list(columns)),
            Self::NotAssignable { to, .. } => format!("CAST(… AS {to}) turns the value into one"),
            Self::NotUpdatable { .. } => "change the rows of its tables instead".into(),
            Self::ComputedColumn { .. } => "name the columns that are to have values, without it".into(),
            Self::IdentityAlways { .. } => {
                "leave the column out, or write OVERRIDING SYSTEM VALUE before VALUES".into()
            }
            Self::IdentitySet { column } => format!("SET {column} = DEFAULT takes the next number"),
            Self::PeriodOfSystem { .. } => {
                "leave the column out: a row begins with the commit that makes it, and ends with the next change".into()
            }
            Self::SystemTimePortion => "UPDATE or DELETE without it changes the current rows".into(),
            Self::PortionEnd { .. } => {
                "leave the column out of SET; FROM and TO say where the changed row starts and ends".into()
            }
            Self::Generated { .. } => "leave the column out: it is computed from the others".into(),
            Self::FileColumns { wanted, .. } => {
                format!("name the columns in the order of the file: INSERT INTO t ({}) FROM FILE …", wanted.join(", "))
            }
            Self::IsView { .. } | Self::ColumnTwice { .. } | Self::Subquery { .. } => return None,
        })
    }
}
