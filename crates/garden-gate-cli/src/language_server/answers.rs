//! What the session knows of a text, in the words of the protocol.

use super::place::{byte, position, range};
use garden_gate::format::{FormatOptions, format_sql};
use garden_gate::typing::{CompletionKind, OutlineItem, TokenClass, outline, token_classes};
use garden_gate::{Error, Session};
use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, CodeActionParams, CompletionItem, CompletionItemKind,
    CompletionParams, CompletionResponse, CompletionTextEdit, Diagnostic, DiagnosticSeverity, DocumentFormattingParams,
    DocumentSymbol, DocumentSymbolParams, DocumentSymbolResponse, GotoDefinitionParams, GotoDefinitionResponse, Hover,
    HoverContents, HoverParams, Location, MarkupContent, MarkupKind, NumberOrString, ReferenceParams, SymbolKind,
    TextEdit, Uri, WorkspaceEdit,
};
use std::collections::HashMap;

/// Parameters about one text.
pub(super) trait OfDocument {
    fn document(&self) -> &Uri;
}

macro_rules! of_document {
    ($($params:ty: $($field:ident).+;)+) => {
        $(impl OfDocument for $params {
            fn document(&self) -> &Uri {
                &self.$($field).+.uri
            }
        })+
    };
}

of_document! {
    CompletionParams: text_document_position.text_document;
    HoverParams: text_document_position_params.text_document;
    GotoDefinitionParams: text_document_position_params.text_document;
    DocumentSymbolParams: text_document;
    DocumentFormattingParams: text_document;
    CodeActionParams: text_document;
    ReferenceParams: text_document_position.text_document;
}

pub(super) struct Answers(Session);

impl Answers {
    pub(super) fn new(session: Session) -> Self {
        Self(session)
    }

    /// The problems of a text.
    pub(super) fn diagnostics(&self, text: &str) -> Vec<Diagnostic> {
        self.0.problems(text).iter().map(|problem| diagnostic(text, problem)).collect()
    }

    pub(super) fn completions(&self, text: &str, params: &CompletionParams) -> Option<CompletionResponse> {
        let at = byte(text, params.text_document_position.position);
        let found = self.0.completions(text, at);
        let replaced = range(text, found.start.min(at)..at);
        let item = |(number, item): (usize, garden_gate::typing::Completion)| CompletionItem {
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

    /// What is known of the name at a place.
    pub(super) fn hover(&self, text: &str, params: &HoverParams) -> Option<Hover> {
        let (name, word) = name_at(text, byte(text, params.text_document_position_params.position))?;
        let found = self.0.completions(text, name.end);
        let known = found.items.into_iter().find(|item| item.text.eq_ignore_ascii_case(word))?;
        let detail = if known.detail.is_empty() { String::new() } else { format!(": {}", known.detail) };
        let value = format!("{} **{}**{detail}", in_words(known.kind), known.text);
        let contents = HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value });
        Some(Hover { contents, range: Some(range(text, name)) })
    }

    /// Where the common table expression at a place is named.
    pub(super) fn definition(&self, text: &str, params: &GotoDefinitionParams) -> Option<GotoDefinitionResponse> {
        let place = &params.text_document_position_params;
        let (name, word) = name_at(text, byte(text, place.position))?;
        let around = outline(text).into_iter().find(|item| item.span.range().contains(&name.start))?;
        let step = find_step(&around, word.trim_matches('"'))?;
        let range = range(text, step.name_span.range());
        Some(GotoDefinitionResponse::Scalar(Location::new(place.text_document.uri.clone(), range)))
    }

    /// The places of a name in its statement.
    pub(super) fn references(&self, text: &str, params: &ReferenceParams) -> Option<Vec<Location>> {
        let place = &params.text_document_position;
        let (name, word) = name_at(text, byte(text, place.position))?;
        let statement =
            outline(text).into_iter().map(|item| item.span.range()).find(|span| span.contains(&name.start))?;
        let same = |range: &std::ops::Range<usize>| {
            text.get(range.clone()).is_some_and(|known| known.eq_ignore_ascii_case(word))
        };
        let names =
            token_classes(text).into_iter().filter(|(_, class)| *class == TokenClass::Name).map(|(range, _)| range);
        let found = names.filter(|range| statement.contains(&range.start) && same(range));
        Some(found.map(|found| Location::new(place.text_document.uri.clone(), range(text, found))).collect())
    }

