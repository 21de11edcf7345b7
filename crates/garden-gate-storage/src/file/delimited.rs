use crate::catalog::{FileOptions, RowEnd};
use std::fmt;

/// How rows are written as delimited text: CSV (RFC 4180), TSV and their like. A NULL is the text for it, which is empty if nothing else is
/// said; text that would read back as something else appears in quotes, empty text among it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Delimited {
    /// Between two fields.
    pub delimiter: char,
    /// Around a field that needs it; doubled within.
    pub quote: char,
    /// After a row.
    pub row_end: &'static str,
    /// What a NULL is.
    pub null_text: String,
}

impl Delimited {
    /// By commas.
    #[must_use]
    pub fn csv() -> Self {
        Self::by(',')
    }

    /// By tabs.
    #[must_use]
    pub fn tsv() -> Self {
        Self::by('\t')
    }

    fn by(delimiter: char) -> Self {
        Self { delimiter, quote: '"', row_end: "\n", null_text: String::new() }
    }

    /// How a file is written as options say, where they do.
    pub(super) fn with_options(delimiter: u8, options: &FileOptions) -> Self {
        Self {
            delimiter: options.delimiter.unwrap_or(delimiter.into()),
            quote: options.quote.unwrap_or('"'),
            row_end: match options.row_end {
                RowEnd::CrLf => "\r\n",
                RowEnd::Cr => "\r",
                RowEnd::Lf | RowEnd::Any => "\n",
            },
            null_text: options.null_text.clone().unwrap_or_default(),
        }
    }

    /// Writes a row; `None` is NULL.
    ///
    /// # Errors
    /// As writing to `out` has them.
    pub fn write_row<T: AsRef<str>>(
        &self,
        fields: impl IntoIterator<Item = Option<T>>,
        out: &mut (impl fmt::Write + ?Sized),
    ) -> fmt::Result {
        for (position, field) in fields.into_iter().enumerate() {
            if position > 0 {
                out.write_char(self.delimiter)?;
            }
            match &field {
                None => out.write_str(&self.null_text)?,
                Some(text) => self.write_field(text.as_ref(), out)?,
            }
        }
        out.write_str(self.row_end)
    }

    fn write_field(&self, text: &str, out: &mut (impl fmt::Write + ?Sized)) -> fmt::Result {
        let needs_quotes = text.is_empty()
            || text == self.null_text
            || text.contains([self.delimiter, self.quote, '\n', '\r'])
            || text.starts_with(char::is_whitespace)
            || text.ends_with(char::is_whitespace);
        if !needs_quotes {
            return out.write_str(text);
        }
        let quote = self.quote;
        write!(out, "{quote}{}{quote}", text.replace(quote, &format!("{quote}{quote}")))
    }
}
