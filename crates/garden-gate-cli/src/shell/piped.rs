//! Statements and commands that come from a pipe or a file.

use super::command::Line;
use super::run::{Next, Runner};
use crate::{CliError, Exit};
use garden_gate::typing::Typed;
use std::io::{self, BufRead};

/// What is typed in a text: each statement or command, with its lines.
pub(crate) fn typed_in(text: &str) -> Vec<String> {
    let (mut found, mut open) = (Vec::new(), String::new());
    for line in text.lines() {
        open.push_str(line);
        open.push('\n');
        if Line::is_complete(&open) {
            found.push(std::mem::take(&mut open));
        }
    }
    found.extend((!open.trim().is_empty()).then_some(open));
    found
}

/// Runs each statement when it is there. A script that is piped in has failed when one of its statements has.
pub(super) fn run(mut runner: Runner) -> Result<Exit, CliError> {
    let mut text = String::new();
    for line in io::stdin().lock().lines() {
        text.push_str(&line?);
        text.push('\n');
        if !Line::is_complete(&text) {
            continue;
        }
        if runner.line(&std::mem::take(&mut text))? == Next::Leave {
            break;
        }
    }
    if Typed::of(&text) == Typed::Unfinished {
        super::say("not run: the statement has no ; at its end")?;
        runner.fail();
    }
    runner.leave()?;
    Ok(runner.ending())
}
