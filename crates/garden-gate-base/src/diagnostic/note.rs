use super::{Position, SourceText, Span};
use std::sync::Arc;

/// Something about a statement that is worth knowing and is not an error.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// A stable name, e.g. `null-comparison`.
    pub code: &'static str,
    /// What was noticed.
    pub message: String,
    /// What to write instead.
    pub help: Option<String>,
    /// What takes the place of the text it is about, when the help leaves no choice.
    pub replacement: Option<String>,
    /// The text it is about.
    pub span: Option<Span>,
    /// Whether it is about style or speed alone: the rows are as they are meant. `run` leaves such notes out, `plan` and `check` show them.
    pub style: bool,
    pub source: Option<Arc<SourceText>>,
}

impl Note {
    /// A note that points at nothing.
    pub fn new(code: &'static str, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), help: None, replacement: None, span: None, style: false, source: None }
    }

    /// Says where in the statement.
    pub fn at(mut self, span: Span) -> Self {
        self.span = Some(span);
        self
    }

    /// Says what takes the place of the text it is about, where the help leaves no choice.
    pub fn replaced_by(mut self, text: impl Into<String>) -> Self {
        self.replacement = Some(text.into());
        self
    }

    /// Says what to do.
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Makes it one about style or speed, which is shown where these are asked for.
    pub fn style(mut self) -> Self {
        self.style = true;
        self
    }

    /// The statement's text.
    pub fn source_text(&self) -> Option<&SourceText> {
        self.source.as_deref()
    }

    /// Line and column of the text it is about.
    pub fn position(&self) -> Option<Position> {
        Some(self.source.as_ref()?.position(self.span?))
    }
}
