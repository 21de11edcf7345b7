use crate::args::{Arguments, Completions};
use crate::{CliError, Exit};
use clap::CommandFactory;
use std::io::Write;

/// Prints the completions of the command line.
pub(crate) fn completions(arguments: &Completions) -> Result<Exit, CliError> {
    let mut script = Vec::new();
    clap_complete::generate(arguments.interpreter, &mut Arguments::command(), "garden-gate", &mut script);
    std::io::stdout().lock().write_all(&script)?;
    Ok(Exit::Success)
}
