//! What the planner expects of the steps of queries, worked out once a text.

use super::document::Document;
use garden_gate::inspect::StepPart;
use garden_gate::typing::{OutlineItem, OutlineKind};
use garden_gate::{Parameters, Session, SourceText};
use lsp_types::{InlayHint, InlayHintKind, InlayHintLabel, InlayHintParams, InlayHintTooltip};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// Statements that are remembered.
const MOST_KEPT: usize = 2000;
/// Statements that one request is answered for.
const MOST_ASKED: usize = 200;

/// What is expected of a step.
#[derive(Clone, Debug)]
pub(super) struct Estimate {
    /// Its name, after those of the steps around it.
    pub(super) name: String,
    part: StepPart,
    /// Its query in the statement, in bytes.
    range: Range<usize>,
    pub(super) rows: f64,
    pub(super) cost: f64,
}

impl Estimate {
    /// The estimate, for a hint.
    pub(super) fn words(&self) -> String {
        let rows = format!("{:.0}", self.rows);
        let unit = if rows == "1" { "row" } else { "rows" };
        format!("about {rows} {unit}")
    }
}

pub(super) struct Estimates {
    parameters: Parameters,
    known: HashMap<String, Arc<[Estimate]>>,
}

impl Estimates {
    /// Nothing is estimated yet.
    pub(super) fn new(parameters: Parameters) -> Self {
        Self { parameters, known: HashMap::new() }
    }

    /// The tables or their rows have changed.
    pub(super) fn forget(&mut self) {
        self.known.clear();
    }

    /// The steps of a statement; none when it cannot be planned, or opens a file.
    pub(super) fn of(&mut self, session: &mut Session, statement: &str) -> Arc<[Estimate]> {
        if let Some(known) = self.known.get(statement) {
            return Arc::clone(known);
        }
        let source = SourceText::new(statement);
        let parameters = self.parameters.used_in(&source);
        let opens_file =
            statement.to_ascii_uppercase().split(|c: char| !c.is_alphanumeric()).any(|word| word == "FILE");
        let steps = if opens_file { Vec::new() } else { session.plan_steps(source, parameters).unwrap_or_default() };
        let estimate = |step: garden_gate::inspect::StepPlan| Estimate {
            name: step.name,
            part: step.part,
            range: step.range,
            rows: step.plan.root.estimated_rows,
            cost: step.plan.cost,
        };
        let found: Arc<[Estimate]> = steps.into_iter().map(estimate).collect();
        if self.known.len() >= MOST_KEPT {
            self.known.clear();
        }
        self.known.insert(statement.to_owned(), Arc::clone(&found));
        found
    }

    /// The rows that are expected, beside the name of each common table expression, after each derived table, and at the end of the query.
    pub(super) fn hints(
        &mut self,
        session: &mut Session,
        document: &Document,
        params: &InlayHintParams,
    ) -> Option<Vec<InlayHint>> {
        let asked = document.byte(params.range.start)..document.byte(params.range.end);
        let is_asked = |item: &&OutlineItem| {
            let span = item.span.range();
            item.kind == OutlineKind::Query && span.start <= asked.end && span.end >= asked.start
        };
        let mut hints = Vec::new();
        for item in document.outline().iter().filter(is_asked).take(MOST_ASKED) {
            let span = item.span.range();
            for step in self.of(session, &document.text[span.clone()]).iter() {
                let at = match step.part {
                    StepPart::With => name_end(item, span.start + step.range.start),
                    StepPart::Derived | StepPart::Result => Some(span.start + step.range.end),
                    _ => None,
                };
                hints.extend(at.map(|at| hint(document, at, step)));
            }
        }
        Some(hints)
    }
}

/// Where the name of the common table expression ends whose query begins at a place.
fn name_end(item: &OutlineItem, query: usize) -> Option<usize> {
    item.children.iter().find_map(|child| {
        let span = child.span.range();
        if !span.contains(&query) {
            return None;
        }
        // Of those around the query, the innermost.
        name_end(child, query).or_else(|| Some(child.name_span.range().end))
    })
}

fn hint(document: &Document, at: usize, step: &Estimate) -> InlayHint {
    InlayHint {
        position: document.position(at),
        label: InlayHintLabel::String(step.words()),
        kind: Some(InlayHintKind::TYPE),
        text_edits: None,
        tooltip: Some(InlayHintTooltip::String(format!("cost {:.1}; run alone", step.cost))),
        padding_left: Some(true),
        padding_right: Some(false),
        data: None,
    }
}
