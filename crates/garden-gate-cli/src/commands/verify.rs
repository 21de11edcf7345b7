use crate::args::Verify;
use crate::{CliError, Exit, output, setup};
use garden_gate_view as view;
use std::io::Write;

/// Looks at every table; fails when one is damaged or breaks its constraints.
pub(crate) fn verify(arguments: &Verify) -> Result<Exit, CliError> {
    if arguments.common.db.is_none() {
        return Err(CliError::Usage("verify looks at a database file: give --db FILE".into()));
    }
    let session = setup::looking_session(&arguments.common)?;
    let checks = session.verify();
    let mut out = std::io::stdout().lock();
    for check in &checks {
        let rows = if check.rows == 1 { "row" } else { "rows" };
        let state = if check.problem.is_some() { "problems found" } else { "intact" };
        let (schema, name) = (view::visible(&check.schema), view::visible(&check.name));
        writeln!(out, "{schema}.{name}: {} {rows}, {state}", check.rows)?;
    }
    let problems: Vec<_> = checks.iter().filter_map(|check| check.problem.as_ref()).collect();
    for problem in &problems {
        write!(std::io::stderr(), "{}", view::error(problem, output::error_look()))?;
    }
    Ok(if problems.is_empty() { Exit::Success } else { Exit::Failure })
}
