//! A sweep as a plot: rows as estimated and as they were, and cost, over the values; a band for each plan, and a mark where it flips.

use super::{COLOURS, clipped, short};
use crate::inspect::{plan_letter, telling_rows, tells_of_groups};
use crate::table::shown;
use garden_gate::inspect::{Sweep, SweepPoint};
use maud::{Markup, PreEscaped, html};

const WIDTH: f64 = 1240.0;
const LEFT: f64 = 76.0;
const RIGHT: f64 = 1216.0;
const TOP: f64 = 96.0;
const BOTTOM: f64 = 470.0;
/// Values below the axis, at most.
const LABELS: usize = 12;

fn number(value: usize) -> f64 {
    f64::from(u32::try_from(value).unwrap_or(u32::MAX))
}

/// The plot as an SVG drawing, 1,240 units wide. Both axes of figures are logarithmic.
pub fn sweep_svg(sweep: &Sweep) -> String {
    let style = format!("{COLOURS}{STYLE}");
    let legend_top = BOTTOM + 62.0;
    let plans = sweep.plans();
    let height = legend_top + number(plans.len()) * 20.0 + 16.0;
    let (actual, estimated) = (telling_rows, |point: &SweepPoint| point.telling().estimated_rows);
    let most = sweep.points.iter().flat_map(|point| [actual(point), estimated(point), point.plan.cost]);
    let most = most.fold(10.0, f64::max).log10().ceil();
    let y = move |value: f64| BOTTOM - (value.max(1.0).log10() / most) * (BOTTOM - TOP);
    let step = (RIGHT - LEFT) / number(sweep.points.len().max(1));
    let x = move |at: usize| LEFT + step * (number(at) + 0.5);
    let line = |of: &dyn Fn(&SweepPoint) -> f64| {
        let points = sweep.points.iter().enumerate().map(|(at, point)| format!("{:.1},{:.1}", x(at), y(of(point))));
        points.collect::<Vec<_>>().join(" ")
    };
    let every = sweep.points.len().div_ceil(LABELS).max(1);
    let drawing = html! {
        svg xmlns="http://www.w3.org/2000/svg" viewBox=(format!("0 0 {WIDTH} {height}")) width=(WIDTH) height=(height)
            role="img" aria-label="sweep" {
            style { (PreEscaped(style)) }
            rect class="paper" width=(WIDTH) height=(height) {}
            (key(tells_of_groups(sweep)))
            (bands(sweep, step))
            @for power in 0..=whole(most) {
                @let level = y(10_f64.powi(power));
                line class="grid" x1=(LEFT) x2=(RIGHT) y1=(level) y2=(level) {}
                text class="quiet end" x=(LEFT - 10.0) y=(level + 4.0) { (short(10_f64.powi(power))) }
            }
            polyline class="cost" points=(line(&|point| point.plan.cost)) {}
            polyline class="estimate" points=(line(&estimated)) {}
            polyline class="actual" points=(line(&actual)) {}
            @for (at, point) in sweep.points.iter().enumerate() {
                circle class="dot" cx=(format!("{:.1}", x(at))) cy=(format!("{:.1}", y(actual(point)))) r="3" {
                    title { (values(point)) ": " (actual(point)) " rows, estimated " (short(estimated(point))) ", cost " (short(point.plan.cost)) }
                }
            }
            @for (at, point) in sweep.points.iter().enumerate().step_by(every) {
                text class="quiet middle" x=(format!("{:.1}", x(at))) y=(BOTTOM + 20.0) { (clipped(&values(point), 14)) }
            }
            text class="middle" x=((LEFT + RIGHT) / 2.0) y=(BOTTOM + 42.0) { (sweep.names.join(", ")) }
            @for (at, point) in plans.iter().enumerate() {
                text x=(LEFT) y=(legend_top + number(at) * 20.0 + 14.0) {
                    tspan class="name" { "plan " (plan_letter(at)) }
                    tspan { "  " (clipped(&point.line, 150)) }
                }
            }
        }
    };
    drawing.into_string()
}

const STYLE: &str = "\
svg{font-family:system-ui,'DejaVu Sans',sans-serif;font-size:13px}.paper{fill:var(--paper)}text{fill:var(--ink)}\
.quiet{fill:var(--quiet);font-size:12px}.end{text-anchor:end}.middle{text-anchor:middle}.name{font-weight:600}\
.grid{stroke:var(--line);stroke-width:.6}.band{fill:var(--bar);opacity:.22}.flip{stroke:var(--bad);stroke-width:1.5;stroke-dasharray:5 4}\
.flipped{fill:var(--bad);font-size:12px;text-anchor:middle}\
polyline{fill:none;stroke-width:2}.actual{stroke:var(--leaf)}.estimate{stroke:var(--leaf);stroke-dasharray:6 4}.cost{stroke:var(--second)}\
.dot{fill:var(--leaf)}";

/// What the lines are.
fn key(of_groups: bool) -> Markup {
    let (rows, estimated) = if of_groups { ("rows grouped", "estimated") } else { ("rows", "rows estimated") };
    let entry = |x: f64, class: &str, name: &str| {
        html! {
            polyline class=(class) points=(format!("{x},28 {},28", x + 34.0)) {}
            text x=(x + 42.0) y="32" { (name) }
        }
    };
    html! {
        (entry(LEFT, "actual", rows))
        (entry(LEFT + 130.0, "estimate", estimated))
        (entry(LEFT + 320.0, "cost", "cost"))
    }
}

/// A band for each stretch of equal plan, every second one coloured, with the letter of its plan; marks where one ends.
fn bands(sweep: &Sweep, step: f64) -> Markup {
    let at = |point: usize| LEFT + step * number(point);
    html! {
        @for (number, stretch) in sweep.intervals().iter().enumerate() {
            @let (from, to) = (at(stretch.points.start), at(stretch.points.end));
            @if stretch.plan % 2 == 0 {
                rect class="band" x=(from) y=(TOP) width=(to - from) height=(BOTTOM - TOP) {}
            }
            text class="name middle" x=((from + to) / 2.0) y=(TOP - 10.0) { (plan_letter(stretch.plan)) }
            @if number > 0 {
                line class="flip" x1=(from) x2=(from) y1=(TOP - 24.0) y2=(BOTTOM) {}
                text class="flipped" x=(from) y=(TOP - if number % 2 == 1 { 28.0 } else { 44.0 }) { "from " (clipped(&values(&sweep.points[stretch.points.start]), 14)) }
            }
        }
    }
}

fn values(point: &SweepPoint) -> String {
    point.values.iter().map(shown).collect::<Vec<_>>().join(", ")
}

/// A power of ten as an integer.
#[expect(clippy::cast_possible_truncation, reason = "at most the 308 powers that numbers have")]
fn whole(power: f64) -> i32 {
    power as i32
}
