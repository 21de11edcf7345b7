use anstyle::{AnsiColor, Style};
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

    fn paint(self, style: Style, text: impl Display) -> String {
        if self.colour { format!("{style}{text}{style:#}") } else { text.to_string() }
    }

    pub(crate) fn dim(self, text: impl Display) -> String {
        self.paint(Style::new().dimmed(), text)
    }

    /// Text that stands out: headings, operators.
    pub fn strong(self, text: impl Display) -> String {
        self.paint(Style::new().bold(), text)
    }

    /// Text that says all is well; readable on dark and light.
    pub(crate) fn good(self, text: impl Display) -> String {
        self.paint(AnsiColor::Green.on_default(), text)
    }

    /// Text that asks for attention; readable on dark and light.
    pub(crate) fn warn(self, text: impl Display) -> String {
        self.paint(AnsiColor::Magenta.on_default(), text)
    }
}
