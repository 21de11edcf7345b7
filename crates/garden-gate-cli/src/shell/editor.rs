//! The editor of the shell: the text of a statement with colours, marks under what is wrong, completions and a history.

use super::command::Line;
use crate::private;
use garden_gate::Session;
use garden_gate::typing::{CompletionKind, TokenClass, token_classes};
use reedline::{
    Color, Completer, CompletionResult, EditCommand, Emacs, FileBackedHistory, Highlighter, Hinter, History, IdeMenu,
    InputMode, KeyCode, KeyModifiers, MenuBuilder, Reedline, ReedlineEvent, ReedlineMenu, SearchQuery, Span,
    StyledText, Suggestion, ValidationResult, Validator, default_emacs_keybindings,
};
use std::io;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// The session that statements run in, and that knows what names mean.
pub(crate) type Shared = Arc<Mutex<Session>>;

/// The session, which completion shares with what runs.
pub(super) fn lock(session: &Shared) -> MutexGuard<'_, Session> {
    session.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Texts longer than this are not looked at while they are typed, in bytes.
const MOST_TYPED: usize = 50_000;
/// Statements that are kept.
const KEPT: usize = 5000;
const MENU: &str = "completions";
/// Between the prompt and the text.
pub(super) const MARK: &str = "> ";
/// What the key for laying out the text is called.
pub(super) const FORMAT: &str = "format";

/// An editor on the terminal.
///
/// # Errors
/// When the file of the history cannot be made.
pub(super) fn editor(session: &Shared, history: Option<&Path>, in_colour: bool) -> io::Result<Reedline> {
    let mut keys = default_emacs_keybindings();
    let menu = vec![ReedlineEvent::Menu(MENU.into()), ReedlineEvent::MenuNext];
    keys.add_binding(KeyModifiers::NONE, KeyCode::Tab, ReedlineEvent::UntilFound(menu));
    keys.add_binding(KeyModifiers::SHIFT, KeyCode::BackTab, ReedlineEvent::MenuPrevious);
    keys.add_binding(KeyModifiers::ALT, KeyCode::Enter, ReedlineEvent::Edit(vec![EditCommand::InsertNewline]));
    keys.add_binding(KeyModifiers::NONE, KeyCode::F(2), ReedlineEvent::ExecuteHostCommand(FORMAT.into()));
    let mut editor = Reedline::create()
        .with_edit_mode(Box::new(Emacs::new(keys)))
        .with_validator(Box::new(EndOfStatement))
        .with_highlighter(Box::new(Colours { session: Arc::clone(session), in_colour, known: Mutex::default() }))
        .with_completer(Box::new(Names(Arc::clone(session))))
        .with_menu(ReedlineMenu::EngineCompleter(Box::new(
            IdeMenu::default()
                .with_name(MENU)
                .with_marker(MARK)
                .with_input_mode(InputMode::FullBuffer)
                .with_text_style(Color::Default.normal())
                .with_selected_text_style(Color::Default.reverse())
                .with_description_text_style(Color::DarkGray.italic()),
        )))
        .with_hinter(Box::new(Rest { session: Arc::clone(session), hint: String::new() }))
        .with_partial_completions(true)
        .with_quick_completions(true)
        .with_ansi_colors(in_colour)
        .use_bracketed_paste(true)
        // What begins with a blank is not kept.
        .with_history_exclusion_prefix(Some(" ".into()));
    if let Some(path) = history {
        private::make_file(path)?;
        let kept = FileBackedHistory::with_file(KEPT, path.to_owned()).map_err(io::Error::other)?;
        editor = editor.with_history(Box::new(kept));
    }
    if let Some(command) =
        ["VISUAL", "EDITOR"].iter().find_map(|name| std::env::var(name).ok().filter(|value| !value.is_empty()))
    {
        let file = private::folder(history).join(format!("garden-gate-{}.sql", std::process::id()));
        editor = editor.with_buffer_editor(std::process::Command::new(command), file);
    }
    Ok(editor)
}

/// Enter sends off what is complete, and begins a line in what is not.
struct EndOfStatement;

impl Validator for EndOfStatement {
    fn validate(&self, text: &str) -> ValidationResult {
        if Line::is_complete(text) { ValidationResult::Complete } else { ValidationResult::Incomplete }
    }
}

struct Colours {
    session: Shared,
    in_colour: bool,
    /// The problems of the text that was looked at last.
    known: Mutex<(String, Vec<Range<usize>>)>,
}

