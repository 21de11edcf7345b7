//! Stories: statements in order, on an empty database, each with what it comes to.
//!
//! `3` rows changed; `=a|b; c|d` rows; nothing for a statement that is just done; `!23000 words` an error with words of its message
//! and help.

use crate::support::show;
use garden_gate::{Database, Outcome, Session};

/// What a statement came to, in the words of a story.
pub(crate) fn told(session: &mut Session, sql: &str) -> String {
    match session.run(sql) {
        Ok(outcomes) => match outcomes.into_iter().next_back() {
            Some(Outcome::Rows(rows)) => format!("={}", show(&rows)),
            Some(Outcome::Changed { affected, .. }) => affected.to_string(),
            _ => String::new(),
        },
        Err(error) => format!("!{} {} / {}", error.sqlstate(), error.message(), error.help().unwrap_or("")),
    }
}

/// What is wrong with what a statement came to, if anything is.
fn mismatch(session: &mut Session, (sql, expected): (&str, &str)) -> Option<String> {
    let found = told(session, sql);
    let fits = match expected.strip_prefix('!') {
        Some(error) => {
            let (state, words) = error.split_once(' ').unwrap_or((error, ""));
            found.starts_with(&format!("!{state}")) && words.split(" … ").all(|part| found.contains(part))
        }
        None => found == expected,
    };
    (!fits).then(|| format!("{sql}\nexpected {expected}\nfound    {found}"))
}

#[track_caller]
pub(crate) fn check(session: &mut Session, line: (&str, &str)) {
    if let Some(wrong) = mismatch(session, line) {
        panic!("{wrong}");
    }
}

/// Runs a story from an empty database, to its end whatever goes wrong.
#[track_caller]
pub(crate) fn tell(story: &[(&str, &str)]) -> Session {
    let mut session = Database::in_memory().session();
    let wrong: Vec<String> = story.iter().filter_map(|line| mismatch(&mut session, *line)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    session
}
