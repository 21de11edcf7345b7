use garden_gate::source::Delimited;
use garden_gate::{ResultSet, Value};
use std::fmt;

/// Fields separated by a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Separated {
    /// By commas (RFC 4180).
    Csv,
    /// By tabs; a field with a tab, a quote or a line end appears in quotes, as in CSV.
    Tsv,
}

/// Rows as delimited text with a header. NULL is an empty field, empty text is `""`, so that it reads back as it was.
pub fn separated(rows: &ResultSet, kind: Separated) -> String {
    let mut out = String::new();
    // Writing to a String does not fail.
    let _ = write_separated(rows, kind, &mut out);
    out
}

/// [`separated`], written row by row.
///
/// # Errors
/// As writing to `out` has them.
pub fn write_separated(rows: &ResultSet, kind: Separated, out: &mut dyn fmt::Write) -> fmt::Result {
    let layout = match kind {
        Separated::Csv => Delimited::csv(),
        Separated::Tsv => Delimited::tsv(),
    };
    layout.write_row(rows.columns().iter().map(|column| Some(&column.name)), out)?;
    let text = |value: Value| (!value.is_null()).then(|| value.to_string());
    rows.rows().try_for_each(|row| layout.write_row(row.all_shown().into_iter().map(text), out))
}

/// Rows as a Markdown table, numbers to the right. NULL is an empty cell.
pub fn markdown(rows: &ResultSet) -> String {
    let mut out = String::new();
    // Writing to a String does not fail.
    let _ = write_markdown(rows, &mut out);
    out
}

/// [`markdown`], written row by row.
///
/// # Errors
/// As writing to `out` has them.
pub fn write_markdown(rows: &ResultSet, out: &mut dyn fmt::Write) -> fmt::Result {
    let mut put = |fields: &mut dyn Iterator<Item = String>| -> fmt::Result {
        out.write_char('|')?;
        for text in fields {
            write!(out, " {} |", in_markdown(&text))?;
        }
        out.write_char('\n')
    };
    put(&mut rows.columns().iter().map(|column| column.name.clone()))?;
    put(&mut rows
        .columns()
        .iter()
        .map(|column| if column.sql_type.is_number() { "---:".into() } else { "---".into() }))?;
    for row in rows.rows() {
        let text = |value: Value| if value.is_null() { String::new() } else { value.to_string() };
        put(&mut row.all_shown().into_iter().map(text))?;
    }
    Ok(())
}

/// A cell of a Markdown table: nothing in it is markup, and it stays on its line.
fn in_markdown(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '|' | '\\' | '`' | '*' => out.extend(['\\', character]),
            '<' => out.push_str("&lt;"),
            '&' => out.push_str("&amp;"),
            '\n' => out.push_str("<br>"),
            '\r' => {}
            other => out.push_str(&crate::visible::visible(other.encode_utf8(&mut [0; 4]))),
        }
    }
    out
}
