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
    let delimiter = match kind {
        Separated::Csv => ',',
        Separated::Tsv => '\t',
    };
    let mut put = |fields: &mut dyn Iterator<Item = Option<String>>| -> fmt::Result {
        for (position, text) in fields.enumerate() {
            if position > 0 {
                out.write_char(delimiter)?;
            }
            if let Some(text) = text {
                field(&text, delimiter, out)?;
            }
        }
        out.write_char('\n')
    };
    put(&mut rows.columns().iter().map(|column| Some(column.name.clone())))?;
    for row in rows.rows() {
        put(&mut row.all_shown().into_iter().map(|value| (!value.is_null()).then(|| value.to_string())))?;
    }
    Ok(())
}

fn field(text: &str, delimiter: char, out: &mut dyn fmt::Write) -> fmt::Result {
    let needs_quotes = text.is_empty()
        || text.contains([delimiter, '"', '\n', '\r'])
        || text.starts_with(char::is_whitespace)
        || text.ends_with(char::is_whitespace);
    if needs_quotes { write!(out, "\"{}\"", text.replace('"', "\"\"")) } else { out.write_str(text) }
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
