//! Guided examples on the demo garden.

mod time;
mod tour;

use crate::args::{Demo, Topic};
use crate::output::{self, READABLE};
use crate::shell::{self, Beginning};
use crate::{CliError, Exit, garden};
use garden_gate::{Database, Outcome, Parameters, Session, SourceText};
use garden_gate_view::{self as view, Look};
use std::io::{self, Write};
use std::path::Path;

/// What a step of the tour shows of its query.
#[derive(Clone, Copy, PartialEq)]
enum Show {
    Rows,
    /// The plan alone: nothing runs.
    Plan,
    /// The plan with what it did, and that it is the one that was predicted.
    Measured,
    /// The error.
    Mistake,
}

/// A walk through one part of the work.
struct Walk {
    /// What it is about, after "Garden Gate: ".
    title: &'static str,
    /// Statements that are run before the first step.
    setup: Option<&'static str>,
    steps: &'static [DemoStep],
}

impl Walk {
    /// The walk of a topic; none where the shell is asked for.
    fn of(topic: Topic) -> Option<Self> {
        Some(match topic {
            Topic::Shell => return None,
            Topic::Tour => Self { title: "a tour of Hollowmere Garden", setup: None, steps: tour::TOUR },
            Topic::Time => {
                Self { title: "the history of Hollowmere Garden", setup: Some(time::SETUP), steps: time::STEPS }
            }
        })
    }
}

struct DemoStep {
    title: &'static str,
    words: &'static str,
    sql: &'static str,
    show: Show,
}

/// Writes the demo data to a folder, or loads it and walks through the work.
pub(crate) fn demo(arguments: &Demo) -> Result<Exit, CliError> {
    let mut out = io::stdout().lock();
    if let Some(folder) = &arguments.to {
        for (name, rows) in garden::write(arguments.scale, folder)? {
            writeln!(out, "{}  {rows} rows", folder.join(format!("{name}.csv")).display())?;
        }
        return Ok(Exit::Success);
    }
    let Some(walk) = Walk::of(arguments.topic) else { return try_it(arguments.scale) };
    let mut session = garden_session(arguments.scale, walk.setup)?;
    let look = output::look();
    let look = look.wide(look.width.unwrap_or(READABLE).min(READABLE));
    writeln!(out, "Garden Gate: {}. All of it is made up.", walk.title)?;
    for (number, step) in walk.steps.iter().enumerate() {
        writeln!(out, "\n{}\n{}\n", look.heading(format!("{}. {}", number + 1, step.title)), step.words)?;
        for line in step.sql.lines() {
            writeln!(out, "{}", format!("    {line}").trim_end())?;
        }
        writeln!(out)?;
        write!(out, "{}", show(&mut session, step, look)?)?;
        out.flush()?;
    }
    writeln!(out, "\nTo go on by yourself:")?;
    writeln!(out, "    garden-gate demo --to garden          write these tables as CSV files")?;
    writeln!(out, "    garden-gate demo shell                type your own questions")?;
    writeln!(out, "    garden-gate plan --data garden -e \"SELECT …\" --measure")?;
    Ok(Exit::Success)
}

fn show(session: &mut Session, step: &DemoStep, look: Look) -> Result<String, CliError> {
    let none = Parameters::new();
    let source = SourceText::new(step.sql);
    Ok(match step.show {
        Show::Rows => match session.run(step.sql)?.into_iter().next_back().and_then(Outcome::rows) {
            Some(rows) => view::table(&rows, look),
            None => String::new(),
        },
        Show::Plan => view::plan_tree(&session.plan(step.sql, ())?, look),
        Show::Measured => {
            let predicted = session.plan(step.sql, ())?;
            let (rows, measured) = session.measure(&source, &none)?;
            let same = if predicted.fingerprint == measured.fingerprint {
                "The same plan as predicted."
            } else {
                "Another plan than predicted."
            };
            format!("{}\n{}{same}\n", view::table(&rows, look), view::plan_tree(&measured, look))
        }
        Show::Mistake => match session.run(step.sql) {
            Ok(_) => String::new(),
            Err(error) => view::error(&error, look),
        },
    })
}

/// The shell on the demo data, which keep nothing of what is typed.
fn try_it(scale: u32) -> Result<Exit, CliError> {
    let mut session = garden_session(scale, None)?;
    shell::limit_time(&mut session)?;
    let (parameters, database) = (Parameters::new(), "garden".to_owned());
    shell::converse(Beginning { session, parameters, database, keeps_history: false })
}

/// A session over the garden, whose files are gone again when its tables are read.
fn garden_session(scale: u32, setup: Option<&str>) -> Result<Session, CliError> {
    let folder = std::env::temp_dir().join(format!("garden-gate-demo-{}", std::process::id()));
    // A walk that makes tables of its own has those of the files in a schema beside them.
    let loaded = load(scale, &folder, setup.map(|_| "raw"));
    // Nothing is left after, whether loading went well or not.
    let _ = std::fs::remove_dir_all(&folder);
    let mut session = loaded?.session();
    if let Some(setup) = setup {
        session.run(setup)?;
    }
    Ok(session)
}

fn load(scale: u32, folder: &Path, schema: Option<&str>) -> Result<Database, CliError> {
    garden::write(scale, folder)?;
    let db = Database::in_memory();
    db.add_folder(schema, folder)?;
    Ok(db)
}
