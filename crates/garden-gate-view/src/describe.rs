//! Tables described, as text and as JSON.

use crate::Look;
use crate::json::value;
use crate::visible::{cut, finished, narrow, visible};
use garden_gate::{
    Value,
    inspect::{ColumnFacts, HistoryFacts, HistoryInterval, TableFacts},
    source::{ColumnStatistics, TextReason},
};
use serde_json::{Value as Json, json};
use std::fmt::Write as _;
use unicode_width::UnicodeWidthStr;

/// Cells of the bar of the most common value.
const BAR: f64 = 20.0;
/// Frequent values shown of each column when one table is described.
const SHOWN_VALUES: usize = 5;
/// Bounds that a histogram has at least when it is drawn.
const LEAST_BOUNDS: usize = 12;
/// Characters of a value that are shown.
const VALUE_WIDTH: usize = 24;

/// All tables in a line each.
pub fn tables(all: &[TableFacts], look: Look) -> String {
    finished(&marked_tables(all, look))
}

fn marked_tables(all: &[TableFacts], look: Look) -> String {
    let mut lines = vec![["schema", "name", "kind", "rows", "columns"].map(str::to_owned)];
    for table in all {
        let rows = table.rows.map_or_else(String::new, |rows| rows.to_string());
        let columns = table.columns.len().to_string();
        lines.push([table.schema.clone(), table.name.clone(), table.kind.to_owned(), rows, columns]);
    }
    columns(&lines, look)
}

/// One table: its columns with what is known of their values, its constraints, its most common values.
pub fn describe(table: &TableFacts, look: Look) -> String {
    finished(&marked_describe(table, look))
}

fn marked_describe(table: &TableFacts, look: Look) -> String {
    let rows = table.rows.map_or_else(String::new, |rows| format!(", {rows} row{}", if rows == 1 { "" } else { "s" }));
    let mut out = format!("{}\n\n", look.strong(format!("{} {}.{}{rows}", table.kind, table.schema, table.name)));
    if let Some(comment) = &table.comment {
        let _ = writeln!(out, "{comment}\n");
    }
    let mut lines = vec![["column", "type", "nulls", "distinct", "minimum", "maximum", ""].map(str::to_owned)];
    for column in &table.columns {
        let known = column.statistics.as_deref();
        let number = |of: fn(&ColumnStatistics) -> String| known.map_or_else(String::new, of);
        lines.push([
            column.name.clone(),
            column.declared.clone(),
            number(|known| known.nulls.to_string()),
            number(|known| format!("{}{:.0}", if known.exact { "" } else { "about " }, known.distinct)),
            number(|known| shown(&known.min)),
            number(|known| shown(&known.max)),
            words(column),
        ]);
    }
    out.push_str(&columns(&lines, look));
    if let Some(query) = &table.query {
        let _ = writeln!(out, "\n{query}");
    }
    for (what, known) in [("constraint", &table.constraints), ("period", &table.periods), ("index", &table.indexes)] {
        if !known.is_empty() {
            let lines: Vec<[String; 2]> = known.iter().map(|one| [one.name.clone(), one.text.clone()]).collect();
            out.push('\n');
            out.push_str(&columns(&[vec![[what, "says"].map(str::to_owned)], lines].concat(), look));
        }
    }
    if let Some(history) = &table.history {
        out.push('\n');
        out.push_str(&describe_history(history, look));
    }
    for column in &table.columns {
        frequent(&mut out, column, look);
    }
    let spreads: Vec<[String; 3]> = table.columns.iter().filter_map(spread).collect();
    if !spreads.is_empty() {
        out.push('\n');
        let head = [["distribution of", "from minimum to maximum", "order of rows"].map(str::to_owned)];
        out.push_str(&columns(&[&head, spreads.as_slice()].concat(), look));
    }
    out
}

/// The stretches of a table's history, the oldest first.
fn describe_history(history: &HistoryFacts, look: Look) -> String {
    let mut lines = vec![["history", "rows", "bytes", "oldest", "newest"].map(str::to_owned)];
    for (number, stretch) in history.stretches.iter().enumerate() {
        let moment = |moment: &Option<Value>| moment.as_ref().map_or_else(String::new, Value::to_string);
        let (rows, bytes) = (stretch.rows.to_string(), stretch.bytes.to_string());
        let ends = [moment(&stretch.oldest), moment(&stretch.newest)];
        let [oldest, newest] = ends;
        lines.push([format!("stretch {}", number + 1), rows, bytes, oldest, newest]);
    }
    let mut out = columns(&lines, look);
    if !history.rule.is_empty() {
        let _ = writeln!(out, "\n{}", history.rule);
    }
    if let Some(from) = &history.from {
        let _ = writeln!(out, "\nwhat ended before {from} is not kept");
    }
    out
}

