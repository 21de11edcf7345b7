//! A plan as a drawing: a card for each operator, inputs below and to the right of theirs; edges as wide as many rows pass; beside each card
//! its rows, how far the estimate was off, and its share of the time or cost.

use super::{COLOURS, clipped, error_class, short, text_width};
use crate::plan::{cost_line, figure, title};
use garden_gate::{Plan, plan::PlanNode};
use maud::{Markup, PreEscaped, html};

const WIDTH: f64 = 1240.0;
const ROW: f64 = 46.0;
const GAP: f64 = 8.0;
const LEFT: f64 = 24.0;
const TOP: f64 = 64.0;
/// Where the figures begin.
const FIGURES: f64 = 880.0;
/// The bar of the node that takes most.
const BAR: f64 = 120.0;

/// An operator with its place in the drawing.
struct Card<'p> {
    node: &'p PlanNode,
    depth: usize,
    /// The card above that it feeds.
    parent: Option<usize>,
}

fn number(value: usize) -> f64 {
    f64::from(u32::try_from(value).unwrap_or(u32::MAX))
}

/// Cards from the root down, each before its inputs.
fn cards<'p>(node: &'p PlanNode, depth: usize, parent: Option<usize>, all: &mut Vec<Card<'p>>) {
    let at = all.len();
    all.push(Card { node, depth, parent });
    node.children.iter().for_each(|child| cards(child, depth + 1, Some(at), all));
}

/// The plan as an SVG drawing, 1,240 units wide.
pub fn plan_svg(plan: &Plan) -> String {
    drawing(plan).into_string()
}

/// The plan as cards, each below the one that reads it.
pub(super) fn drawing(plan: &Plan) -> Markup {
    let mut all = Vec::new();
    cards(&plan.root, 0, None, &mut all);
    let deepest = all.iter().map(|card| card.depth).max().unwrap_or(0);
    let indent = (420.0 / number(deepest.max(1))).min(30.0);
    let height = TOP + number(all.len()) * (ROW + GAP) + 16.0;
    let measured = plan.root.actual_rows.is_some();
    let weights: Vec<f64> =
        all.iter().map(|card| card.node.elapsed_ms.unwrap_or(card.node.own_cost).max(0.0)).collect();
    let total: f64 = weights.iter().sum::<f64>().max(f64::MIN_POSITIVE);
    let most = weights.iter().copied().fold(f64::MIN_POSITIVE, f64::max);
    let style = format!("{COLOURS}{STYLE}");
    html! {
        svg xmlns="http://www.w3.org/2000/svg" viewBox=(format!("0 0 {WIDTH} {height}")) width=(WIDTH) height=(height)
            role="img" aria-label="plan" {
            style { (PreEscaped(style)) }
            rect class="paper" width=(WIDTH) height=(height) {}
            text class="head" x=(LEFT) y="26" { (head(plan)) }
            text class="quiet count" x=(FIGURES + 62.0) y="50" { @if measured { "rows" } @else { "rows est." } }
            @if measured { text class="quiet count" x=(FIGURES + 130.0) y="50" { "off by" } }
            text class="quiet" x=(FIGURES + 170.0) y="50" { @if measured { "share of time" } @else { "share of cost" } }
            @for (at, card) in all.iter().enumerate() { (edge(&all, at, card, indent)) }
            @for (at, card) in all.iter().enumerate() {
                (one(card, (LEFT + number(card.depth) * indent, top(at)), (weights[at] / total, weights[at] / most)))
            }
        }
    }
}

const STYLE: &str = "\
svg{font-family:system-ui,'DejaVu Sans',sans-serif;font-size:13px}\
.paper{fill:var(--paper)}text{fill:var(--ink)}.head{font-size:14px}.quiet{fill:var(--quiet);font-size:12px}\
.card{fill:var(--card);stroke:var(--line)}.name{font-weight:600}.edge{fill:none;stroke:var(--bar);stroke-linecap:round}\
.bar{fill:var(--bar)}.good{fill:var(--good)}.fair{fill:var(--fair);font-weight:600}.bad{fill:var(--bad);font-weight:700}\
.count{text-anchor:end;font-variant-numeric:tabular-nums}";

fn top(at: usize) -> f64 {
    TOP + number(at) * (ROW + GAP)
}

