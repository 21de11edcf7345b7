//! Comparisons, sweeps and steps, as text to read and as JSON.

use crate::json::{columns, millis, rows, value};
use crate::table::{grid, shown, table_head};
use crate::visible::{finished, visible, wrapped};
use crate::{Look, plan};
use garden_gate::{
    Value,
    inspect::{Comparison, Difference, DifferenceKind, Step, StepPart, Sweep, SweepPoint},
};
use serde_json::{Value as Json, json};
use std::fmt::Write as _;

/// Whether the rows and the plans are the same, what each query costs, and where they part.
pub fn comparison(found: &Comparison, look: Look) -> String {
    finished(&marked_comparison(found, look))
}

fn marked_comparison(found: &Comparison, look: Look) -> String {
    let verdict = |same: bool, yes: &str, no: &str| if same { look.good(yes) } else { look.warn(no) };
    let mut out = String::new();
    let (rows, plans) = (
        verdict(found.same_rows, "the rows are the same", "the rows differ"),
        verdict(found.same_plan, "the plans are the same", "the plans differ"),
    );
    let _ = writeln!(out, "{rows}, {plans}\n");
    let cheapest = found.queries.iter().map(|query| query.plan.cost).fold(f64::INFINITY, f64::min);
    let quickest = found.queries.iter().map(|query| query.median()).min().unwrap_or_default().as_secs_f64();
    let ratio = |value: f64, least: f64| if least > 0.0 { format!("{:.2}×", value / least) } else { String::new() };
    let lines: Vec<Vec<String>> = found
        .queries
        .iter()
        .map(|query| {
            let (first, last) = (query.times.first().copied(), query.times.last().copied());
            let time = |time: Option<std::time::Duration>| {
                time.map_or_else(String::new, |time| format!("{:.2}", time.as_secs_f64() * 1e3))
            };
            vec![
                query.label.clone(),
                query.rows.row_count().to_string(),
                plan::figure(query.plan.cost),
                ratio(query.plan.cost, cheapest),
                time(Some(query.median())),
                ratio(query.median().as_secs_f64(), quickest),
                format!("{}–{}", time(first), time(last)),
                query.plan.fingerprint.clone(),
            ]
        })
        .collect();
    let head = ["query", "rows", "cost", "", "median ms", "", "range ms", "plan"];
    out.push_str(&grid(&head, &lines, &[0, 7], look));
    for group in by_pair(&found.differences) {
        let _ = writeln!(out, "\n{}", look.strong(format!("{} and {}", group[0].between[0], group[0].between[1])));
        for difference in group {
            let _ = writeln!(out, "  {}", difference_line(difference));
        }
    }
    out
}

fn by_pair(all: &[Difference]) -> Vec<&[Difference]> {
    all.chunk_by(|a, b| a.between == b.between).collect()
}

fn difference_line(difference: &Difference) -> String {
    match &difference.row {
        Some(row) => {
            let cells: Vec<_> = row.iter().map(shown).collect();
            format!("row ({}): {}", cells.join(", "), difference.text)
        }
        None if difference.kind == DifferenceKind::Plan => format!("plan {}", difference.text),
        None => difference.text.clone(),
    }
}

/// `{"kind":"comparison","queries":[…],"same_rows":…,"same_plan":…,"differences":[…]}`
pub fn comparison_json(found: &Comparison) -> String {
    let queries: Vec<Json> = found
        .queries
        .iter()
        .map(|query| {
            json!({
                "label": query.label,
                "rows_count": query.rows.row_count(),
                "cost": query.plan.cost,
                "elapsed_ms": millis(query.median()),
                "times_ms": query.times.iter().map(|time| millis(*time)).collect::<Vec<_>>(),
                "fingerprint": query.plan.fingerprint,
            })
        })
        .collect();
    let differences: Vec<Json> = found
        .differences
        .iter()
        .map(|difference| {
            json!({
                "kind": difference.kind.name(),
                "between": difference.between,
                "text": difference.text,
                "row": difference.row.as_ref().map(|row| row.iter().map(value).collect::<Vec<_>>()),
                "times": difference.times,
            })
        })
        .collect();
    let object = json!({
        "kind": "comparison",
        "queries": queries,
        "same_rows": found.same_rows,
        "same_plan": found.same_plan,
        "differences": differences,
    });
    format!("{object}\n")
}

