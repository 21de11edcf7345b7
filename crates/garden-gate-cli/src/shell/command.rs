//! The shell's own commands: words at the beginning of what is typed.

use garden_gate::typing::Typed;

/// A command of the shell.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Command {
    Help,
    Leave,
    /// Of the statement that follows, or of the one before.
    Plan {
        measure: bool,
        sql: Option<String>,
    },
    /// Whether queries from now on show their plan beside their rows.
    Beside(bool),
    Steps(Option<String>),
    /// The query before beside this one.
    Compare(String),
    /// A table, or all.
    Describe(Option<String>),
    /// A step of the query before.
    RunStep(String),
    Save {
        what: Saved,
        path: String,
    },
    /// The last result in the pager.
    Page,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Saved {
    Result,
    Query,
    Session,
}

/// What a line is.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Line {
    Sql,
    Command(Command),
    /// A command whose rest is not understood: how it is written.
    Wrong(&'static str),
    /// A word alone that begins no statement, and the command that was perhaps meant.
    Unknown {
        word: String,
        near: Option<&'static str>,
    },
}

/// Every command with what it does, as `help` lists them.
pub(super) const COMMANDS: [(&str, &str); 13] = [
    ("help", "this list"),
    ("plan [statement;]", "the plan of a statement, or of the one before"),
    ("plan measure [statement;]", "its plan with what it did"),
    ("rows with plan, rows alone", "whether a query shows what its plan did beside its rows"),
    ("steps [query;]", "the rows of each step of a query"),
    ("run step NAME", "one step of the query before"),
    ("compare with query;", "the query before beside this one: rows and plans"),
    ("describe [TABLE]", "the tables, or what is known of one"),
    ("page", "the last result on a screen of its own"),
    ("save as FILE", "the last result; a .sql file gets the last query"),
    ("save query as FILE", "the last query"),
    ("save session as FILE", "all statements that have run, as a script"),
    ("exit, quit", "leave; so does Ctrl-D on an empty line"),
];

/// Words that begin statements.
const STATEMENTS: [&str; 26] = [
    "ALTER",
    "ANALYZE",
    "COMMENT",
    "COMMIT",
    "CREATE",
    "DELETE",
    "DROP",
    "FROM",
    "INSERT",
    "LET",
    "MERGE",
    "RELEASE",
    "ROLLBACK",
    "SAVEPOINT",
    "SELECT",
    "SET",
    "SHOW",
    "START",
    "TABLE",
    "TRUNCATE",
    "UPDATE",
    "VALUES",
    "WITH",
    "EXPLAIN",
    "BEGIN",
    "CALL",
];

/// A text without the words it begins with.
fn after<'t>(text: &'t str, words: &[&str]) -> Option<&'t str> {
    words.iter().try_fold(text.trim_start(), |rest, word| {
        let (start, after) = rest.split_at_checked(word.len())?;
        let ends = after.chars().next().is_none_or(|c| !c.is_alphanumeric() && c != '_');
        (start.eq_ignore_ascii_case(word) && ends).then(|| after.trim_start())
    })
}

/// The rest of a command as it is written, without a semicolon at its end.
fn rest(text: &str) -> Option<String> {
    let text = text.trim().trim_end_matches(';').trim();
    (!text.is_empty()).then(|| text.to_owned())
}

/// The statement after a command; nothing when there is none.
fn sql(text: &str) -> Option<String> {
    (Typed::of(text) != Typed::Nothing).then(|| text.to_owned())
}

impl Line {
    /// What a line is: a command of the shell, or the beginning of a statement.
    pub(super) fn of(text: &str) -> Self {
        if let Some(command) = Command::of(text) {
            return command;
        }
        let word = text.trim().trim_end_matches(';').trim();
        let is_alone = !word.is_empty() && word.chars().all(char::is_alphabetic);
        if !is_alone || STATEMENTS.iter().any(|known| word.eq_ignore_ascii_case(known)) {
            return Self::Sql;
        }
        let first = |name: &'static str| name.split([' ', ',']).next().unwrap_or(name);
        let names = COMMANDS.iter().map(|(name, _)| first(name)).chain(["quit", "exit"]);
        let near = garden_gate::typing::nearest_word(&word.to_lowercase(), names);
        Self::Unknown { word: word.to_owned(), near }
    }

    /// Whether Enter sends a text off.
    pub(crate) fn is_complete(text: &str) -> bool {
        match Self::of(text) {
            Self::Sql => matches!(Typed::of(text), Typed::Finished | Typed::Nothing),
            Self::Command(Command::Plan { sql: Some(sql), .. } | Command::Steps(Some(sql)) | Command::Compare(sql)) => {
                Typed::of(&sql) == Typed::Finished
            }
            Self::Command(_) | Self::Wrong(_) | Self::Unknown { .. } => true,
        }
    }
}

