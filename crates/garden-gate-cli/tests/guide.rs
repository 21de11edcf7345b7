//! The chapters of the guide: `demo` shows what they show, and their words say nothing that the output does not bear out.
//!
//! `GARDEN_GATE_ACCEPT=1 cargo test guide` writes what comes into the chapters, for a person to read.

use crate::tool::{accepts, root, same_but_times, tool};
use std::fmt::Write as _;
use std::path::PathBuf;

const CHAPTERS: [&str; 10] =
    ["tour", "look", "nulls", "joins", "steps", "recursion", "plans", "time", "files", "checks"];

/// A part of a chapter, with what it shows.
#[derive(Debug)]
struct Part {
    /// `#`, `##`, `sql`, `toml`, or nothing for words.
    kind: &'static str,
    text: String,
    /// The output in the chapter, of an example.
    shown: String,
}

fn path(chapter: &str) -> PathBuf {
    root().join(format!("docs/guide/{chapter}.md"))
}

fn parts(chapter: &str) -> Vec<Part> {
    let page = std::fs::read_to_string(path(chapter)).unwrap();
    let mut parts: Vec<Part> = Vec::new();
    let mut lines = page.lines();
    while let Some(line) = lines.next() {
        let mut block = || lines.by_ref().take_while(|line| *line != "```").collect::<Vec<_>>().join("\n");
        let (kind, text) = match line {
            "```sql" => ("sql", block()),
            "```toml" => ("toml", block()),
            "```text" => {
                parts.last_mut().unwrap().shown = block();
                continue;
            }
            _ => match line
                .strip_prefix("## ")
                .map(|text| ("##", text))
                .or(line.strip_prefix("# ").map(|text| ("#", text)))
            {
                Some((kind, text)) => (kind, text.to_owned()),
                None if line.trim().is_empty() => continue,
                None => ("", line.to_owned()),
            },
        };
        match parts.last_mut() {
            // The lines of a paragraph.
            Some(last) if kind.is_empty() && last.kind.is_empty() => write!(last.text, "\n{text}").unwrap(),
            _ => parts.push(Part { kind, text, shown: String::new() }),
        }
    }
    parts
}

/// What `demo` shows of each example, in order: the output without what was typed.
fn found(chapter: &str, parts: &[Part]) -> Vec<String> {
    let ran = tool(&["demo", chapter]);
    assert_eq!((ran.status, ran.err.as_str()), (0, ""), "{chapter}");
    assert!(!ran.out.contains('\u{1b}'), "no colours without a terminal");
    let lines: Vec<&str> = ran.out.lines().collect();
    let (mut at, mut number, mut found) = (0, 0, Vec::new());
    for (place, part) in parts.iter().enumerate() {
        number += usize::from(part.kind == "##");
        if !["sql", "toml"].contains(&part.kind) {
            continue;
        }
        let before = if part.kind == "sql" { "garden> " } else { "    " };
        let first = format!("{before}{}", part.text.lines().next().unwrap());
        at += lines[at..].iter().position(|line| *line == first).unwrap_or_else(|| panic!("{chapter}: no {first:?}"));
        let next = match parts.get(place + 1) {
            None => "To go on by yourself:".to_owned(),
            Some(next) if next.kind == "##" => format!("{}. {}", number + 1, next.text),
            Some(next) => next.text.split_whitespace().take(6).collect::<Vec<_>>().join(" "),
        };
        let end = at
            + lines[at..]
                .iter()
                .position(|line| line.starts_with(&next))
                .unwrap_or_else(|| panic!("{chapter}: no {next:?}"));
        let skipped = if part.kind == "toml" { part.text.lines().count() } else { 0 };
        let is_output = |line: &&&str| !["garden> ", "      ·"].iter().any(|prompt| line.starts_with(prompt));
        let output: Vec<&str> = lines[at + skipped..end].iter().filter(is_output).copied().collect();
        found.push(output.join("\n").trim_matches('\n').to_owned());
        at = end;
    }
    found
}

/// The numbers in words of a chapter.
fn numbers(words: &str) -> Vec<String> {
    let parts = words.split(|c: char| !(c.is_ascii_digit() || ".,".contains(c)));
    parts.map(|part| part.trim_matches(['.', ',']).replace(',', "")).filter(|part| !part.is_empty()).collect()
}

