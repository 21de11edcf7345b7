//! Tables described, as text and as JSON.

use crate::Look;
use crate::json::value;
use garden_gate::{ColumnFacts, ColumnStatistics, TableFacts, Value};
use serde_json::{Value as Json, json};
use std::fmt::Write as _;
use unicode_width::UnicodeWidthStr;

/// Cells of the bar of the most frequent value.
const BAR: f64 = 20.0;
/// Frequent values shown of each column when one table is described.
const SHOWN_VALUES: usize = 5;
/// Characters of a value that are shown.
const VALUE_WIDTH: usize = 24;

/// All tables in a line each.
pub fn tables(all: &[TableFacts], look: Look) -> String {
    let mut lines = vec![["schema", "name", "kind", "rows", "columns"].map(str::to_owned)];
    for table in all {
        let rows = table.rows.map_or_else(String::new, |rows| rows.to_string());
        let columns = table.columns.len().to_string();
        lines.push([table.schema.clone(), table.name.clone(), table.kind.to_owned(), rows, columns]);
    }
    columns(&lines, look)
}

/// One table: its columns with what is known of their values, its constraints, its most frequent values.
pub fn describe(table: &TableFacts, look: Look) -> String {
    let rows = table.rows.map_or_else(String::new, |rows| format!(", {rows} row{}", if rows == 1 { "" } else { "s" }));
    let mut out = format!("{}\n\n", look.strong(format!("{} {}.{}{rows}", table.kind, table.schema, table.name)));
    if let Some(comment) = &table.comment {
        let _ = writeln!(out, "{comment}\n");
    }
    let mut lines = vec![["column", "type", "nulls", "different", "least", "greatest", ""].map(str::to_owned)];
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
    for (what, known) in [("constraint", &table.constraints), ("index", &table.indexes)] {
        if !known.is_empty() {
            let lines: Vec<[String; 2]> = known.iter().map(|one| [one.name.clone(), one.text.clone()]).collect();
            out.push('\n');
            out.push_str(&columns(&[vec![[what, "says"].map(str::to_owned)], lines].concat(), look));
        }
    }
    for column in &table.columns {
        frequent(&mut out, column, look);
    }
    out
}

/// NOT NULL, what fills the column, what people say of it.
fn words(column: &ColumnFacts) -> String {
    let not_null = column.not_null.then(|| "NOT NULL".to_owned());
    let comment = column.comment.as_ref().map(|comment| format!("-- {comment}"));
    not_null.into_iter().chain(column.filled.clone()).chain(comment).collect::<Vec<_>>().join(" ")
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
    let _ = writeln!(out, "\n{}", look.dim(format!("most frequent in {}", column.name)));
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
    let width = |at: usize| lines.iter().map(|line| line[at].width()).max().unwrap_or(0);
    let mut out = String::new();
    for (number, line) in lines.iter().enumerate() {
        let cell = |at: usize| format!("{}{}", line[at], " ".repeat(width(at) - line[at].width()));
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
            "filled": column.filled,
            "comment": column.comment,
            "nulls": known.map(|known| known.nulls),
            "distinct": known.map(|known| known.distinct),
            "exact": known.map(|known| known.exact),
            "min": known.map(|known| value(&known.min)),
            "max": known.map(|known| value(&known.max)),
            "most_common": known.map(common),
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
        "query": table.query,
        "comment": table.comment,
    });
    format!("{object}\n")
}
