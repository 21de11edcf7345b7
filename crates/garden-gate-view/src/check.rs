//! What checks came to: for people, as JSON, and for build servers.

use crate::json::{millis, value};
use crate::table::{grid, shown};
use crate::visible::finished;
use crate::{Look, plan_tree};
use garden_gate::inspect::{CheckOutcome, CheckReport, Failure};
use serde_json::{Value as Json, json};
use std::fmt::Write as _;
use unicode_width::UnicodeWidthStr;

/// The checks of a file, each that failed with what did not hold.
pub fn check_report(report: &CheckReport, look: Look) -> String {
    finished(&marked_check_report(report, look))
}

fn marked_check_report(report: &CheckReport, look: Look) -> String {
    let mut out = format!("{}\n", look.strong(report.path.display()));
    let width = report.checks.iter().map(|check| title(check).width()).max().unwrap_or(0);
    for check in &report.checks {
        let mark = if check.passed() { look.good("passed") } else { look.warn("failed") };
        let title = title(check);
        let pad = " ".repeat(width - title.width());
        let time = look.dim(format!("{:.1} ms", check.elapsed.as_secs_f64() * 1e3));
        let _ = writeln!(out, "  {mark}  {title}{pad}  {time}");
        for failure in &check.failures {
            for line in failure_text(failure, look).lines() {
                let _ = writeln!(out, "          {line}");
            }
        }
    }
    out
}

/// `4 checks passed, 1 failed`
pub fn check_summary(reports: &[CheckReport], look: Look) -> String {
    finished(&marked_check_summary(reports, look))
}

fn marked_check_summary(reports: &[CheckReport], look: Look) -> String {
    let all = || reports.iter().flat_map(|report| &report.checks);
    let passed = all().filter(|check| check.passed()).count();
    let failed = all().count() - passed;
    let checks = if passed == 1 { "check" } else { "checks" };
    let text = format!("{passed} {checks} passed, {failed} failed");
    format!("{}\n", if failed == 0 { look.good(text) } else { look.warn(text) })
}

fn title(check: &CheckOutcome) -> String {
    let over = check.over.iter().map(|(name, value)| format!(" {name} = {}", shown(value)));
    format!("{}{}", check.name, over.collect::<String>())
}

/// What does not hold: the rows that are missing (−) and those not expected (+), or two plans side by side.
fn failure_text(failure: &Failure, look: Look) -> String {
    let mut out = format!("{}: {}\n", look.strong(failure.expectation), failure.text);
    if !failure.rows.is_empty() {
        let mut head = vec![""];
        head.extend(failure.columns.iter().map(String::as_str));
        let lines: Vec<Vec<String>> = failure
            .rows
            .iter()
            .map(|change| {
                let sign = if change.found { "+" } else { "−" };
                std::iter::once(sign.to_owned()).chain(change.row.iter().map(|cell| shown(cell).into_owned())).collect()
            })
            .collect();
        let left: Vec<usize> = (0..head.len()).collect();
        for line in grid(&head, &lines, &left, Look::plain()).lines() {
            let text = match line.chars().next() {
                Some('+') => look.good(line),
                Some('−') => look.warn(line),
                _ => look.dim(line),
            };
            let _ = writeln!(out, "  {text}");
        }
    }
    if let Some(plans) = &failure.plans {
        let [expected, found] = plans.as_ref();
        let sides = [("expected", expected), ("found", found)]
            .map(|(name, plan)| format!("{name}\n{}", plan_tree(plan, Look::plain())));
        out.push_str(&side_by_side(&sides));
    }
    out
}

fn side_by_side([left, right]: &[String; 2]) -> String {
    let width = left.lines().map(UnicodeWidthStr::width).max().unwrap_or(0);
    let (mut left, mut right) = (left.lines(), right.lines());
    let mut out = String::new();
    loop {
        let (a, b) = (left.next(), right.next());
        if a.is_none() && b.is_none() {
            return out;
        }
        let (a, b) = (a.unwrap_or_default(), b.unwrap_or_default());
        let line = format!("{a}{}   │ {b}", " ".repeat(width - a.width()));
        let _ = writeln!(out, "{}", line.trim_end());
    }
}

/// One object a check: `{"kind":"check","file":…,"name":…,"passed":…,"failures":[…]}`.
pub fn check_json(report: &CheckReport) -> String {
    let object = |check: &CheckOutcome| {
        let failures: Vec<Json> = check.failures.iter().map(failure_json).collect();
        let over: serde_json::Map<String, Json> =
            check.over.iter().map(|(name, given)| (name.clone(), value(given))).collect();
        let object = json!({
            "kind": "check",
            "file": report.path.display().to_string(),
            "name": check.name,
            "over": over,
            "passed": check.passed(),
            "failures": failures,
            "elapsed_ms": millis(check.elapsed),
        });
        format!("{object}\n")
    };
    report.checks.iter().map(object).collect()
}

fn failure_json(failure: &Failure) -> Json {
    let side = |found: bool| {
        let rows = failure.rows.iter().filter(|change| change.found == found);
        rows.map(|change| change.row.iter().map(value).collect::<Vec<_>>()).collect::<Vec<_>>()
    };
    json!({
        "expectation": failure.expectation,
        "text": failure.text,
        "missing": side(false),
        "unexpected": side(true),
    })
}

/// The checks as XML of the form that build servers read: a test suite a file, a test case a check.
pub fn check_xml(reports: &[CheckReport]) -> String {
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites>\n");
    for report in reports {
        let failed = report.checks.iter().filter(|check| !check.passed()).count();
        let seconds: f64 = report.checks.iter().map(|check| check.elapsed.as_secs_f64()).sum();
        let name = escaped(&report.path.display().to_string());
        let count = report.checks.len();
        let _ = writeln!(
            out,
            "  <testsuite name=\"{name}\" tests=\"{count}\" failures=\"{failed}\" time=\"{seconds:.6}\">"
        );
        for check in &report.checks {
            let (case, time) = (escaped(&title(check)), check.elapsed.as_secs_f64());
            let _ = write!(out, "    <testcase classname=\"{name}\" name=\"{case}\" time=\"{time:.6}\"");
            if check.passed() {
                let _ = writeln!(out, "/>");
                continue;
            }
            let _ = writeln!(out, ">");
            for failure in &check.failures {
                let text = escaped(&failure_text(failure, Look::plain()));
                let _ = writeln!(out, "      <failure message=\"{}\">{text}</failure>", escaped(&failure.text));
            }
            let _ = writeln!(out, "    </testcase>");
        }
        let _ = writeln!(out, "  </testsuite>");
    }
    out + "</testsuites>\n"
}

/// Text as it appears in XML; control characters that XML has no form for are omitted.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' | '\t' => out.push(c),
            c if c.is_control() => {}
            c => out.push(c),
        }
    }
    out
}
