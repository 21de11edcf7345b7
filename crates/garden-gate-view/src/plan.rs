use crate::Look;
use crate::table::shown_time;
use crate::visible::{cut, finished, visible, wrapped};
use garden_gate::{
    Plan,
    plan::{Considered, OperatorName, PlanNode, Predicate, PredicatePlace, Rewrite, Truth},
};
use std::fmt::Write as _;
use std::time::Duration;
use unicode_width::UnicodeWidthStr;

/// A line of the tree: the branch lines, what appears there, and the figures of a node.
struct Line {
    branch: String,
    text: String,
    style: Style,
    figures: Vec<String>,
}

#[derive(Clone, Copy, PartialEq)]
enum Style {
    Operator,
    Detail,
}

/// Blanks between the tree and its figures, and between figures.
const GAP: usize = 3;
/// Details that reach farther to the right are cut.
const LONGEST: usize = 92;

/// A plan as a tree, inputs below their operator, with its figures in columns to the right: rows and cost as estimated, and when
/// it was measured the rows it gave, the estimate's error, and time. Below a condition appears what it came to.
pub fn plan_tree(plan: &Plan, look: Look) -> String {
    finished(&marked_plan_tree(plan, look))
}

/// The plan as a tree, with marks for where an estimate is far off.
pub(crate) fn marked_plan_tree(plan: &Plan, look: Look) -> String {
    let measured = plan.root.actual_rows.is_some();
    let mut lines = Vec::new();
    add(&plan.root, "", "", measured, &mut lines);
    let headings: &[&str] =
        if measured { &["rows est.", "rows", "off by", "time ms", "cost"] } else { &["rows est.", "cost", "total"] };
    let mut out = header(plan, look);
    let node_width = |line: &Line| if line.figures.is_empty() { 0 } else { line.branch.width() + line.text.width() };
    let widest = lines.iter().map(node_width).max().unwrap_or(0).max(24);
    let mut widths: Vec<usize> = headings.iter().map(|heading| heading.width()).collect();
    for line in &lines {
        for (width, figure) in widths.iter_mut().zip(&line.figures) {
            *width = (*width).max(figure.width());
        }
    }
    let (gap, kept, left) = room(&widths, widest, look.width);
    let right = |cells: &[String]| -> String {
        let figures = cells.iter().zip(&widths).take(kept);
        figures.map(|(cell, width)| format!("{}{}", " ".repeat(gap + width - cell.width()), cell)).collect()
    };
    let heading: Vec<String> = headings.iter().map(|heading| (*heading).to_owned()).collect();
    let _ = writeln!(out, "{}{}", " ".repeat(left), look.dim(right(&heading)));
    for line in &lines {
        let most = if line.figures.is_empty() { look.width.unwrap_or(usize::MAX) } else { left };
        let text = cut(&line.text, most.saturating_sub(line.branch.width()).max(12));
        let pad = " ".repeat(left.saturating_sub(line.branch.width() + text.width()));
        let text = match line.style {
            Style::Operator => look.strong(&text),
            Style::Detail => text.into_owned(),
        };
        let whole = format!(
            "{}{text}{}",
            look.dim(&line.branch),
            if line.figures.is_empty() { String::new() } else { pad + &right(&line.figures) }
        );
        let _ = writeln!(out, "{}", whole.trim_end());
    }
    for built in &plan.built {
        let text = format!(
            "built first: index {} of {}, {} rows in {:.2} ms, which is in no operator's time",
            built.index, built.table, built.rows, built.elapsed_ms
        );
        for line in wrapped(&text, look.width, "  ").lines() {
            let _ = writeln!(out, "{}", look.dim(line));
        }
    }
    if measured {
        summary(plan, &mut out, look);
    }
    out
}

/// How wide gaps are, how many figures are shown, and where they begin, so that all fits: gaps give way first, then the last figures, then
/// the titles of operators.
fn room(widths: &[usize], widest: usize, limit: Option<usize>) -> (usize, usize, usize) {
    const LEAST_TITLE: usize = 24;
    let Some(limit) = limit else { return (GAP, widths.len(), widest) };
    let figures = |gap: usize, kept: usize| widths[..kept].iter().map(|width| width + gap).sum::<usize>();
    for (gap, less) in [(GAP, 0), (2, 0), (2, 1)] {
        let kept = widths.len() - less;
        if widest + figures(gap, kept) <= limit {
            return (gap, kept, widest);
        }
    }
    let kept = widths.len() - 1;
    (2, kept, limit.saturating_sub(figures(2, kept)).clamp(LEAST_TITLE, widest))
}

