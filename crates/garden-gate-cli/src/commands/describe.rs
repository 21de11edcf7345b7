use crate::args::{Describe, ReportFormat};
use crate::{CliError, Exit, output, setup};
use garden_gate_view as view;
use std::io::Write;

/// Shows all tables, or what is known of one.
pub(crate) fn describe(arguments: &Describe) -> Result<Exit, CliError> {
    let session = setup::looking_session(&arguments.common)?;
    let tables = session.describe(arguments.table.as_deref())?;
    let mut stdout = std::io::stdout().lock();
    let look = output::look();
    if arguments.output == ReportFormat::Json {
        for table in &tables {
            write!(stdout, "{}", view::describe_json(table))?;
        }
    } else if arguments.table.is_some() {
        for table in &tables {
            write!(stdout, "{}", view::describe(table, look))?;
        }
    } else {
        write!(stdout, "{}", view::tables(&tables, look))?;
    }
    Ok(Exit::Success)
}