fn head(plan: &Plan) -> String {
    let generic = if plan.generic { ", generic" } else { "" };
    let worst = plan.worst_estimate().and_then(|node| node.estimate_error);
    let worst = worst.map_or_else(String::new, |error| format!(", worst estimate off by {error:.1}×"));
    format!("plan {}, {}{generic}{worst}", plan.fingerprint, cost_line(plan))
}

/// The line on which the rows of a card reach the one above: down along its left side, then to the right.
fn edge(all: &[Card<'_>], at: usize, card: &Card<'_>, indent: f64) -> Markup {
    let Some(parent) = card.parent else { return html! {} };
    let x = LEFT + number(all[parent].depth) * indent + indent / 2.0;
    let (from, to) = (top(parent) + ROW, top(at) + ROW / 2.0);
    let end = LEFT + number(card.depth) * indent;
    let rows = node_rows(card.node);
    let width = (1.0 + rows.max(1.0).log10() * 1.4).min(indent * 0.6);
    let path = format!("M{x:.1} {from:.1} V{:.1} Q{x:.1} {to:.1} {:.1} {to:.1} H{end:.1}", to - 8.0, x + 8.0);
    html! { path class="edge" d=(path) stroke-width=(format!("{width:.1}")) {} }
}

fn node_rows(node: &PlanNode) -> f64 {
    node.actual_rows.map_or(node.estimated_rows, |rows| f64::from(u32::try_from(rows).unwrap_or(u32::MAX)))
}

fn one(card: &Card<'_>, (x, y): (f64, f64), (share, of_most): (f64, f64)) -> Markup {
    let node = card.node;
    let width = FIGURES - 24.0 - x;
    let room = |size: f64| (1..400).take_while(|count| text_width(*count, size) < width - 20.0).count();
    let details = details(node);
    let error = node.estimate_error;
    html! {
        g {
            title { (title(node)) @for line in &details { "\n" (line) } }
            rect class="card" x=(x) y=(y) width=(width) height=(ROW) rx="6" {}
            text class="name" x=(x + 10.0) y=(y + 19.0) { (clipped(&title(node), room(13.5))) }
            text class="quiet" x=(x + 10.0) y=(y + 36.0) { (clipped(&details.join("  ·  "), room(12.0))) }
            text class="count" x=(FIGURES + 62.0) y=(y + 19.0) { (if node.ran == Some(false) { "not run".to_owned() } else { short(node_rows(node)) }) }
            @if node.actual_rows.is_some() {
                text class="quiet count" x=(FIGURES + 62.0) y=(y + 36.0) { "est. " (short(node.estimated_rows)) }
            }
            @if let Some(error) = error {
                text class=(format!("count {}", error_class(error))) x=(FIGURES + 130.0) y=(y + 19.0) { (format!("{error:.1}×")) }
            }
            rect class="bar" x=(FIGURES + 170.0) y=(y + 9.0) width=(format!("{:.1}", (of_most * BAR).max(1.0))) height="12" rx="2" {}
            text class="quiet" x=(FIGURES + 170.0) y=(y + 36.0) { (weight(node, share)) }
        }
    }
}

/// The share of the whole, and the figure it is one of.
fn weight(node: &PlanNode, share: f64) -> String {
    let share = share * 100.0;
    match node.elapsed_ms {
        Some(elapsed) => format!("{share:.0} %, {elapsed:.2} ms"),
        None => format!("{share:.0} %, {}", figure(node.own_cost)),
    }
}

/// What a node does, in the order people ask for it: conditions, then what it computes or reads.
fn details(node: &PlanNode) -> Vec<String> {
    let predicate = |predicate: &garden_gate::plan::Predicate| {
        let implied = if predicate.implied { " (implied)" } else { "" };
        format!("{}: {}{implied}", predicate.place, predicate.text)
    };
    let mut lines: Vec<String> = node.predicates.iter().map(predicate).collect();
    lines.extend(node.details.iter().cloned());
    if let Some(whole) = node.truth.first()
        && whole.unknown > 0
    {
        lines.push(format!("UNKNOWN for {} rows", whole.unknown));
    }
    if lines.is_empty() && !node.columns.is_empty() {
        lines.push(format!("reads {}", node.columns.join(", ")));
    }
    lines
}
