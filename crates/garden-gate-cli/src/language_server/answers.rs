//! What the session knows of a text, in the words of the protocol.

use super::document::Document;
use super::estimates::Estimates;
use garden_gate::format::{FormatOptions, format_sql};
use garden_gate::typing::{Completion, CompletionKind};
use garden_gate::{Error, Parameters, Session};
use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, CodeActionParams, CompletionItem, CompletionItemKind,
    CompletionParams, CompletionResponse, CompletionTextEdit, Diagnostic, DiagnosticSeverity, DocumentFormattingParams,
    NumberOrString, TextEdit, WorkspaceEdit,
};
use std::collections::HashMap;

/// Answers about texts. Nothing in them runs.
pub(super) struct Answers {
    pub(super) session: Session,
    pub(super) estimates: Estimates,
}

impl Answers {
    pub(super) fn new(session: Session, parameters: Parameters) -> Self {
        Self { session, estimates: Estimates::new(parameters) }
    }

    /// The problems of a text.
    pub(super) fn diagnostics(&self, document: &Document) -> Vec<Diagnostic> {
        self.session.problems(&document.text).iter().map(|problem| diagnostic(document, problem)).collect()
    }

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

    /// Names that were perhaps meant, for those that there are not.
    #[expect(clippy::mutable_key_type, reason = "the type of the protocol, whose keys are not changed")]
    pub(super) fn actions(&self, document: &Document, params: &CodeActionParams) -> Option<Vec<CodeActionOrCommand>> {
        let asked = document.byte(params.range.start)..document.byte(params.range.end);
        let action = |problem: &Error| {
            let place = problem.span()?.range();
            let meant = problem.help()?.strip_prefix("did you mean \"")?.strip_suffix("\"?")?;
            if place.end < asked.start || place.start > asked.end {
                return None;
            }
            let edit = TextEdit::new(document.range(place), meant.to_owned());
            let changes = HashMap::from([(params.text_document.uri.clone(), vec![edit])]);
            Some(CodeActionOrCommand::CodeAction(CodeAction {
                title: format!("write {meant}"),
                kind: Some(CodeActionKind::QUICKFIX),
                diagnostics: Some(vec![diagnostic(document, problem)]),
                edit: Some(WorkspaceEdit::new(changes)),
                is_preferred: Some(true),
                ..CodeAction::default()
            }))
        };
        Some(self.session.problems(&document.text).iter().filter_map(action).collect())
    }
}

/// The text laid out; nothing when it cannot be cut into tokens.
pub(super) fn formatting(document: &Document, _: &DocumentFormattingParams) -> Option<Vec<TextEdit>> {
    let formatted = format_sql(&document.text, &FormatOptions::default()).ok()?;
    if formatted.text == document.text {
        return Some(Vec::new());
    }
    Some(vec![TextEdit::new(document.range(0..document.text.len()), formatted.text)])
}

fn diagnostic(document: &Document, problem: &Error) -> Diagnostic {
    let help = problem.help().map_or_else(String::new, |help| format!("\n{help}"));
    let place = problem.span().map_or(0..0, |span| span.range());
    Diagnostic {
        range: document.range(place),
        severity: Some(DiagnosticSeverity::ERROR),
        code: Some(NumberOrString::String(problem.sqlstate().as_str().to_owned())),
        source: Some("garden-gate".into()),
        message: format!("{}{help}", problem.message()),
        ..Diagnostic::default()
    }
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