fn header(plan: &Plan, look: Look) -> String {
    let generic = if plan.generic { ", generic: a parameter has no value" } else { "" };
    let planned = shown_time(Duration::try_from_secs_f64(plan.planning_ms / 1e3).unwrap_or_default());
    let text = format!("plan {}, {}, planned in {planned}{generic}", &plan.fingerprint, cost_line(plan));
    format!("{}\n", look.dim(text))
}

/// The cost of a plan and its workers; of several workers also the work that they share.
pub(crate) fn cost_line(plan: &Plan) -> String {
    match plan.workers {
        1 => format!("cost {}, 1 worker", figure(plan.cost)),
        workers => {
            format!("cost {}, {workers} workers sharing work of {}", figure(plan.cost), figure(plan.root.cost))
        }
    }
}

/// Digits in groups of three.
pub(crate) fn figure(value: f64) -> String {
    let digits = format!("{value:.0}");
    let mut out = String::new();
    for (position, digit) in digits.chars().enumerate() {
        if position > 0 && (digits.len() - position).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

fn add(node: &PlanNode, first: &str, rest: &str, measured: bool, lines: &mut Vec<Line>) {
    lines.push(Line {
        branch: first.into(),
        text: visible(&title(node)).into_owned(),
        style: Style::Operator,
        figures: figures(node, measured),
    });
    let longest = LONGEST.saturating_sub(rest.width()).max(24);
    let stem = if node.children.is_empty() { "  " } else { "│ " };
    let detail = |text: String| Line {
        branch: format!("{rest}{stem}  "),
        text: cut(&visible(&text), longest).into_owned(),
        style: Style::Detail,
        figures: Vec::new(),
    };
    if let Some(rounds) = node.rounds {
        lines.push(detail(in_rounds(node, rounds)));
    }
    lines.extend(node.details.iter().map(|text| detail(text.clone())));
    if !node.columns.is_empty() {
        lines.push(detail(format!("reads {}", node.columns.join(", "))));
    }
    if let Some(passed @ 1..) = node.passed_rows {
        lines.push(detail(format!("not read: {passed} rows, in parts whose values all lie elsewhere")));
    }
    if let (Some(spilled @ 1..), Some(held)) = (node.spilled_bytes, node.held_bytes) {
        lines.push(detail(format!("in files: {}, at most {} of a worker in memory", bytes(spilled), bytes(held))));
    }
    let tested = |predicate: &Predicate| matches!(predicate.place, PredicatePlace::Filter | PredicatePlace::Residual);
    for predicate in &node.predicates {
        let implied = if predicate.implied { " (implied)" } else { "" };
        lines.push(detail(format!("{}: {}{implied}", predicate.place, predicate.text)));
        if tested(predicate)
            && let Some(truth) = node.truth.iter().find(|truth| truth.predicate == predicate.text)
        {
            lines.push(detail(format!("    {}", tally(truth))));
        }
    }
    // What is the tally of no single condition is that of all of them, or of the membership test of an anti join.
    let several = node.predicates.iter().filter(|predicate| tested(predicate)).count() > 1;
    for (at, truth) in node.truth.iter().enumerate() {
        if node.predicates.iter().any(|predicate| tested(predicate) && predicate.text == truth.predicate) {
            continue;
        }
        let membership = node.null_aware && at == 0;
        let what = if several && !membership { "all of them" } else { &truth.predicate };
        lines.push(detail(format!("{what}: {}", tally(truth))));
    }
    for (position, child) in node.children.iter().enumerate() {
        let last = position + 1 == node.children.len();
        let (branch, below) = if last { ("└─ ", "   ") } else { ("├─ ", "│  ") };
        add(child, &format!("{rest}{branch}"), &format!("{rest}{below}"), measured, lines);
    }
}

/// How often a node of a recursion ran, and what an average round gave, with which the estimate is compared.
fn in_rounds(node: &PlanNode, rounds: u64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "a figure to read")]
    let average = node.actual_rows.unwrap_or(0) as f64 / rounds.max(1) as f64;
    match (node.operator, rounds) {
        (OperatorName::Recursion, 1) => "1 round".to_owned(),
        (OperatorName::Recursion, _) => format!("{rounds} rounds"),
        _ => format!("run {rounds} times, {average:.1} rows each; the estimate is for one"),
    }
}

