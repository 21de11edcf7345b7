//! What can be done with a statement or a step, above its text.

use super::document::Document;
use garden_gate::typing::{OutlineItem, OutlineKind};
use lsp_types::{CodeLens, CodeLensParams, Command, Position};
use serde::{Deserialize, Serialize};

/// What is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Action {
    Run,
    Plan,
    Measure,
    Steps,
}

impl Action {
    pub(super) const ALL: [Self; 4] = [Self::Run, Self::Plan, Self::Measure, Self::Steps];

    /// The word over a statement.
    pub(super) fn title(self) -> &'static str {
        match self {
            Self::Run => "Run",
            Self::Plan => "Plan",
            Self::Measure => "Measure",
            Self::Steps => "Steps",
        }
    }

    /// Its name as a command of the protocol.
    pub(super) fn command(self) -> &'static str {
        match self {
            Self::Run => "garden-gate.run",
            Self::Plan => "garden-gate.plan",
            Self::Measure => "garden-gate.measure",
            Self::Steps => "garden-gate.steps",
        }
    }

    /// The action that a command of the client asks for.
    pub(super) fn of_command(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|action| action.command() == name)
    }
}

/// The argument of a command: a statement, or a step of it.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Target {
    pub(super) uri: lsp_types::Uri,
    /// A place in the statement.
    pub(super) position: Position,
    /// The name of a step after those of the steps around it; without one the statement is meant.
    #[serde(default)]
    pub(super) step: Option<String>,
}

/// The actions of each statement of a document.
pub(super) fn lenses(document: &Document, _: &CodeLensParams) -> Option<Vec<CodeLens>> {
    let mut found = Vec::new();
    for statement in document.outline() {
        let actions: &[Action] = match statement.kind {
            OutlineKind::Query => &Action::ALL,
            OutlineKind::Change => &[Action::Run, Action::Plan, Action::Measure],
            _ => &[Action::Run],
        };
        let start = document.position(statement.span.range().start);
        add(document, (actions, statement), || target(document, start, None), &mut found);
        add_steps(document, (statement, start), "", &mut found);
    }
    Some(found)
}

fn add_steps(document: &Document, (item, start): (&OutlineItem, Position), around: &str, found: &mut Vec<CodeLens>) {
    for child in &item.children {
        let name = format!("{around}{}", child.name);
        add(document, (&Action::ALL, child), || target(document, start, Some(name.clone())), found);
        add_steps(document, (child, start), &format!("{name}."), found);
    }
}

fn target(document: &Document, position: Position, step: Option<String>) -> Target {
    Target { uri: document.uri.clone(), position, step }
}

fn add(
    document: &Document,
    (actions, item): (&[Action], &OutlineItem),
    target: impl Fn() -> Target,
    found: &mut Vec<CodeLens>,
) {
    let range = document.range(item.name_span.range());
    found.extend(actions.iter().map(|action| {
        let argument = serde_json::to_value(target()).unwrap_or_default();
        let command = Command::new(action.title().into(), action.command().into(), Some(vec![argument]));
        CodeLens { range, command: Some(command), data: None }
    }));
}