impl Command {
    fn of(text: &str) -> Option<Line> {
        let command = |command| Some(Line::Command(command));
        let alone = |words: &[&str]| after(text, words).is_some_and(|after| rest(after).is_none());
        if ["exit", "quit"].iter().any(|word| alone(&[word])) {
            return command(Self::Leave);
        }
        if after(text, &["help"]).is_some() {
            return command(Self::Help);
        }
        if let Some(statement) = after(text, &["plan", "measure"]) {
            return command(Self::Plan { measure: true, sql: sql(statement) });
        }
        if let Some(statement) = after(text, &["plan"]) {
            return command(Self::Plan { measure: false, sql: sql(statement) });
        }
        for (words, beside) in [(["rows", "with", "plan"].as_slice(), true), (&["rows", "alone"], false)] {
            if alone(words) {
                return command(Self::Beside(beside));
            }
        }
        if after(text, &["rows"]).is_some() {
            return Some(Line::Wrong("rows with plan, rows alone"));
        }
        if let Some(query) = after(text, &["steps"]) {
            return command(Self::Steps(sql(query)));
        }
        if let Some(query) = after(text, &["compare"]) {
            let query = after(query, &["with"]).and_then(sql);
            return Some(query.map_or(Line::Wrong("compare with query;"), |query| Line::Command(Self::Compare(query))));
        }
        if let Some(table) = after(text, &["describe"]) {
            return command(Self::Describe(rest(table)));
        }
        if let Some(step) = after(text, &["run"]) {
            let step = after(step, &["step"]).and_then(rest);
            return Some(step.map_or(Line::Wrong("run step NAME"), |step| Line::Command(Self::RunStep(step))));
        }
        if let Some(saved) = after(text, &["save"]) {
            let (what, path) = [("query", Saved::Query), ("session", Saved::Session)]
                .into_iter()
                .find_map(|(word, what)| Some((what, after(saved, &[word])?)))
                .unwrap_or((Saved::Result, saved));
            let path = after(path, &["as"]).and_then(rest);
            let wrong = Line::Wrong("save as FILE, save query as FILE, save session as FILE");
            return Some(path.map_or(wrong, |path| {
                let path = path.trim_matches('\'').to_owned();
                Line::Command(Self::Save { what, path })
            }));
        }
        alone(&["page"]).then_some(Line::Command(Self::Page))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_typed_is_a_command_or_a_statement() {
        let plan = |measure, sql: Option<&str>| Line::Command(Command::Plan { measure, sql: sql.map(str::to_owned) });
        for (text, line, is_complete) in [
            ("", Line::Sql, true),
            ("select 1", Line::Sql, false),
            ("select 1;", Line::Sql, true),
            ("help", Line::Command(Command::Help), true),
            ("Help;", Line::Command(Command::Help), true),
            ("QUIT", Line::Command(Command::Leave), true),
            ("exit;", Line::Command(Command::Leave), true),
            ("plan", plan(false, None), true),
            ("plan measure", plan(true, None), true),
            ("plan select 1", plan(false, Some("select 1")), false),
            ("plan measure\nselect 1;", plan(true, Some("select 1;")), true),
            ("plan_b", Line::Sql, false),
            ("steps", Line::Command(Command::Steps(None)), true),
            ("compare with select 2;", Line::Command(Command::Compare("select 2;".into())), true),
            ("rows with plan", Line::Command(Command::Beside(true)), true),
            ("Rows alone;", Line::Command(Command::Beside(false)), true),
            ("rows", Line::Wrong("rows with plan, rows alone"), true),
            ("compare", Line::Wrong("compare with query;"), true),
            ("describe bed;", Line::Command(Command::Describe(Some("bed".into()))), true),
            ("describe", Line::Command(Command::Describe(None)), true),
            ("run step per_bed", Line::Command(Command::RunStep("per_bed".into())), true),
            ("save as 'a b.csv'", Line::Command(Command::Save { what: Saved::Result, path: "a b.csv".into() }), true),
            (
                "save session as s.sql",
                Line::Command(Command::Save { what: Saved::Session, path: "s.sql".into() }),
                true,
            ),
            ("hlep", Line::Unknown { word: "hlep".into(), near: Some("help") }, true),
            ("quti;", Line::Unknown { word: "quti".into(), near: Some("quit") }, true),
            ("select", Line::Sql, false),
            ("Commit", Line::Sql, false),
        ] {
            assert_eq!(Line::of(text), line, "{text}");
            assert_eq!(Line::is_complete(text), is_complete, "{text}");
        }
    }
}