/// How the values of a column are distributed between the minimum and the maximum, in a small histogram, and whether rows are in their order.
fn spread(column: &ColumnFacts) -> Option<[String; 3]> {
    const CELLS: usize = 32;
    const LEVELS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let known = column.statistics.as_deref().filter(|known| known.histogram.len() >= LEAST_BOUNDS)?;
    let (least, greatest) = (position(&known.min)?, position(&known.max)?);
    let width = (greatest - least) / f64::from(u8::try_from(CELLS).unwrap_or(u8::MAX));
    if width <= 0.0 {
        return None;
    }
    let bounds: Vec<f64> = known.histogram.iter().map(position).collect::<Option<_>>()?;
    let others = 1.0 - known.null_share() - known.common_share();
    let each = others / approximate(bounds.len() as u64 - 1);
    let mut cells = [0.0_f64; CELLS];
    let edges = |cell: usize| {
        let from = f64::from(u8::try_from(cell).unwrap_or(u8::MAX)) * width + least;
        (from, from + width)
    };
    for pair in bounds.windows(2) {
        for (cell, mass) in cells.iter_mut().enumerate() {
            let (from, to) = edges(cell);
            let inside = (pair[1].min(to) - pair[0].max(from)).max(0.0);
            // A value that fills a bucket lies in one cell.
            let all = pair[1] - pair[0];
            let point = all <= 0.0 && pair[0] >= from && (pair[0] < to || cell + 1 == CELLS);
            *mass += each
                * if point {
                    1.0
                } else if all > 0.0 {
                    inside / all
                } else {
                    0.0
                };
        }
    }
    for common in &known.most_common {
        let at = position(&common.value)?;
        let cell = (0..CELLS).find(|cell| at < edges(*cell).1).unwrap_or(CELLS - 1);
        cells[cell] += common.share;
    }
    let most = cells.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
    let block = |mass: &f64| {
        let level = LEVELS.iter().zip(1_u8..).find(|(_, step)| mass / most <= f64::from(*step) / 8.0);
        if *mass <= 0.0 { ' ' } else { level.map_or('█', |(block, _)| *block) }
    };
    let drawn: String = cells.iter().map(block).collect();
    let order = match known.correlation {
        order if order > 0.95 => "as the values".to_owned(),
        order if order < -0.95 => "against the values".to_owned(),
        order => format!("{:.0} % of it", order * 100.0),
    };
    Some([column.name.clone(), drawn, order])
}

/// The place of a value on a line, where its type has one.
fn position(value: &Value) -> Option<f64> {
    match value {
        Value::Integer(number) | Value::Timestamp(number) | Value::Instant(number) | Value::Time(number) => {
            number.to_string().parse().ok()
        }
        Value::Numeric(number) => number.to_string().parse().ok(),
        Value::Double(number) => Some(*number),
        Value::Date(days) => Some(f64::from(*days)),
        _ => None,
    }
}

/// NOT NULL, what fills the column, what people say of it.
fn words(column: &ColumnFacts) -> String {
    let not_null = column.not_null.then(|| "NOT NULL".to_owned());
    let hidden = column.hidden.then(|| "HIDDEN".to_owned());
    let comment = column.comment.as_ref().map(|comment| format!("-- {comment}"));
    let reason = column.text_reason.as_ref().map(|reason| format!("text: {reason}"));
    not_null
        .into_iter()
        .chain(hidden)
        .chain(column.filled.clone())
        .chain(comment)
        .chain(reason)
        .collect::<Vec<_>>()
        .join(" ")
}

fn frequent(out: &mut String, column: &ColumnFacts, look: Look) {
    let Some(known) = &column.statistics else { return };
    let often: Vec<_> = known.most_common.iter().take(SHOWN_VALUES).collect();
    let most = often.first().map_or(0.0, |common| common.share);
    if known.distinct < 1.5
        || often.is_empty()
        || known.distinct + 0.5 > approximate(known.rows.saturating_sub(known.nulls))
    {
        return;
    }
    let _ = writeln!(out, "\n{}", look.dim(format!("most common in {}", column.name)));
    let width = often.iter().map(|common| shown(&common.value).width()).max().unwrap_or(0);
    for common in often {
        let text = shown(&common.value);
        let bar = bar(common.share / most);
        let blanks = " ".repeat(width - text.width());
        let _ = writeln!(out, "{text}{blanks}  {:5.1} %  {bar}", common.share * 100.0);
    }
}