    pub(super) fn symbols(&self, text: &str, _: &DocumentSymbolParams) -> Option<DocumentSymbolResponse> {
        let statements = outline(text).iter().map(|item| symbol(text, item, SymbolKind::FUNCTION)).collect();
        Some(DocumentSymbolResponse::Nested(statements))
    }

    /// The text laid out; nothing when it cannot be cut into tokens.
    pub(super) fn formatting(&self, text: &str, _: &DocumentFormattingParams) -> Option<Vec<TextEdit>> {
        let formatted = format_sql(text, &FormatOptions::default()).ok()?;
        if formatted.text == text {
            return Some(Vec::new());
        }
        Some(vec![TextEdit::new(range(text, 0..text.len()), formatted.text)])
    }

    /// Names that were perhaps meant, for those that there are not.
    #[expect(clippy::mutable_key_type, reason = "the type of the protocol, whose keys are not changed")]
    pub(super) fn actions(&self, text: &str, params: &CodeActionParams) -> Option<Vec<CodeActionOrCommand>> {
        let asked = byte(text, params.range.start)..byte(text, params.range.end);
        let action = |problem: &Error| {
            let place = problem.span()?.range();
            let meant = problem.help()?.strip_prefix("did you mean \"")?.strip_suffix("\"?")?;
            if place.end < asked.start || place.start > asked.end {
                return None;
            }
            let edit = TextEdit::new(range(text, place), meant.to_owned());
            let changes = HashMap::from([(params.text_document.uri.clone(), vec![edit])]);
            Some(CodeActionOrCommand::CodeAction(CodeAction {
                title: format!("write {meant}"),
                kind: Some(CodeActionKind::QUICKFIX),
                diagnostics: Some(vec![diagnostic(text, problem)]),
                edit: Some(WorkspaceEdit::new(changes)),
                is_preferred: Some(true),
                ..CodeAction::default()
            }))
        };
        Some(self.0.problems(text).iter().filter_map(action).collect())
    }
}

fn diagnostic(text: &str, problem: &Error) -> Diagnostic {
    let help = problem.help().map_or_else(String::new, |help| format!("\n{help}"));
    let place = problem.span().map_or(0..0, |span| span.range());
    Diagnostic {
        range: range(text, place),
        severity: Some(DiagnosticSeverity::ERROR),
        code: Some(NumberOrString::String(problem.sqlstate().as_str().to_owned())),
        source: Some("garden-gate".into()),
        message: format!("{}{help}", problem.message()),
        ..Diagnostic::default()
    }
}

/// The name at a place, and its range.
fn name_at(text: &str, at: usize) -> Option<(std::ops::Range<usize>, &str)> {
    let touches = |range: &std::ops::Range<usize>| (range.start..=range.end).contains(&at);
    let mut tokens = token_classes(text).into_iter();
    let (range, _) = tokens.find(|(range, class)| *class == TokenClass::Name && touches(range))?;
    let word = text.get(range.clone())?;
    Some((range, word))
}

fn find_step<'i>(item: &'i OutlineItem, name: &str) -> Option<&'i OutlineItem> {
    item.children
        .iter()
        .find_map(|child| if child.name.eq_ignore_ascii_case(name) { Some(child) } else { find_step(child, name) })
}

fn symbol(text: &str, item: &OutlineItem, kind: SymbolKind) -> DocumentSymbol {
    let children = item.children.iter().map(|child| symbol(text, child, SymbolKind::VARIABLE)).collect();
    #[expect(deprecated, reason = "the type has a field that the protocol has given up")]
    DocumentSymbol {
        name: item.name.clone(),
        detail: None,
        kind,
        tags: None,
        deprecated: None,
        range: range(text, item.span.range()),
        selection_range: lsp_types::Range::new(
            position(text, item.name_span.start as usize),
            position(text, item.name_span.end as usize),
        ),
        children: Some(children),
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

fn in_words(kind: CompletionKind) -> &'static str {
    match kind {
        CompletionKind::Column => "column",
        CompletionKind::Table => "table",
        CompletionKind::View => "view",
        CompletionKind::CommonTableExpression => "common table expression",
        CompletionKind::CorrelationName => "correlation name",
        CompletionKind::Variable => "variable",
        CompletionKind::Schema => "schema",
        CompletionKind::Setting => "setting",
        CompletionKind::Function => "function",
        _ => "word",
    }
}
