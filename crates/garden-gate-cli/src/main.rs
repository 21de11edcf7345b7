//! `garden-gate`: runs SQL over files as tables, and shows the plans.

mod args;
mod args_examples;
mod commands;
mod completing;
mod destination;
mod garden;
mod interrupt;
mod language_server;
mod output;
mod private;
mod progress;
mod script;
mod setup;
mod shell;

use args::{Arguments, Command};
use clap::Parser;
use std::fmt;
use std::io::{self, Write};
use std::process::ExitCode;

/// Batches come and go on all workers: an allocator that keeps pages for the next one takes half the time of page faults away. What is
/// allocated is counted, so that memory limits hold for all of it.
#[global_allocator]
static ALLOCATOR: cap::Cap<mimalloc::MiMalloc> = cap::Cap::new(mimalloc::MiMalloc, usize::MAX);

/// How a command ended, short of wrong usage.
enum Exit {
    Success,
    /// A statement failed; it has been told.
    Failure,
}

/// Why a command could not do its work.
enum CliError {
    /// To be told on standard error.
    Gate(garden_gate::Error),
    /// The words of the command line do not fit together.
    Usage(String),
    Io(io::Error),
}

impl From<garden_gate::Error> for CliError {
    fn from(error: garden_gate::Error) -> Self {
        Self::Gate(error)
    }
}

impl From<io::Error> for CliError {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

impl fmt::Display for CliError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Gate(error) => {
                f.write_str(garden_gate_view::error(error, garden_gate_view::Look::plain()).trim_end())
            }
            Self::Usage(message) => f.write_str(message),
            Self::Io(error) => error.fmt(f),
        }
    }
}

/// Panics that become errors of statements are not shown as well.
fn hide_caught_panics() {
    let shown = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if !garden_gate::error::panic_is_caught() {
            shown(info);
        }
    }));
}

fn main() -> ExitCode {
    hide_caught_panics();
    match completing::answer() {
        Ok(true) => return ExitCode::SUCCESS,
        Ok(false) => {}
        Err(error) => {
            let _ = write!(io::stderr().lock(), "{error}");
            return ExitCode::FAILURE;
        }
    }
    let arguments = Arguments::parse();
    let outcome = match arguments.command {
        Command::Run(run) => commands::run::run(&run),
        Command::Plan(plan) => commands::plan::plan(&plan),
        Command::Steps(steps) => commands::inspect::steps(&steps),
        Command::Compare(compare) => commands::inspect::compare(&compare),
        Command::Sweep(sweep) => commands::inspect::sweep(&sweep),
        Command::Check(check) => commands::check::check(&check),
        Command::Describe(describe) => commands::describe::describe(&describe),
        Command::Verify(verify) => commands::verify::verify(&verify),
        Command::Compact(compact) => commands::compact::compact(&compact),
        Command::Shell(shell) => shell::shell(&shell),
        Command::LanguageServer(server) => language_server::serve(&server),
        Command::Format(format) => commands::format::format(&format),
        Command::Manual(manual) => commands::manual::manual(&manual),
        Command::Completions(completions) => commands::completions::completions(&completions),
        Command::Demo(demo) => commands::demo::demo(&demo),
    };
    let mut stderr = io::stderr().lock();
    match outcome {
        Ok(Exit::Success) => ExitCode::SUCCESS,
        Ok(Exit::Failure) => ExitCode::FAILURE,
        // The reader of a pipe has seen enough.
        Err(CliError::Io(error)) if error.kind() == io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(CliError::Io(error)) => {
            let _ = writeln!(stderr, "error: {error}");
            ExitCode::FAILURE
        }
        Err(CliError::Gate(error)) => {
            let _ = write!(stderr, "{}", garden_gate_view::error(&error, output::error_look()));
            ExitCode::FAILURE
        }
        Err(CliError::Usage(message)) => {
            let _ = writeln!(stderr, "error: {message}\n\nFor more information, try '--help'.");
            ExitCode::from(2)
        }
    }
}
