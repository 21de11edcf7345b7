use crate::Look;
use crate::visible::{cut, finished, narrow, visible};
use garden_gate::{ResultSet, SqlType, Value};
use std::borrow::Cow;
use std::fmt::{self, Write as _};
use std::time::Duration;
use unicode_width::UnicodeWidthStr;

/// How NULL is shown; text that reads the same is shown in quotes.
const NULL: &str = "‹null›";
/// Blanks between two columns.
const GAP: usize = 2;
/// Text is cut to this many columns before whole columns are omitted.
const SHORTENED: usize = 32;

/// Rows as aligned columns, numbers to the right, with a line that counts them.
///
/// A table wider than [`Look::width`] has its long texts cut (`…` marks it), then its last columns omitted; a line below says so.
/// O(cells) time and memory.
pub fn table(rows: &ResultSet, look: Look) -> String {
    let mut out = String::new();
    // Writing to a String does not fail.
    let _ = write_table(rows, look, &mut out);
    out
}

/// [`table`], written line by line: each value is formatted twice, for its width and for its line, and none is kept. O(columns) memory.
///
/// # Errors
/// As writing to `out` has them.
pub fn write_table(rows: &ResultSet, look: Look, out: &mut dyn fmt::Write) -> fmt::Result {
    let out = &mut Finisher(out);
    let omitted = write_lines(rows, usize::MAX, look, out)?;
    writeln!(out, "{}", look.dim(summary(rows, rows.row_count())))?;
    out.write_str(&omitted)
}

/// Text whose marks become styles on the way. No mark is cut off from its text: each piece is written at once.
struct Finisher<'w>(&'w mut dyn fmt::Write);

impl fmt::Write for Finisher<'_> {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        self.0.write_str(&finished(text))
    }
}

/// The first `most` rows as aligned columns, with the marks of styles in it.
pub(crate) fn table_head(rows: &ResultSet, most: usize, look: Look) -> String {
    let mut out = String::new();
    let omitted = write_lines(rows, most, look, &mut out).unwrap_or_default();
    out + &omitted
}

/// As [`table`], of the first `most` rows, with the marks of styles in it.
pub(crate) fn marked_table(rows: &ResultSet, most: usize, look: Look) -> String {
    let mut out = String::new();
    let omitted = write_lines(rows, most, look, &mut out).unwrap_or_default();
    out + &format!("{}\n{omitted}", look.dim(summary(rows, rows.row_count())))
}

/// Writes the lines of the first `most` rows; gives a line about columns for which there is no room.
fn write_lines(rows: &ResultSet, most: usize, look: Look, out: &mut dyn fmt::Write) -> Result<String, fmt::Error> {
    let names: Vec<String> = rows.columns().iter().map(|column| visible(&column.name).into_owned()).collect();
    let mut widths: Vec<usize> = names.iter().map(|name| name.width()).collect();
    for row in rows.rows().take(most) {
        for (column, width) in widths.iter_mut().enumerate() {
            *width = (*width).max(shown(&row.shown(column)).width());
        }
    }
    let count = fit(&mut widths, look.width);
    let right: Vec<bool> = rows.columns().iter().map(|column| is_right(column.sql_type)).collect();
    let header: Vec<Cow<'_, str>> = names.iter().map(|name| Cow::Borrowed(name.as_str())).collect();
    line(out, &header, &widths[..count], &right, |text| look.strong(text))?;
    let rule: Vec<String> = widths[..count].iter().map(|width| "─".repeat(*width)).collect();
    writeln!(out, "{}", look.dim(rule.join(&" ".repeat(GAP))))?;
    for row in rows.rows().take(most) {
        let cells: Vec<Cow<'_, str>> = (0..count).map(|column| shown(&row.shown(column))).collect();
        let style = |text: &str| if text.trim() == NULL { look.dim(text) } else { text.to_owned() };
        line(out, &cells, &widths[..count], &right, style)?;
    }
    if count == names.len() {
        return Ok(String::new());
    }
    let left = names[count..].join(", ");
    let more = names.len() - count;
    let count = format!("{more} more column{} not shown: ", plural(more));
    // The names give way before the count of them does.
    let room = look.width.map_or(usize::MAX, |width| width.max(count.width() + 1));
    let omitted = look.warn(cut(&format!("{count}{left}"), room));
    Ok(format!("{omitted}\n"))
}