impl Highlighter for Colours {
    fn highlight(&self, text: &str, cursor: usize) -> StyledText {
        let mut styled = StyledText::new();
        let plain = Color::Default.normal();
        styled.push((plain, text.to_owned()));
        if text.len() > MOST_TYPED || !self.in_colour {
            return styled;
        }
        for (range, class) in token_classes(text) {
            let style = match class {
                TokenClass::Keyword => Color::Blue.bold(),
                TokenClass::Text => Color::Green.normal(),
                TokenClass::Number => Color::Cyan.normal(),
                TokenClass::Parameter => Color::Purple.normal(),
                TokenClass::Comment => Color::DarkGray.italic(),
                TokenClass::Unknown => Color::Red.normal(),
                _ => continue,
            };
            styled.style_range(range.start, range.end, style);
        }
        if let Some((open, close)) = pair_at(text, cursor) {
            styled.style_range(open, open + 1, Color::Yellow.bold());
            styled.style_range(close, close + 1, Color::Yellow.bold());
        }
        if Line::of(text) == Line::Sql {
            for range in self.problems(text, cursor) {
                styled.style_range(range.start, range.end, Color::Red.underline());
            }
        }
        styled
    }
}

impl Colours {
    /// What is wrong and not being typed just now. It is looked for when no further key waits: who types fast does not wait for it.
    fn problems(&self, text: &str, cursor: usize) -> Vec<Range<usize>> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.0 != text {
            if crossterm::event::poll(Duration::ZERO).unwrap_or(false) {
                return Vec::new();
            }
            let Ok(session) = self.session.try_lock() else { return Vec::new() };
            let problems = session.problems(text);
            let ranges = problems.iter().filter_map(|problem| problem.span().map(|span| span.range())).collect();
            *known = (text.to_owned(), ranges);
        }
        let is_shown = |range: &&Range<usize>| {
            !range.is_empty() && range.end <= text.len() && !(range.start..=range.end).contains(&cursor)
        };
        known.1.iter().filter(is_shown).cloned().collect()
    }
}

/// The parenthesis at or before the cursor and the one that belongs to it.
fn pair_at(text: &str, cursor: usize) -> Option<(usize, usize)> {
    let mut open = Vec::new();
    for (range, class) in token_classes(text) {
        match (class, &text[range.clone()]) {
            (TokenClass::Sign, "(" | "[") => open.push(range.start),
            (TokenClass::Sign, ")" | "]") => {
                let start = open.pop()?;
                if [start, start + 1, range.start, range.end].contains(&cursor) {
                    return Some((start, range.start));
                }
            }
            _ => {}
        }
    }
    None
}

/// Completions of names and keywords.
struct Names(Shared);

impl Completer for Names {
    fn complete(&mut self, text: &str, cursor: usize) -> CompletionResult {
        let Ok(session) = self.0.try_lock() else { return CompletionResult::fresh(Vec::new()) };
        let found = session.completions(text, cursor);
        let suggestion = |item: garden_gate::typing::Completion| Suggestion {
            append_whitespace: item.kind == CompletionKind::Keyword && item.detail.is_empty(),
            value: item.text,
            description: Some(item.detail).filter(|detail| !detail.is_empty()),
            span: Span::new(found.start.min(cursor), cursor),
            display_override: None,
            style: None,
            extra: None,
            match_indices: None,
        };
        let mut items = found.items;
        if items.is_empty() {
            // The menu says so in words of the shell.
            let mut nothing = garden_gate::typing::Completion::default();
            nothing.text = text.get(found.start.min(cursor)..cursor).unwrap_or_default().to_owned();
            nothing.detail = "nothing that is known here begins so".to_owned();
            items.push(nothing);
        }
        CompletionResult::fresh(items.into_iter().map(suggestion).collect::<Vec<_>>())
    }
}

/// The rest of a statement of the history that begins as the text does, or of the first completion.
struct Rest {
    session: Shared,
    hint: String,
}

impl Rest {
    fn of_history(text: &str, history: &dyn History) -> Option<String> {
        let found = history.search(SearchQuery::last_with_prefix(text.to_owned(), history.session())).ok()?;
        found.first()?.command_line.get(text.len()..).map(str::to_owned)
    }

    fn of_completion(&self, text: &str, cursor: usize) -> Option<String> {
        let session = self.session.try_lock().ok()?;
        let found = session.completions(text, cursor);
        let typed = text.get(found.start..cursor).filter(|typed| typed.len() > 1)?;
        let first = found.items.first()?;
        first.text.get(typed.len()..).filter(|_| first.text.starts_with(typed)).map(str::to_owned)
    }
}

impl Hinter for Rest {
    fn handle(&mut self, text: &str, cursor: usize, history: &dyn History, in_colour: bool, _: &str) -> String {
        self.hint.clear();
        if !text.is_empty() && cursor == text.len() && text.len() < MOST_TYPED {
            let hint = Self::of_history(text, history).or_else(|| self.of_completion(text, cursor));
            self.hint = hint.unwrap_or_default();
        }
        if in_colour && !self.hint.is_empty() { Color::DarkGray.paint(&self.hint).to_string() } else { String::new() }
    }

    fn complete_hint(&self) -> String {
        self.hint.clone()
    }

    fn next_hint_token(&self) -> String {
        self.hint.split_inclusive(char::is_whitespace).next().unwrap_or_default().to_owned()
    }
}
