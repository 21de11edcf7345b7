//! Guided examples on the demo garden.

mod walk;

use crate::args::Demo;
use crate::output::{self, READABLE};
use crate::shell::{self, Audience, Beginning, Place, Runner, Shared};
use crate::{CliError, Exit, garden, interrupt};
use garden_gate::inspect::CheckFile;
use garden_gate::{Database, Parameters, Session};
use garden_gate_view as view;
use std::io::{self, Write};
use std::path::Path;
use std::sync::{Arc, Mutex};
use walk::{Part, Walk};

/// What the prompt calls the database.
const DATABASE: &str = "garden";

/// The file of a check.
const CHECK: &str = "garden.check.toml";
/// What a reader may do next.
const GO_ON: [(&str, &str); 3] = [
    ("garden-gate demo nulls", "another chapter: look, nulls, joins, steps, recursion, plans, time, files, checks"),
    ("garden-gate demo shell", "type your own questions"),
    ("garden-gate demo --to garden", "write these tables as CSV files"),
];

/// Writes the demo data to a folder, or loads it and walks through the work.
pub(crate) fn demo(arguments: &Demo) -> Result<Exit, CliError> {
    if let Some(folder) = &arguments.to {
        let mut out = io::stdout().lock();
        for (name, rows) in garden::write(arguments.scale, folder)? {
            writeln!(out, "{}  {rows} rows", folder.join(format!("{name}.csv")).display())?;
        }
        return Ok(Exit::Success);
    }
    let folder = tempfile::Builder::new().prefix("garden-gate-demo-").tempdir()?;
    garden::write(arguments.scale, folder.path())?;
    match Walk::of(arguments.topic) {
        Some(walk) => shown(&walk, arguments, folder.path())?,
        None => return try_it(folder),
    }
    Ok(Exit::Success)
}

/// Shows a walk: its words, what could be typed, and what that comes to.
fn shown(walk: &Walk, arguments: &Demo, folder: &Path) -> Result<(), CliError> {
    // A file that a statement names is one of the garden.
    std::env::set_current_dir(folder)?;
    // A walk that makes tables of its own has those of the files in a schema beside them.
    let mut session = garden_session(Path::new("."), walk.setup.map(|_| "raw"))?;
    // The plans are the same on every machine.
    session.set("workers", 1)?;
    if let Some(setup) = walk.setup {
        session.run(setup)?;
    }
    let pending = interrupt::listen(session.interrupt());
    let session: Shared = Arc::new(Mutex::new(session));
    let mut runner = Runner::new(session, Parameters::new(), pending, Audience::Shown);
    let place = Place::new(DATABASE, garden_gate::source::DEFAULT_SCHEMA, false);
    let look = output::look();
    say(&look.heading(&walk.title))?;
    if arguments.scale > 1 {
        say(&format!("The words speak of the garden as it is, not of one {} times as large.", arguments.scale))?;
    }
    let (mut number, mut is_below) = (0, false);
    for part in &walk.parts {
        if std::mem::replace(&mut is_below, matches!(part, Part::Typed(_) | Part::Check(_)))
            && matches!(part, Part::Words(_))
        {
            say("")?;
        }
        match part {
            Part::Heading(heading) => {
                number += 1;
                say(&format!("\n{}", look.heading(format!("{number}. {heading}"))))?;
            }
            Part::Words(words) => say(&view::paragraphs(words, READABLE.min(look.width.unwrap_or(READABLE))))?,
            Part::Typed(text) => {
                for typed in shell::typed_in(text) {
                    say(format!("\n{}", place.typed(&typed)).trim_end())?;
                    runner.line(&typed)?;
                }
            }
            Part::Check(text) => {
                let indented: String =
                    text.lines().map(|line| format!("    {line}").trim_end().to_owned() + "\n").collect();
                say(&format!("\n{indented}"))?;
                std::fs::write(CHECK, text)?;
                let report = CheckFile::read(CHECK)?.run(&Database::in_memory(), &[])?;
                say(&view::check_report(&report, look))?;
            }
        }
    }
    let rest = GO_ON.iter().map(|(command, what)| format!("    {command:<36}{what}\n"));
    say(&format!("\nTo go on by yourself:\n{}", rest.collect::<String>().trim_end()))
}

fn say(text: &str) -> Result<(), CliError> {
    let mut out = io::stdout().lock();
    writeln!(out, "{text}")?;
    Ok(out.flush()?)
}

/// The shell on the demo data, which keeps nothing of what is typed.
fn try_it(folder: tempfile::TempDir) -> Result<Exit, CliError> {
    let mut session = garden_session(folder.path(), None)?;
    // The rows of its files are in memory.
    folder.close()?;
    shell::limit_time(&mut session)?;
    let (parameters, database) = (Parameters::new(), DATABASE.to_owned());
    shell::converse(Beginning { session, parameters, database, keeps_history: false })
}

/// A session over the tables of a folder.
fn garden_session(folder: &Path, schema: Option<&str>) -> Result<Session, CliError> {
    let db = Database::in_memory();
    db.add_folder(schema, folder)?;
    let mut session = db.session();
    session.allow_folder(folder)?;
    session.allow_writing(folder)?;
    Ok(session)
}
