//! Names in a text: what they mean, where they are given, where they are used.

use super::answers::Answers;
use super::document::Document;
use super::workspace::{self, Workspace};
use super::{Documents, uri};
use garden_gate::source::ColumnStatistics;
use garden_gate::typing::{CompletionKind, KnownName, OutlineItem, correlation_name};
use lsp_types::{
    DocumentSymbol, DocumentSymbolParams, DocumentSymbolResponse, GotoDefinitionParams, GotoDefinitionResponse, Hover,
    HoverContents, HoverParams, Location, MarkupContent, MarkupKind, ReferenceParams, SymbolKind,
};
use std::ops::Range;
use std::path::Path;

/// Frequent values that are shown.
const SHOWN_VALUES: usize = 5;

impl Answers {
    /// What is known of the name at a place.
    pub(super) fn hover(&mut self, document: &Document, params: &HoverParams) -> Option<Hover> {
        let at = document.byte(params.text_document_position_params.position);
        let (range, word) = document.name(at)?;
        let value = match self.step(document, at, word) {
            Some(step) => step,
            None => known(&self.session.name_at(&document.text, at)?),
        };
        let contents = HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value });
        Some(Hover { contents, range: Some(document.range(range)) })
    }

    /// What is expected of the common table expression of a name.
    fn step(&mut self, document: &Document, at: usize, word: &str) -> Option<String> {
        let statement = document.statement(at)?;
        let found = step_at(statement, word, at)?;
        let estimates = self.estimates.of(&mut self.session, &document.text[statement.span.range()]);
        let name = path_of(statement, found)?;
        let estimate = estimates.iter().find(|step| step.name == name);
        let expected = estimate.map_or_else(String::new, |step| format!("\n\n{}, cost {:.1}", step.words(), step.cost));
        Some(format!("common table expression **{}**{expected}", found.name))
    }
}

/// Where the name at a place is given: a common table expression, a correlation name, the name of a result column, a table's CREATE.
pub(super) fn definition(
    (documents, workspace): (&Documents, &Workspace),
    document: &Document,
    params: &GotoDefinitionParams,
) -> Option<GotoDefinitionResponse> {
    let at = document.byte(params.text_document_position_params.position);
    let (name, word) = document.name(at)?;
    let statement = document.statement(at);
    let bare = word.trim_matches('"');
    let alias = correlation_name(&document.text, at).filter(|given| *given != name);
    let step = || statement.and_then(|item| step_at(item, bare, at)).map(|step| step.name_span.range());
    let result = || statement.and_then(|item| result_column(document, item.span.range(), &name, word));
    let here = alias.or_else(step).map(|range| document.location(range));
    let found = here
        .or_else(|| table((documents, workspace), bare))
        .or_else(|| result().map(|range| document.location(range)))?;
    Some(GotoDefinitionResponse::Scalar(found))
}

/// The places of a name: in its statement, or of a table that the workspace defines in all its texts.
pub(super) fn references(
    (documents, workspace): (&Documents, &Workspace),
    document: &Document,
    params: &ReferenceParams,
) -> Option<Vec<Location>> {
    let at = document.byte(params.text_document_position.position);
    let (_, word) = document.name(at)?;
    let statement = document.statement(at)?;
    let is_of_statement = correlation_name(&document.text, at).is_some_and(|given| is_alias(document, &given))
        || step_at(statement, word, at).is_some();
    if is_of_statement || table((documents, workspace), word.trim_matches('"')).is_none() {
        let uses = document.uses(word, statement.span.range());
        return Some(uses.map(|range| document.location(range)).collect());
    }
    let open = documents.values();
    let mut found: Vec<Location> =
        open.flat_map(|open| open.uses(word, 0..open.text.len()).map(|range| open.location(range))).collect();
    found.extend(workspace.uses(word, |path| is_open(documents, path)));
    Some(found)
}

/// Whether a correlation name is written after the name of its table.
fn is_alias(document: &Document, given: &Range<usize>) -> bool {
    let before = document.text[..given.start].trim_end();
    before.ends_with(|c: char| c.is_alphanumeric() || ['_', '"', ')'].contains(&c))
        && !["from", "join", "into", "update"].iter().any(|word| before.to_ascii_lowercase().ends_with(word))
}

