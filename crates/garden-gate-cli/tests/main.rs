//! The tool from outside: arguments and files in; standard output, standard error and exit status out.
#![expect(clippy::unwrap_used, reason = "a test stops at what it does not expect")]

mod commands;
mod durable;
mod files;
mod formatting;
mod guide;
mod inspect;
mod language_server;
mod limits;
mod shell;
mod terminal;
mod tool;