/// A number of bytes in the largest unit of which there are ten.
pub fn bytes(bytes: u64) -> String {
    match bytes {
        ..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} kB", bytes / 1000),
        _ => format!("{} MB", bytes / 1_000_000),
    }
}

/// The operator in one line.
pub(crate) fn title(node: &PlanNode) -> String {
    node.to_string()
}

fn figures(node: &PlanNode, measured: bool) -> Vec<String> {
    if !measured {
        return vec![figure(node.estimated_rows), figure(node.own_cost), figure(node.cost)];
    }
    if node.ran == Some(false) {
        return vec![
            figure(node.estimated_rows),
            "not run".into(),
            String::new(),
            String::new(),
            figure(node.own_cost),
        ];
    }
    let rows = node.actual_rows.map_or_else(String::new, |rows| {
        #[expect(clippy::cast_precision_loss, reason = "a figure to read")]
        figure(rows as f64)
    });
    let error = node.estimate_error.map_or_else(String::new, |error| format!("{error:.1}×"));
    let time = node.elapsed_ms.map_or_else(String::new, |time| format!("{time:.2}"));
    vec![figure(node.estimated_rows), rows, error, time, figure(node.own_cost)]
}

/// What a condition came to, in words.
pub fn tally(truth: &Truth) -> String {
    format!("TRUE {}, FALSE {}, UNKNOWN {}", truth.holds, truth.fails, truth.unknown)
}

/// The worst estimate, and what the filters lost to NULL.
fn summary(plan: &Plan, out: &mut String, look: Look) {
    if let Some(worst) = plan.worst_estimate()
        && let Some(error) = worst.estimate_error
    {
        let text = format!("worst estimate: {}, off by {error:.1}×", title(worst));
        let text = if error >= 4.0 { look.warn(text) } else { look.dim(text) };
        let _ = writeln!(out, "{text}");
    }
    let lost: u64 = plan.nodes().iter().filter_map(|node| node.truth.first()).map(|truth| truth.unknown).sum();
    if lost > 0 {
        let text = format!("{lost} rows were neither kept nor refused: their condition was UNKNOWN, because of a NULL");
        for line in wrapped(&text, look.width, "  ").lines() {
            let _ = writeln!(out, "{}", look.warn(line));
        }
    }
}

/// The decisions of the planner, each with its candidates and their costs, the chosen one marked.
pub fn considered(all: &[Considered], look: Look) -> String {
    finished(&marked_considered(all, look))
}

fn marked_considered(all: &[Considered], look: Look) -> String {
    let mut out = String::new();
    for decision in all {
        let _ = writeln!(out, "{}", look.strong(decision.decision.to_string()));
        for candidate in &decision.candidates {
            let cost = candidate.cost.map_or_else(|| "impossible".to_owned(), figure);
            let mark = if candidate.chosen { " ← chosen" } else { "" };
            let reason = candidate.reason.as_ref().map_or_else(String::new, |reason| format!("  ({reason})"));
            let line = format!("  {cost:>14}  {}{mark}{reason}", visible(&candidate.choice));
            let _ = writeln!(out, "{}", wrapped(&line, look.width, "                    "));
        }
    }
    out
}

/// The rewrites that fired, in order: what changed and why that is allowed.
pub fn rewrites(all: &[Rewrite], look: Look) -> String {
    finished(&marked_rewrites(all, look))
}

fn marked_rewrites(all: &[Rewrite], look: Look) -> String {
    if all.is_empty() {
        return format!("{}\n", look.dim("no rewrite fired"));
    }
    all.iter()
        .map(|rewrite| {
            let change = wrapped(&format!("{}: {}", rewrite.rule, visible(&rewrite.change)), look.width, "  ");
            let change = change
                .split_once(": ")
                .map_or_else(|| change.clone(), |(rule, rest)| format!("{}: {rest}", look.strong(rule)));
            let why = wrapped(&format!("  because {}", rewrite.why), look.width, "  ");
            format!("{change}\n{}\n", look.dim(why))
        })
        .collect()
}