fn is_open(documents: &Documents, path: &Path) -> bool {
    uri::of_path(path).is_some_and(|uri| documents.contains_key(uri.as_str()))
}

fn table((documents, workspace): (&Documents, &Workspace), name: &str) -> Option<Location> {
    let open = documents.values().find_map(|open| workspace::defined_in(open, name));
    open.or_else(|| workspace.definition(name, |path| is_open(documents, path)))
}

/// Where a statement gives a name to a result column: after AS, the nearest before its use.
fn result_column(
    document: &Document,
    statement: Range<usize>,
    name: &Range<usize>,
    word: &str,
) -> Option<Range<usize>> {
    let after_as = |range: &Range<usize>| {
        let before = document.text[..range.start].trim_end();
        let start = before.len().saturating_sub(2);
        before.get(start..).is_some_and(|last| last.eq_ignore_ascii_case("AS"))
    };
    let given: Vec<Range<usize>> = document.uses(word, statement).filter(after_as).collect();
    let before = given.iter().rfind(|range| range.start < name.start);
    before.or_else(|| given.first()).filter(|range| *range != name).cloned()
}

/// The common table expression that a name means at a place: one in whose text the place is, then one of the statement.
fn step_at<'i>(item: &'i OutlineItem, name: &str, at: usize) -> Option<&'i OutlineItem> {
    let around = item.children.iter().find(|child| child.span.range().contains(&at));
    let own = item.children.iter().find(|child| child.name.eq_ignore_ascii_case(name.trim_matches('"')));
    around.and_then(|child| step_at(child, name, at)).or(own)
}

/// The name of a step after those of the steps around it.
fn path_of(item: &OutlineItem, wanted: &OutlineItem) -> Option<String> {
    item.children.iter().find_map(|child| {
        if child == wanted {
            return Some(child.name.clone());
        }
        path_of(child, wanted).map(|rest| format!("{}.{rest}", child.name))
    })
}

/// The statements of a document, with what they define.
pub(super) fn symbols(document: &Document, _: &DocumentSymbolParams) -> Option<DocumentSymbolResponse> {
    let statements = document.outline().iter().map(|item| symbol(document, item, SymbolKind::FUNCTION)).collect();
    Some(DocumentSymbolResponse::Nested(statements))
}

fn symbol(document: &Document, item: &OutlineItem, kind: SymbolKind) -> DocumentSymbol {
    let children = item.children.iter().map(|child| symbol(document, child, SymbolKind::VARIABLE)).collect();
    #[expect(deprecated, reason = "the type has a field that the protocol has given up")]
    DocumentSymbol {
        name: item.name.clone(),
        detail: None,
        kind,
        tags: None,
        deprecated: None,
        range: document.range(item.span.range()),
        selection_range: document.range(item.name_span.range()),
        children: Some(children),
    }
}

fn known(name: &KnownName) -> String {
    let detail = if name.detail.is_empty() { String::new() } else { format!(": {}", name.detail) };
    let not_null = if name.not_null { ", not null" } else { "" };
    let mut value = format!("{} **{}**{detail}{not_null}", in_words(name.kind), name.name);
    if let Some(known) = name.statistics.as_deref().filter(|known| known.rows > 0) {
        value.push_str("\n\n");
        value.push_str(&values(known));
    }
    value
}

/// The values of a column in a few words.
fn values(known: &ColumnStatistics) -> String {
    let about = if known.exact { "" } else { "about " };
    let mut facts = vec![format!("{} rows", known.rows)];
    if known.nulls > 0 {
        facts.push(format!("{} NULL", known.nulls));
    }
    facts.push(format!("{about}{:.0} distinct", known.distinct));
    if !known.min.is_null() {
        facts.push(format!("from {} to {}", known.min, known.max));
    }
    let common: Vec<String> = known
        .most_common
        .iter()
        .take(SHOWN_VALUES)
        .map(|common| format!("{} {:.0} %", common.value, common.share * 100.0))
        .collect();
    let common = if common.is_empty() { String::new() } else { format!("\n\nmost common: {}", common.join(", ")) };
    facts.join(", ") + &common
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
