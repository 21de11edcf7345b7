//! What the session knows of a text, in the words of the protocol.

use super::document::Document;
use super::estimates::Estimates;
use garden_gate::error::Note;
use garden_gate::format::{FormatOptions, format_sql};
use garden_gate::typing::{Completion, CompletionKind};
use garden_gate::{Error, Parameters, Session};
use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, CodeActionParams, CompletionItem, CompletionItemKind,
    CompletionParams, CompletionResponse, CompletionTextEdit, Diagnostic, DiagnosticSeverity, DocumentFormattingParams,
    NumberOrString, TextEdit, WorkspaceEdit,
};
use std::collections::HashMap;
use std::ops::Range;

/// Answers about texts. Nothing in them runs.
pub(super) struct Answers {
    pub(super) session: Session,
    pub(super) estimates: Estimates,
}

impl Answers {
    /// Answers from what a session knows; nothing is run.
    pub(super) fn new(session: Session, parameters: Parameters) -> Self {
        Self { session, estimates: Estimates::new(parameters) }
    }

    /// What is wrong with a text, and what is legal and probably not meant.
    pub(super) fn diagnostics(&self, document: &Document) -> Vec<Diagnostic> {
        self.findings(document).iter().map(|found| found.diagnostic(document)).collect()
    }

    fn findings(&self, document: &Document) -> Vec<Finding> {
        let review = self.session.review(&document.text);
        review.problems.iter().map(Finding::of_problem).chain(review.notes.iter().map(Finding::of_note)).collect()
    }

    /// What may stand at a place.
    pub(super) fn completions(&self, document: &Document, params: &CompletionParams) -> Option<CompletionResponse> {
        let at = document.byte(params.text_document_position.position);
        let found = self.session.completions(&document.text, at);
        let replaced = document.range(found.start.min(at)..at);
        let item = |(number, item): (usize, Completion)| CompletionItem {
            label: item.text.clone(),
            kind: Some(kind(item.kind)),
            detail: Some(item.detail).filter(|detail| !detail.is_empty()),
            // Editors sort by text: the kinds come in our order.
            sort_text: Some(format!("{number:05}")),
            text_edit: Some(CompletionTextEdit::Edit(TextEdit::new(replaced, item.text))),
            ..CompletionItem::default()
        };
        Some(CompletionResponse::Array(found.items.into_iter().enumerate().map(item).collect()))
    }

    /// What can take the place of what was found, where there is no choice.
    #[expect(clippy::mutable_key_type, reason = "the type of the protocol, whose keys are not changed")]
    pub(super) fn actions(&self, document: &Document, params: &CodeActionParams) -> Option<Vec<CodeActionOrCommand>> {
        let asked = document.byte(params.range.start)..document.byte(params.range.end);
        let action = |found: &Finding| {
            let (replaced, meant) = found.replacement.as_ref()?;
            let place = found.place.start.min(replaced.start)..found.place.end.max(replaced.end);
            if place.end < asked.start || place.start > asked.end {
                return None;
            }
            let edit = TextEdit::new(document.range(replaced.clone()), meant.clone());
            let changes = HashMap::from([(params.text_document.uri.clone(), vec![edit])]);
            Some(CodeActionOrCommand::CodeAction(CodeAction {
                title: if meant.is_empty() { "take it away".into() } else { format!("write {meant}") },
                kind: Some(CodeActionKind::QUICKFIX),
                diagnostics: Some(vec![found.diagnostic(document)]),
                edit: Some(WorkspaceEdit::new(changes)),
                is_preferred: Some(true),
                ..CodeAction::default()
            }))
        };
        Some(self.findings(document).iter().filter_map(action).collect())
    }
}

/// A problem or a note.
struct Finding {
    place: Range<usize>,
    code: String,
    severity: DiagnosticSeverity,
    message: String,
    /// What takes the place of which part, where there is no choice.
    replacement: Option<(Range<usize>, String)>,
}

impl Finding {
    fn of_problem(problem: &Error) -> Self {
        Self {
            place: problem.span().map_or(0..0, |span| span.range()),
            code: problem.sqlstate().as_str().to_owned(),
            severity: DiagnosticSeverity::ERROR,
            message: with_help(problem.message(), problem.help()),
            replacement: problem.replacement().map(|(span, text)| (span.range(), text.to_owned())),
        }
    }

    fn of_note(note: &Note) -> Self {
        Self {
            place: note.span.map_or(0..0, |span| span.range()),
            code: note.code.to_owned(),
            severity: if note.style { DiagnosticSeverity::INFORMATION } else { DiagnosticSeverity::WARNING },
            message: with_help(&note.message, note.help.as_deref()),
            replacement: note.span.and_then(|span| Some((span.range(), note.replacement.clone()?))),
        }
    }

    fn diagnostic(&self, document: &Document) -> Diagnostic {
        Diagnostic {
            range: document.range(self.place.clone()),
            severity: Some(self.severity),
            code: Some(NumberOrString::String(self.code.clone())),
            source: Some("garden-gate".into()),
            message: self.message.clone(),
            ..Diagnostic::default()
        }
    }
}

fn with_help(message: &str, help: Option<&str>) -> String {
    help.map_or_else(|| message.to_owned(), |help| format!("{message}\n{help}"))
}

/// The text laid out; nothing when it cannot be cut into tokens.
pub(super) fn formatting(document: &Document, _: &DocumentFormattingParams) -> Option<Vec<TextEdit>> {
    let formatted = format_sql(&document.text, &FormatOptions::default()).ok()?;
    if formatted.text == document.text {
        return Some(Vec::new());
    }
    Some(vec![TextEdit::new(document.range(0..document.text.len()), formatted.text)])
}

fn kind(kind: CompletionKind) -> CompletionItemKind {
    match kind {
        CompletionKind::Column => CompletionItemKind::FIELD,
        CompletionKind::Table | CompletionKind::View | CompletionKind::CommonTableExpression => {
            CompletionItemKind::CLASS
        }
        CompletionKind::CorrelationName | CompletionKind::Variable => CompletionItemKind::VARIABLE,
        CompletionKind::Schema => CompletionItemKind::MODULE,
        CompletionKind::Setting => CompletionItemKind::PROPERTY,
        CompletionKind::Function => CompletionItemKind::FUNCTION,
        CompletionKind::File => CompletionItemKind::FILE,
        CompletionKind::Value => CompletionItemKind::VALUE,
        _ => CompletionItemKind::KEYWORD,
    }
}
