//! What stands before the lines of a statement.

use reedline::{Color, Prompt, PromptEditMode, PromptHistorySearch, PromptHistorySearchStatus};
use std::borrow::Cow;

/// The database, its schema, and whether a transaction is open.
pub(crate) struct Place {
    name: String,
}

impl Place {
    /// `garden`, `garden.shed`, `garden (open)`
    pub(crate) fn new(database: &str, schema: &str, in_transaction: bool) -> Self {
        let schema = if schema == garden_gate::source::DEFAULT_SCHEMA { String::new() } else { format!(".{schema}") };
        let open = if in_transaction { " (open)" } else { "" };
        Self { name: format!("{database}{schema}{open}") }
    }

    /// Lines as they would stand there when they were typed.
    pub(crate) fn typed(&self, text: &str) -> String {
        let next = self.render_prompt_multiline_indicator();
        let line = |(number, line): (usize, &str)| match number {
            0 => format!("{}{}{line}\n", self.name, super::editor::MARK),
            _ => format!("{}\n", format!("{next}{line}").trim_end()),
        };
        text.lines().enumerate().map(line).collect()
    }
}

impl Prompt for Place {
    fn render_prompt_left(&self) -> Cow<'_, str> {
        Cow::Borrowed(&self.name)
    }

    fn render_prompt_right(&self) -> Cow<'_, str> {
        Cow::Borrowed("")
    }

    fn render_prompt_indicator(&self, _: PromptEditMode) -> Cow<'_, str> {
        Cow::Borrowed(super::editor::MARK)
    }

    fn render_prompt_multiline_indicator(&self) -> Cow<'_, str> {
        // Lines of a statement stand below its first one.
        Cow::Owned(format!("{}· ", " ".repeat(self.name.chars().count())))
    }

    fn render_prompt_history_search_indicator(&self, search: PromptHistorySearch) -> Cow<'_, str> {
        let failing = if matches!(search.status, PromptHistorySearchStatus::Failing) { ", nothing found" } else { "" };
        Cow::Owned(format!(" earlier{failing}: {} ", search.term))
    }

    fn get_prompt_color(&self) -> Color {
        if self.name.ends_with("(open)") { Color::Yellow } else { Color::Green }
    }

    fn get_indicator_color(&self) -> Color {
        self.get_prompt_color()
    }

    fn get_prompt_multiline_color(&self) -> Color {
        Color::DarkGray
    }
}