/// The name of a plan in a sweep: A, B, … Z, then P27.
pub(crate) fn plan_letter(number: usize) -> String {
    match u8::try_from(number) {
        Ok(small) if small < 26 => char::from(b'A' + small).to_string(),
        _ => format!("P{}", number + 1),
    }
}

/// The plans that were met, then what each value came to, with a line wherever the plan changes.
pub fn sweep(found: &Sweep, look: Look) -> String {
    finished(&marked_sweep(found, look))
}

fn marked_sweep(found: &Sweep, look: Look) -> String {
    let (plans, stretches) = (found.plans(), found.intervals());
    let mut out = String::new();
    for (number, point) in plans.iter().enumerate() {
        let name = look.strong(format!("plan {}", plan_letter(number)));
        let line = visible(&point.line);
        let _ = writeln!(
            out,
            "{name}  {}  {}",
            look.dim(&point.plan.shape),
            wrapped(&line, look.width.map(|width| width.saturating_sub(26).max(30)), "  ")
        );
    }
    let mut lines = Vec::new();
    for stretch in &stretches {
        for point in &found.points[stretch.points.clone()] {
            let worst = point.plan.worst_estimate().and_then(|node| node.estimate_error).unwrap_or(1.0);
            let mut line: Vec<String> = point.values.iter().map(|value| shown(value).into_owned()).collect();
            let first = stretch.points.start > 0 && std::ptr::eq(point, &raw const found.points[stretch.points.start]);
            line.extend([
                format!("{}{}", plan_letter(stretch.plan), if first { " ←" } else { "" }),
                plan::figure(point.telling().estimated_rows),
                plan::figure(telling_rows(point)),
                format!("{worst:.1}×"),
                plan::figure(point.plan.cost),
                format!("{:.2}", point.elapsed.as_secs_f64() * 1e3),
            ]);
            lines.push(line);
        }
    }
    let mut head: Vec<&str> = found.names.iter().map(String::as_str).collect();
    head.extend(["plan", "rows est.", "rows", "worst off by", "cost", "time ms"]);
    let _ = writeln!(out);
    out.push_str(&grid(&head, &lines, &[found.names.len()], look));
    let flips = stretches.len().saturating_sub(1);
    let text = match flips {
        0 => format!("one plan for all {} values", found.points.len()),
        1 => "the plan changes once, at ←".to_owned(),
        _ => format!("the plan changes {flips} times, at each ←"),
    };
    let _ = writeln!(out, "{}", look.dim(text));
    if tells_of_groups(found) {
        let _ = writeln!(out, "{}", look.dim("rows are those that are grouped into one"));
    }
    out + &fixed_plans(found, look)
}

/// Whether what is reported rows is of those that are grouped, for any of the values.
pub(crate) fn tells_of_groups(found: &Sweep) -> bool {
    found.points.iter().any(|point| !std::ptr::eq(point.telling(), &raw const point.plan.root))
}

/// Rows where the values of a point show.
pub(crate) fn telling_rows(point: &SweepPoint) -> f64 {
    let rows = point.telling().actual_rows.unwrap_or(point.actual_rows);
    f64::from(u32::try_from(rows).unwrap_or(u32::MAX))
}

/// What each value would cost under each plan, the cheapest marked.
fn fixed_plans(found: &Sweep, look: Look) -> String {
    let letters: Vec<String> =
        (0..found.plans().len()).map(|plan| format!("cost under {}", plan_letter(plan))).collect();
    let lines: Vec<Vec<String>> = found
        .fixed
        .iter()
        .zip(&found.points)
        .map(|(costs, point)| {
            let least = costs.iter().flatten().copied().fold(f64::INFINITY, f64::min);
            let cost = |cost: &Option<f64>| match cost {
                Some(cost) if *cost <= least => format!("{} ←", plan::figure(*cost)),
                Some(cost) => format!("{}  ", plan::figure(*cost)),
                None => "not possible  ".to_owned(),
            };
            point.values.iter().map(|value| shown(value).into_owned()).chain(costs.iter().map(cost)).collect()
        })
        .collect();
    if lines.is_empty() {
        return String::new();
    }
    let head: Vec<&str> = found.names.iter().chain(&letters).map(String::as_str).collect();
    let marked = look.dim("← marks the least cost for a value");
    format!("\n{}{marked}\n", grid(&head, &lines, &[], look))
}