/// Writes what was found into a chapter.
fn accept(chapter: &str, parts: &[Part], found: &[String]) {
    let (mut page, mut found) = (String::new(), found.iter());
    for (place, part) in parts.iter().enumerate() {
        let text = &part.text;
        let is_below_heading = place > 0 && parts[place - 1].kind.starts_with('#');
        page.push_str(if place == 0 || is_below_heading && part.kind.is_empty() { "" } else { "\n" });
        match part.kind {
            "" => writeln!(page, "{text}"),
            "#" | "##" => writeln!(page, "{} {text}", part.kind),
            kind => match found.next().unwrap().as_str() {
                "" => writeln!(page, "```{kind}\n{text}\n```"),
                output => writeln!(page, "```{kind}\n{text}\n```\n\n```text\n{output}\n```"),
            },
        }
        .unwrap();
    }
    std::fs::write(path(chapter), page).unwrap();
}

#[test]
fn chapters_show_what_comes() {
    for chapter in CHAPTERS {
        let parts = parts(chapter);
        let found = found(chapter, &parts);
        if accepts() {
            accept(chapter, &parts, &found);
            continue;
        }
        let examples: Vec<&Part> = parts.iter().filter(|part| ["sql", "toml"].contains(&part.kind)).collect();
        assert!(examples.len() > 3, "{chapter}");
        for (part, found) in examples.into_iter().zip(&found) {
            assert!(
                same_but_times(found, &part.shown),
                "{chapter}: {}\nshows\n{}\nand comes to\n{found}",
                part.text,
                part.shown
            );
        }
    }
}

/// Each number of the words stands in an example of their step or of one before.
#[test]
fn words_are_borne_out_by_examples() {
    let mut unborne = Vec::new();
    for chapter in CHAPTERS {
        let parts = parts(chapter);
        let mut known = Vec::new();
        for step in parts.chunk_by(|_, next| next.kind != "##") {
            let examples = step.iter().filter(|part| ["sql", "toml"].contains(&part.kind));
            known.extend(examples.flat_map(|part| [numbers(&part.text), numbers(&part.shown)].concat()));
            for words in step.iter().filter(|part| part.kind.is_empty()) {
                let missing = numbers(&words.text).into_iter().filter(|number| !known.contains(number));
                unborne.extend(missing.map(|number| format!("{chapter}: the {number} of {:?}", words.text)));
            }
        }
    }
    assert!(unborne.is_empty(), "no example shows\n{}", unborne.join("\n"));
}

/// What the words say without a number.
#[test]
fn words_without_numbers_are_true_as_well() {
    let shown = |chapter: &str, heading: &str| {
        let parts = parts(chapter);
        let from = parts.iter().position(|part| part.text == heading).unwrap_or_else(|| panic!("no step {heading:?}"));
        parts[from..].iter().find(|part| !part.shown.is_empty()).unwrap().shown.clone()
    };
    let last_column = |text: &str| -> Vec<f64> {
        text.lines().filter_map(|line| line.split_whitespace().last()?.replace(',', "").parse().ok()).collect()
    };
    // "More hours than the next four together."
    let hours = last_column(&shown("tour", "Join and group"));
    assert!(hours.len() == 5 && hours[0] > hours[1..].iter().sum(), "{hours:?}");
    // "The plan that is shown is the plan that runs".
    let measured = shown("tour", "Measure it");
    let fingerprint = |text: &str| text.split([' ', ',']).nth(1).unwrap().to_owned();
    assert_eq!(fingerprint(&measured), fingerprint(&shown("tour", "Ask for the plan before it runs")));
    assert!(measured.contains("filter: t.bed_id = 7 (implied)"));
    // "More than half of the 6000 tasks are weeding."
    let tasks = last_column(&shown("look", "Which values, and how many of each"));
    assert!(tasks[0] > 3000.0 && tasks.iter().sum::<f64>() > 5999.0, "{tasks:?}");
    // "Nearly twice as large."
    let areas = last_column(&shown("joins", "Rows that come more than once"));
    assert!((1.7..2.0).contains(&(areas[1] / areas[0])), "{areas:?}");
    // "The rows differ, and the comparison shows which."
    assert!(shown("steps", "Two formulations of one question").contains("query 1 has it 2 times, query 2 1 times"));
    // "Too many to look up one by one"; "nothing of the file was kept".
    assert!(shown("plans", "Skew").contains("table scan") && shown("plans", "An index").contains("index lookup"));
    assert!(shown("files", "A table with types and keys").contains("error[22018]"));
}
