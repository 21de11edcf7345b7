use crate::visible::{Paint, finished};
use std::fmt::Display;

/// How text is to look.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Look {
    /// Columns of the terminal; `None` for no limit.
    pub width: Option<usize>,
    /// Whether to use colours.
    pub colour: bool,
}

impl Look {
    /// Plain text of any width.
    pub fn plain() -> Self {
        Self::default()
    }

    /// Text for a terminal of this width.
    #[must_use]
    pub fn wide(mut self, width: usize) -> Self {
        self.width = Some(width);
        self
    }

    /// Text with colours.
    #[must_use]
    pub fn coloured(mut self) -> Self {
        self.colour = true;
        self
    }

    fn paint(self, paint: Paint, text: impl Display) -> String {
        let text = text.to_string();
        if self.colour { paint.mark(&text) } else { text }
    }

    /// Text that is less important.
    pub(crate) fn dim(self, text: impl Display) -> String {
        self.paint(Paint::Dim, text)
    }

    /// A heading, as it goes to a terminal.
    pub fn heading(self, text: impl Display) -> String {
        finished(&self.strong(text))
    }

    /// Text that appears out: headings, operators.
    pub(crate) fn strong(self, text: impl Display) -> String {
        self.paint(Paint::Strong, text)
    }

    /// Text that says all is well; readable on dark and light.
    pub(crate) fn good(self, text: impl Display) -> String {
        self.paint(Paint::Good, text)
    }

    /// Text that asks for attention; readable on dark and light.
    pub(crate) fn warn(self, text: impl Display) -> String {
        self.paint(Paint::Warn, text)
    }
}