/// A value whose type the statement settles: a number where it is written as one.
fn number_or_text(given: &Value) -> Json {
    match given {
        Value::Untyped(text) => match serde_json::from_str::<Json>(text) {
            Ok(number @ Json::Number(_)) => number,
            _ => value(given),
        },
        other => value(other),
    }
}

/// One object a combination of values: `{"kind":"sweep","parameters":{…},"fingerprint":…,"shape":…,"plan":…,…}`; `fixed` is by shape.
pub fn sweep_json(found: &Sweep) -> String {
    let point = |(at, point): (usize, &SweepPoint)| {
        let pairs = found.names.iter().cloned().zip(point.values.iter().map(number_or_text));
        let object = json!({
            "kind": "sweep",
            "parameters": pairs.collect::<serde_json::Map<String, Json>>(),
            "fingerprint": point.plan.fingerprint,
            "shape": point.plan.shape,
            "plan": point.line,
            "estimated_rows": point.plan.root.estimated_rows,
            "actual_rows": point.actual_rows,
            "estimate_error": point.plan.worst_estimate().and_then(|node| node.estimate_error),
            "cost": point.plan.cost,
            "elapsed_ms": millis(point.elapsed),
        });
        let mut object = object;
        if let (Some(costs), Json::Object(fields)) = (found.fixed.get(at), &mut object) {
            let plans = found.plans();
            let costs = plans.iter().zip(costs).map(|(plan, cost)| (plan.plan.shape.clone(), json!(cost)));
            fields.insert("fixed".into(), Json::Object(costs.collect()));
        }
        format!("{object}\n")
    };
    found.points.iter().enumerate().map(point).collect()
}

/// What a step is, in words: `even, a common table expression: 3 rows`.
fn step_title(step: &Step) -> String {
    let what = match (step.part, step.round) {
        (StepPart::Recursion, Some(0)) => "the anchor of the recursion".to_owned(),
        (StepPart::Recursion, Some(round)) => format!("round {round}"),
        (StepPart::With, _) => "a common table expression".to_owned(),
        (StepPart::Derived, _) => "a query in FROM".to_owned(),
        (StepPart::Subquery, _) => "a query in an expression".to_owned(),
        (StepPart::Operand, _) => "an operand".to_owned(),
        (StepPart::From, _) => "before WHERE".to_owned(),
        (StepPart::Where, _) => "kept by WHERE".to_owned(),
        (StepPart::Group, _) => "the groups".to_owned(),
        (StepPart::Having, _) => "kept by HAVING".to_owned(),
        _ => "the query".to_owned(),
    };
    let count = step.rows.row_count();
    let beside = if step.correlated { ", beside the rows around it" } else { "" };
    format!("{what}{beside}: {count} row{}", if count == 1 { "" } else { "s" })
}

/// Each step with its first `most` rows.
pub fn steps(all: &[Step], most: usize, look: Look) -> String {
    finished(&marked_steps(all, most, look))
}

fn marked_steps(all: &[Step], most: usize, look: Look) -> String {
    let mut out = String::new();
    for (number, step) in all.iter().enumerate() {
        if number > 0 {
            let _ = writeln!(out);
        }
        let _ = writeln!(out, "{}  {}", look.strong(&step.name), look.dim(step_title(step)));
        out.push_str(&table_head(&step.rows, most, look));
        let left = step.rows.row_count().saturating_sub(most);
        if left > 0 {
            let _ = writeln!(out, "{}", look.dim(format!("… {left} more")));
        }
    }
    out
}

/// One object a step: `{"kind":"step","name":…,"part":…,"rows_count":…,"columns":[…],"rows":[…]}`; a round of a recursion has `round`.
pub fn steps_json(all: &[Step], most: usize) -> String {
    let object = |step: &Step| {
        let mut object = json!({
            "kind": "step",
            "name": step.name,
            "part": step.part.name(),
            "correlated": step.correlated,
            "rows_count": step.rows.row_count(),
            "columns": columns(&step.rows),
            "rows": rows(&step.rows, most),
        });
        if let (Some(round), Json::Object(fields)) = (step.round, &mut object) {
            fields.insert("round".into(), round.into());
        }
        format!("{object}\n")
    };
    all.iter().map(object).collect()
}
