use garden_gate::{ResultSet, Value};
use std::fmt::Write as _;

/// Fields separated by a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Separated {
    /// By commas (RFC 4180).
    Csv,
    /// By tabs; a field with a tab, a quote or a line end stands in quotes, as in CSV.
    Tsv,
}

/// Rows as delimited text with a header. NULL is an empty field, empty text is `""`, so that it reads back as it was.
pub fn separated(rows: &ResultSet, kind: Separated) -> String {
    let delimiter = match kind {
        Separated::Csv => ',',
        Separated::Tsv => '\t',
    };
    let mut out = String::new();
    let mut put = |fields: &mut dyn Iterator<Item = Option<String>>| {
        for (position, text) in fields.enumerate() {
            if position > 0 {
                out.push(delimiter);
            }
            if let Some(text) = text {
                field(&text, delimiter, &mut out);
            }
        }
        out.push('\n');
    };
    put(&mut rows.columns().iter().map(|column| Some(column.name.clone())));
    for row in rows.rows() {
        put(&mut row.all_shown().into_iter().map(|value| (!value.is_null()).then(|| value.to_string())));
    }
    out
}

fn field(text: &str, delimiter: char, out: &mut String) {
    let needs_quotes = text.is_empty()
        || text.contains([delimiter, '"', '\n', '\r'])
        || text.starts_with(char::is_whitespace)
        || text.ends_with(char::is_whitespace);
    if needs_quotes {
        let _ = write!(out, "\"{}\"", text.replace('"', "\"\""));
    } else {
        out.push_str(text);
    }
}

/// Rows as a Markdown table, numbers to the right. NULL is an empty cell.
pub fn markdown(rows: &ResultSet) -> String {
    let mut out = String::new();
    let mut put = |fields: &mut dyn Iterator<Item = String>| {
        out.push('|');
        fields.for_each(|text| {
            let _ = write!(out, " {} |", text.replace('|', "\\|").replace('\n', "<br>"));
        });
        out.push('\n');
    };
    put(&mut rows.columns().iter().map(|column| column.name.clone()));
    put(&mut rows
        .columns()
        .iter()
        .map(|column| if column.sql_type.is_number() { "---:".into() } else { "---".into() }));
    for row in rows.rows() {
        let text = |value: Value| if value.is_null() { String::new() } else { value.to_string() };
        put(&mut row.all_shown().into_iter().map(text));
    }
    out
}
