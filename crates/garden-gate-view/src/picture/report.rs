//! A page about one query: its text, its plan, the first of its rows, what was considered and what was rewritten.

use super::COLOURS;
use super::plan_svg::drawing;
use crate::plan::figure;
use crate::table::shown;
use garden_gate::{Plan, ResultColumn, ResultSet, error::Note, plan::Considered};
use maud::{DOCTYPE, Markup, PreEscaped, html};

/// Rows of the result that are shown.
const SAMPLE: usize = 20;

/// What a page is made of.
#[derive(Clone, Copy, Debug)]
pub struct PlanReport<'a> {
    /// The text of the query.
    pub sql: &'a str,
    /// Its plan.
    pub plan: &'a Plan,
    /// Its rows, when it was run.
    pub rows: Option<&'a ResultSet>,
}

/// The page, whole in itself.
pub fn plan_html(report: &PlanReport<'_>) -> String {
    let plan = report.plan;
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width";
                title { "plan " (plan.fingerprint) }
                style { (PreEscaped(format!("{COLOURS}{STYLE}"))) }
            }
            body {
                main {
                    h1 { "Plan " code { (plan.fingerprint) } }
                    pre { (report.sql.trim()) }
                    @if !plan.notes.is_empty() { (notes(&plan.notes)) }
                    (drawing(plan))
                    @if let Some(rows) = report.rows { (sample(rows)) }
                    @if !plan.rewrites.is_empty() { (rewrites(plan)) }
                    @if !plan.considered.is_empty() { (considered(&plan.considered)) }
                }
            }
        }
    };
    page.into_string()
}

const STYLE: &str = "\
body{background:var(--paper);color:var(--ink);font:15px/1.5 system-ui,'DejaVu Sans',sans-serif;margin:0}\
main{max-width:1240px;margin:0 auto;padding:24px 16px}h1{font-size:20px}h2{font-size:16px;margin:32px 0 8px}\
pre,code{font-family:ui-monospace,'DejaVu Sans Mono',monospace;font-size:13px}\
pre{background:var(--card);border:1px solid var(--line);border-radius:6px;padding:12px;white-space:pre-wrap}\
svg{max-width:100%;height:auto}table{border-collapse:collapse;font-size:13px}\
th,td{border-bottom:1px solid var(--line);padding:3px 14px 3px 0;text-align:left;vertical-align:top}\
td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}.quiet{color:var(--quiet)}.small{font-size:13px;margin:6px 0 24px}.null{color:var(--quiet);font-style:italic}\
.chosen{font-weight:600;color:var(--leaf)}.note{border-left:3px solid var(--fair);padding:2px 10px;margin:6px 0}";

fn notes(notes: &[Note]) -> Markup {
    html! {
        @for note in notes {
            p.note {
                @if let Some(place) = note.position() { span.quiet { "line " (place.line) ", column " (place.column) ": " } }
                (note.message)
                @if let Some(help) = &note.help { br; span.quiet { (help) } }
            }
        }
    }
}

/// The beginning of a page of results, in front of the first of them.
pub fn rows_html_head() -> String {
    let head = html! {
        (DOCTYPE)
        meta charset="utf-8";
        meta name="viewport" content="width=device-width";
        title { "rows" }
        style { (PreEscaped(format!("{COLOURS}{STYLE}"))) }
    };
    // A page may end without closing what it holds.
    head.into_string() + "<main>\n"
}

/// All rows of a result as a table, and how many there are.
pub fn rows_html(rows: &ResultSet) -> String {
    let count = rows.row_count();
    let body = html! { (table(rows, count)) p.quiet.small { (count) @if count == 1 { " row" } @else { " rows" } } };
    body.into_string() + "\n"
}

fn sample(rows: &ResultSet) -> Markup {
    let more = rows.row_count().saturating_sub(SAMPLE);
    html! {
        h2 { "Rows" }
        (table(rows, SAMPLE))
        @if more > 0 { p.quiet { "… " (more) " more" } }
    }
}

fn table(rows: &ResultSet, most: usize) -> Markup {
    html! {
        table {
            tr { @for column in rows.columns() { th class=[class(column, false)] { (column.name) } } }
            @for row in rows.rows().take(most) {
                tr {
                    @for (value, column) in row.all_shown().iter().zip(rows.columns()) {
                        td class=[class(column, value.is_null())] {
                            @if value.is_null() { "NULL" } @else { (shown(value)) }
                        }
                    }
                }
            }
        }
    }
}

/// How a cell of a column is set: numbers to the right, NULL apart from text.
fn class(column: &ResultColumn, is_null: bool) -> Option<&'static str> {
    match (column.sql_type.is_number(), is_null) {
        (true, true) => Some("n null"),
        (true, false) => Some("n"),
        (false, true) => Some("null"),
        (false, false) => None,
    }
}

fn rewrites(plan: &Plan) -> Markup {
    html! {
        h2 { "From what was written to what is run" }
        table {
            tr { th { "rule" } th { "what it changed" } th { "why it may" } }
            @for rewrite in &plan.rewrites {
                tr { td { (rewrite.rule) } td { code { (rewrite.change) } } td { (rewrite.why) } }
            }
        }
    }
}

fn considered(all: &[Considered]) -> Markup {
    html! {
        h2 { "What was considered" }
        table {
            tr { th { "decision" } th { "choice" } th.n { "cost" } th { } }
            @for decision in all {
                @for (at, candidate) in decision.candidates.iter().enumerate() {
                    tr {
                        td { @if at == 0 { (decision.decision) } }
                        @if candidate.chosen { td.chosen { (candidate.choice) " ← chosen" } } @else { td { (candidate.choice) } }
                        td.n { @if let Some(cost) = candidate.cost { (figure(cost)) } @else { "impossible" } }
                        td.quiet { @if let Some(reason) = &candidate.reason { (reason) } }
                    }
                }
            }
        }
    }
}
