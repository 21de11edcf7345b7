//! Completions of the command line that depend on what there is: tables and settings. A command interpreter asks for them by starting the
//! program with [`VARIABLE`] set; `completions` prints what tells it so.

use crate::args::{Arguments, Common};
use crate::setup;
use clap::CommandFactory;
use clap_complete::CompleteEnv;
use clap_complete::engine::CompletionCandidate;
use clap_complete::env::{EnvCompleter, Shells};
use garden_gate::typing::{Completion, CompletionKind};
use garden_gate::{Database, Session};
use std::ffi::{OsStr, OsString};
use std::io;
use std::path::PathBuf;

/// Names the interpreter that asks.
const VARIABLE: &str = "GARDEN_GATE_COMPLETE";
const PROGRAM: &str = "garden-gate";

/// Answers an interpreter that asks; whether one did.
pub(crate) fn answer() -> clap::error::Result<bool> {
    let folder = std::env::current_dir().ok();
    CompleteEnv::with_factory(Arguments::command).var(VARIABLE).try_complete(std::env::args_os(), folder.as_deref())
}

/// What tells an interpreter how to ask.
pub(crate) fn registration(interpreter: &str) -> io::Result<Vec<u8>> {
    let mut script = Vec::new();
    let known = Shells::builtins();
    let known: &dyn EnvCompleter =
        known.completer(interpreter).ok_or_else(|| io::Error::other(format!("{interpreter} is not known")))?;
    known.write_registration(VARIABLE, PROGRAM, PROGRAM, PROGRAM, &mut script)?;
    Ok(script)
}

/// The tables and views of the command line so far.
pub(crate) fn tables(word: &OsStr) -> Vec<CompletionCandidate> {
    let given: Vec<OsString> = std::env::args_os().collect();
    let values = |option: &str| -> Vec<PathBuf> {
        let with_sign = format!("{option}=");
        let joined = given.iter().filter_map(|text| Some(text.to_str()?.strip_prefix(&with_sign)?.into()));
        let apart = given.windows(2).filter(|pair| pair[0] == option).map(|pair| PathBuf::from(&pair[1]));
        joined.chain(apart).collect()
    };
    let data = values("--data").into_iter().filter_map(|path| path.into_os_string().into_string().ok()).collect();
    let common = Common { data, db: values("--db").pop(), ..Common::default() };
    // What cannot be opened has no tables yet.
    let Ok(session) = setup::looking_session(&common) else { return Vec::new() };
    let is_table = |kind| matches!(kind, CompletionKind::Table | CompletionKind::View);
    candidates(&session, "SELECT * FROM ", word, is_table, "")
}

/// The settings, each with the sign that its value comes after.
pub(crate) fn settings(word: &OsStr) -> Vec<CompletionCandidate> {
    candidates(&Database::in_memory().session(), "SET ", word, |kind| kind == CompletionKind::Setting, "=")
}

/// What can be typed after a word of the language and begins as a word does.
fn candidates(
    session: &Session,
    before: &str,
    word: &OsStr,
    is_wanted: impl Fn(CompletionKind) -> bool,
    after: &str,
) -> Vec<CompletionCandidate> {
    let text = format!("{before}{}", word.to_string_lossy());
    let candidate =
        |item: Completion| CompletionCandidate::new(format!("{}{after}", item.text)).help(Some(item.detail.into()));
    let found = session.completions(&text, text.len()).items.into_iter();
    found.filter(|item| is_wanted(item.kind)).map(candidate).collect()
}