/// Lines of text cells under headings; the columns of `left` begin at their left side, the others end at their right.
pub(crate) fn grid(head: &[&str], lines: &[Vec<String>], left: &[usize], look: Look) -> String {
    let mut widths: Vec<usize> = head.iter().map(|name| name.width()).collect();
    for cells in lines {
        for (width, cell) in widths.iter_mut().zip(cells) {
            *width = (*width).max(cell.width());
        }
    }
    narrow(&mut widths, GAP, look.width, 8);
    let right: Vec<bool> = (0..head.len()).map(|at| !left.contains(&at)).collect();
    let mut out = String::new();
    let names: Vec<Cow<'_, str>> = head.iter().map(|name| visible(name)).collect();
    let _ = writeln!(out, "{}", cells_in_line(&names, &widths, &right, |text| look.strong(text)));
    for cells in lines {
        let cells: Vec<Cow<'_, str>> = cells.iter().map(|cell| visible(cell)).collect();
        let _ = writeln!(out, "{}", cells_in_line(&cells, &widths, &right, str::to_owned));
    }
    out
}

fn plural(count: usize) -> &'static str {
    if count == 1 { "" } else { "s" }
}

/// `bed: 3 rows inserted, 0.4 ms`
pub fn done(what: &str, elapsed: Duration) -> String {
    format!("{}, {}\n", visible(what), shown_time(elapsed))
}

fn summary(rows: &ResultSet, count: usize) -> String {
    let changed = if rows.affected().is_some() { " changed" } else { "" };
    format!("{count} row{}{changed}, {}", plural(count), shown_time(rows.elapsed()))
}

/// A time in milliseconds, as short as it says enough.
pub(crate) fn shown_time(elapsed: Duration) -> String {
    let millis = elapsed.as_secs_f64() * 1e3;
    if millis < 10.0 { format!("{millis:.1} ms") } else { format!("{millis:.0} ms") }
}

fn is_right(sql_type: SqlType) -> bool {
    sql_type.is_number()
}

/// A value as it appears in a table, on one line.
pub(crate) fn shown(value: &Value) -> Cow<'static, str> {
    match value {
        Value::Null => Cow::Borrowed(NULL),
        Value::Text(text) if text == NULL => Cow::Owned(format!("'{text}'")),
        value => Cow::Owned(visible(&value.to_string()).into_owned()),
    }
}

/// Narrows columns until they fit; gives how many of them are shown, at least one.
fn fit(widths: &mut [usize], limit: Option<usize>) -> usize {
    let total = |widths: &[usize]| widths.iter().sum::<usize>() + GAP * widths.len().saturating_sub(1);
    let Some(limit) = limit else { return widths.len() };
    if total(widths) <= limit {
        return widths.len();
    }
    // Only as much as is needed: the widest column gives way first, down to a bound.
    while total(widths) > limit {
        let Some(widest) = widths.iter_mut().filter(|width| **width > SHORTENED).max() else { break };
        *widest -= 1;
    }
    let mut shown = widths.len();
    while shown > 1 && total(&widths[..shown]) > limit {
        shown -= 1;
    }
    if let [only] = &mut widths[..shown] {
        *only = (*only).min(limit.max(8));
    }
    shown
}

fn line(
    out: &mut dyn fmt::Write,
    cells: &[Cow<'_, str>],
    widths: &[usize],
    right: &[bool],
    style: impl Fn(&str) -> String,
) -> fmt::Result {
    writeln!(out, "{}", cells_in_line(cells, widths, right, style))
}

fn cells_in_line(cells: &[Cow<'_, str>], widths: &[usize], right: &[bool], style: impl Fn(&str) -> String) -> String {
    let mut text = String::new();
    for (position, ((cell, width), right)) in cells.iter().zip(widths).zip(right).enumerate() {
        let cell = cut(cell, *width);
        let pad = " ".repeat(width - cell.width());
        let gap = if position > 0 { " ".repeat(GAP) } else { String::new() };
        let styled = style(&cell);
        let _ = if *right { write!(text, "{gap}{pad}{styled}") } else { write!(text, "{gap}{styled}{pad}") };
    }
    text.trim_end().to_owned()
}
