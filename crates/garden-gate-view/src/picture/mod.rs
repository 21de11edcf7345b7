//! Drawings: plans as SVG, HTML and DOT, sweeps as a plot. Each is whole in itself: no script, no font, no file beside it. Text is text,
//! and the colours follow the reader's choice of light or dark.

mod dot;
mod plan_svg;
mod report;
mod sweep_svg;

pub use dot::plan_dot;
pub use plan_svg::plan_svg;
pub use report::{PlanReport, plan_html, rows_html, rows_html_head};
pub use sweep_svg::sweep_svg;

/// Colours by what they stand for, in light and in dark.
const COLOURS: &str = "\
:root{--paper:#fcfbf7;--ink:#22261f;--quiet:#6a7263;--line:#c9cdbf;--card:#ffffff;--leaf:#3f7d4e;--bar:#9cc3a5;\
--good:#3f7d4e;--fair:#a8801c;--bad:#b4412b;--second:#4a6fa5}\
@media (prefers-color-scheme:dark){:root{--paper:#191c18;--ink:#e6e8e0;--quiet:#98a08f;--line:#3d443a;--card:#22271f;--leaf:#7fc08e;\
--bar:#3f6b4a;--good:#7fc08e;--fair:#dcb34e;--bad:#ec8670;--second:#8fb0e0}}";

/// Room that a text of this many characters takes at this size, about: the fonts of readers differ.
fn text_width(characters: usize, size: f64) -> f64 {
    f64::from(u32::try_from(characters).unwrap_or(u32::MAX)) * size * 0.56
}

/// The text up to so many characters.
fn clipped(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    text.chars().take(most.saturating_sub(1)).chain(['…']).collect()
}

/// A row count in few characters: `950`, `12.4 k`, `3.1 M`.
fn short(rows: f64) -> String {
    let in_units = |unit: f64, name: &str| {
        let text = format!("{:.1}", rows / unit);
        format!("{} {name}", text.strip_suffix(".0").unwrap_or(&text))
    };
    match rows {
        _ if rows < 999.5 => format!("{rows:.0}"),
        _ if rows < 999_500.0 => in_units(1e3, "k"),
        _ if rows < 999_500_000.0 => in_units(1e6, "M"),
        _ => in_units(1e9, "G"),
    }
}

/// How far an estimate is off, in words of a colour.
fn error_class(error: f64) -> &'static str {
    match error {
        _ if error < 2.0 => "good",
        _ if error < 10.0 => "fair",
        _ => "bad",
    }
}
