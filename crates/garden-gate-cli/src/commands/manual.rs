use crate::args::{Arguments, Manual};
use crate::{CliError, Exit};
use clap::CommandFactory;

/// Writes a page of the manual for the tool and for each command.
pub(crate) fn manual(arguments: &Manual) -> Result<Exit, CliError> {
    std::fs::create_dir_all(&arguments.to)?;
    clap_mangen::generate_to(Arguments::command(), &arguments.to)?;
    Ok(Exit::Success)
}
