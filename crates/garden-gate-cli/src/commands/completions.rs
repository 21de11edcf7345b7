use crate::args::Completions;
use crate::{CliError, Exit, completing};
use std::io::Write;

/// Prints what tells a command interpreter to ask for completions.
pub(crate) fn completions(arguments: &Completions) -> Result<Exit, CliError> {
    let script = completing::registration(&arguments.interpreter.to_string())?;
    std::io::stdout().lock().write_all(&script)?;
    Ok(Exit::Success)
}
