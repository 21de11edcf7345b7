use crate::args::Demo;
use crate::output::{self, READABLE};
use crate::{Ending, Trouble, garden};
use garden_gate::{Database, Parameters, Session, SourceText};
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

struct Step {
    title: &'static str,
    words: &'static str,
    sql: &'static str,
    show: Show,
}

const TOUR: &[Step] = &[
    Step {
        title: "Look",
        words: "Hollowmere Garden has 48 beds. What is in the table?",
        sql: "SELECT * FROM bed ORDER BY bed_id FETCH FIRST 6 ROWS ONLY",
        show: Show::Rows,
    },
    Step {
        title: "Filter, and count what is missing",
        words: "Beds in the shade, and beds not in the shade. Do the two make 48?",
        sql: "SELECT COUNT(*) AS not_in_shade FROM bed WHERE sun <> 'shade'",
        show: Show::Rows,
    },
    Step {
        title: "Rows lost to NULL",
        words: "Where nobody wrote down the sun, `sun <> 'shade'` is UNKNOWN, and WHERE keeps only TRUE.\nA measured plan counts all three.",
        sql: "SELECT COUNT(*) AS not_in_shade FROM bed WHERE sun <> 'shade'",
        show: Show::Measured,
    },
    Step {
        title: "Say what NULL should mean",
        words: "IS DISTINCT FROM is never UNKNOWN; CASE can name the gap.",
        sql: "SELECT COALESCE(sun, 'not known') AS sun, COUNT(*) AS beds, SUM(area_m2) AS area,\n       CASE WHEN AVG(area_m2) > 130 THEN 'large' ELSE 'small' END AS size\nFROM bed\nWHERE sun IS DISTINCT FROM 'shade'\nGROUP BY COALESCE(sun, 'not known')\nORDER BY beds DESC",
        show: Show::Rows,
    },
    Step {
        title: "Join and group",
        words: "Which beds take the work? One bed stands out.",
        sql: "SELECT b.name, b.bed_id, COUNT(*) AS tasks, SUM(t.hours) AS hours\nFROM task AS t JOIN bed AS b USING (bed_id)\nWHERE t.day >= DATE '2024-01-01' AND t.day < DATE '2024-01-01' + INTERVAL '12' MONTH\nGROUP BY b.name, b.bed_id\nORDER BY hours DESC\nFETCH FIRST 5 ROWS ONLY",
        show: Show::Rows,
    },
    Step {
        title: "Ask for the plan before it runs",
        words: "The same question with a gardener's name: how will it be worked out, and what should it cost?",
        sql: "SELECT g.name, COUNT(*) AS tasks, SUM(t.hours) AS hours\nFROM task AS t\nJOIN gardener AS g ON g.gardener_id = t.gardener_id\nJOIN bed AS b ON b.bed_id = t.bed_id\nWHERE b.bed_id = 7 AND t.kind = 'weeding'\nGROUP BY g.name\nORDER BY hours DESC\nFETCH FIRST 3 ROWS ONLY",
        show: Show::Plan,
    },
    Step {
        title: "Measure it",
        words: "The plan that is shown is the plan that runs: here it is again, with what each step did beside\nwhat was expected. One estimate is far off: the join takes bed 7 for an average bed, and nearly\nhalf of all work is done there.",
        sql: "SELECT g.name, COUNT(*) AS tasks, SUM(t.hours) AS hours\nFROM task AS t\nJOIN gardener AS g ON g.gardener_id = t.gardener_id\nJOIN bed AS b ON b.bed_id = t.bed_id\nWHERE b.bed_id = 7 AND t.kind = 'weeding'\nGROUP BY g.name\nORDER BY hours DESC\nFETCH FIRST 3 ROWS ONLY",
        show: Show::Measured,
    },
    Step {
        title: "Make a mistake",
        words: "A bare word where text was meant:",
        sql: "SELECT accession_no, donor\nFROM accession\nWHERE country = Norway",
        show: Show::Mistake,
    },
];

/// Writes the demo data to a folder, or loads it and walks through the work.
pub(crate) fn demo(arguments: &Demo) -> Result<Ending, Trouble> {
    let mut out = io::stdout().lock();
    if let Some(folder) = &arguments.to {
        for (name, rows) in garden::write(arguments.scale, folder)? {
            writeln!(out, "{}  {rows} rows", folder.join(format!("{name}.csv")).display())?;
        }
        return Ok(Ending::Success);
    }
    let mut session = garden_session(arguments.scale)?;
    let look = output::look();
    let look = look.wide(look.width.unwrap_or(READABLE).min(READABLE));
    writeln!(out, "Garden Gate: a tour of Hollowmere Garden. All of it is made up.")?;
    for (number, step) in TOUR.iter().enumerate() {
        writeln!(out, "\n{}\n{}\n", look.strong(format!("{}. {}", number + 1, step.title)), step.words)?;
        for line in step.sql.lines() {
            writeln!(out, "    {line}")?;
        }
        writeln!(out)?;
        write!(out, "{}", show(&mut session, step, look)?)?;
        out.flush()?;
    }
    writeln!(out, "\nTo go on by yourself:")?;
    writeln!(out, "    garden-gate demo --to garden          write these tables as CSV files")?;
    writeln!(out, "    garden-gate shell --data garden       type your own questions")?;
    writeln!(out, "    garden-gate plan --data garden -e \"SELECT …\" --measure")?;
    Ok(Ending::Success)
}

fn show(session: &mut Session, step: &Step, look: Look) -> Result<String, Trouble> {
    let none = Parameters::new();
    let source = SourceText::new(step.sql);
    Ok(match step.show {
        Show::Rows => view::table(&session.query(step.sql, ())?, look),
        Show::Plan => view::plan_tree(&session.plan(step.sql, ())?, look),
        Show::Measured => {
            let predicted = session.plan(step.sql, ())?;
            let (rows, measured) = session.measure_source(&source, &none)?;
            let same = if predicted.fingerprint == measured.fingerprint {
                "The same plan as predicted."
            } else {
                "Another plan than predicted."
            };
            format!("{}\n{}{same}\n", view::table(&rows, look), view::plan_tree(&measured, look))
        }
        Show::Mistake => match session.query(step.sql, ()) {
            Ok(rows) => view::table(&rows, look),
            Err(error) => view::error(&error, look),
        },
    })
}

/// A session over the garden, whose files are gone again when its tables are read.
fn garden_session(scale: u32) -> Result<Session, Trouble> {
    let folder = std::env::temp_dir().join(format!("garden-gate-demo-{}", std::process::id()));
    let loaded = load(scale, &folder);
    // Nothing is left behind, whether loading went well or not.
    let _ = std::fs::remove_dir_all(&folder);
    Ok(loaded?.session())
}

fn load(scale: u32, folder: &Path) -> Result<Database, Trouble> {
    garden::write(scale, folder)?;
    let db = Database::in_memory();
    db.add_folder(None, folder)?;
    Ok(db)
}