/// Close enough for the length of a bar.
#[expect(clippy::cast_precision_loss, reason = "a count of rows for a picture")]
fn approximate(rows: u64) -> f64 {
    rows as f64
}

fn bar(share: f64) -> String {
    "█".repeat((1..=20).filter(|cell| f64::from(*cell) <= share * BAR + 0.5).count().max(1))
}

fn shown(value: &Value) -> String {
    if value.is_null() {
        return String::new();
    }
    let text: String = value.to_string().split_whitespace().collect::<Vec<_>>().join(" ");
    if text.chars().count() <= VALUE_WIDTH {
        return text;
    }
    format!("{}…", text.chars().take(VALUE_WIDTH - 1).collect::<String>())
}

/// Aligned columns under a header.
fn columns<const N: usize>(lines: &[[String; N]], look: Look) -> String {
    let mut widths = [0; N];
    for line in lines {
        widths.iter_mut().zip(line).for_each(|(width, cell)| *width = (*width).max(visible(cell).width()));
    }
    narrow(&mut widths, 2, look.width, 8);
    let width = |at: usize| widths[at];
    let mut out = String::new();
    for (number, line) in lines.iter().enumerate() {
        let cell = |at: usize| {
            let text = visible(&line[at]);
            let text = cut(&text, width(at));
            format!("{text}{}", " ".repeat(width(at) - text.width()))
        };
        let text = (0..N).map(cell).collect::<Vec<_>>().join("  ");
        let _ =
            writeln!(out, "{}", if number == 0 { look.strong(text.trim_end()) } else { text.trim_end().to_owned() });
        if number == 0 {
            let rule =
                (0..N).map(|at| "─".repeat(width(at))).filter(|rule| !rule.is_empty()).collect::<Vec<_>>().join("  ");
            let _ = writeln!(out, "{}", look.dim(rule));
        }
    }
    out
}

fn history_json(history: &HistoryFacts) -> Json {
    let stretch = |stretch: &HistoryInterval| {
        let moment = |moment: &Option<Value>| moment.as_ref().map(value);
        json!({
            "rows": stretch.rows,
            "bytes": stretch.bytes,
            "oldest": moment(&stretch.oldest),
            "newest": moment(&stretch.newest),
        })
    };
    let stretches: Vec<Json> = history.stretches.iter().map(stretch).collect();
    json!({"rule": history.rule, "from": history.from.as_ref().map(value), "stretches": stretches})
}

fn reason(reason: &TextReason) -> Json {
    let sql_type = reason.sql_type.to_string();
    json!({"type": sql_type, "value": reason.value, "line": reason.line, "odd": reason.odd, "values": reason.values})
}

/// One table as an object: `{"kind":"table","form":…,"schema":…,"name":…,"rows":…,"columns":[…],"keys":[…],"indexes":[]}`.
pub fn describe_json(table: &TableFacts) -> String {
    let column = |column: &ColumnFacts| {
        let known = column.statistics.as_deref();
        let common = |known: &ColumnStatistics| -> Vec<Json> {
            let shown = known.most_common.iter();
            shown.map(|common| json!({"value": value(&common.value), "share": common.share})).collect()
        };
        json!({
            "name": column.name,
            "type": column.sql_type.map(|_| &column.declared),
            "nullable": !column.not_null,
            "hidden": column.hidden,
            "filled": column.filled,
            "comment": column.comment,
            "text_reason": column.text_reason.as_ref().map(reason),
            "nulls": known.map(|known| known.nulls),
            "distinct": known.map(|known| known.distinct),
            "exact": known.map(|known| known.exact),
            "min": known.map(|known| value(&known.min)),
            "max": known.map(|known| value(&known.max)),
            "most_common": known.map(common),
            "histogram": known.map(|known| known.histogram.iter().map(value).collect::<Vec<Json>>()),
            "correlation": known.map(|known| known.correlation),
        })
    };
    let constraint = |name: &str, text: &str| json!({"name": name, "text": text});
    let keys: Vec<Json> = table.constraints.iter().map(|known| constraint(&known.name, &known.text)).collect();
    let indexes: Vec<Json> = table.indexes.iter().map(|known| constraint(&known.name, &known.text)).collect();
    let columns: Vec<Json> = table.columns.iter().map(column).collect();
    let object = json!({
        "kind": "table",
        "form": table.kind,
        "schema": table.schema,
        "name": table.name,
        "rows": table.rows,
        "columns": columns,
        "keys": keys,
        "indexes": indexes,
        "periods": table.periods.iter().map(|known| constraint(&known.name, &known.text)).collect::<Vec<Json>>(),
        "history": table.history.as_ref().map(history_json),
        "query": table.query,
        "comment": table.comment,
    });
    format!("{object}\n")
}
