//! The statements of a text and the common table expressions in them, as an editor lists them.

use super::ast::{Definition, Name, Query, StatementKind};
use super::parser::Script;
use crate::diagnostic::{SourceText, Span};
use std::sync::Arc;

/// What an item of an outline is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum OutlineKind {
    /// A query.
    Query,
    /// A change of rows.
    Change,
    /// The definition of a table, a view or another object.
    Definition,
    /// Another statement.
    Other,
    /// A common table expression.
    CommonTableExpression,
}

/// A statement, or a common table expression in it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct OutlineItem {
    /// What it is.
    pub kind: OutlineKind,
    /// The beginning of the statement, or the name of the expression.
    pub name: String,
    /// The statement, or the expression's query.
    pub span: Span,
    /// Where the name is written; of a statement its first word.
    pub name_span: Span,
    /// Of CREATE: the name that it gives, without its schema, and where it stands.
    pub defines: Option<(String, Span)>,
    /// The common table expressions in it.
    pub children: Vec<OutlineItem>,
}

/// Characters of a statement that stand for it.
const MOST_NAMED: usize = 60;

/// The statements that can be read, in order. O(length).
pub fn outline(text: &str) -> Vec<OutlineItem> {
    let source = SourceText::new(text);
    let mut script = Script::new(Arc::clone(&source));
    let mut items = Vec::new();
    while let Some(statement) = script.next_statement() {
        let Ok(statement) = statement else { continue };
        let words = source.slice(statement.span).split_whitespace().collect::<Vec<_>>().join(" ");
        let name = words.chars().take(MOST_NAMED).collect();
        let start = statement.span.start as usize;
        let first = source.slice(statement.span).find(char::is_whitespace).unwrap_or(0);
        let name_span = Span::new(start, start + first);
        let (kind, defines, children) = match &statement.kind {
            StatementKind::Query(query) => (OutlineKind::Query, None, steps_of(query)),
            StatementKind::Change(_) => (OutlineKind::Change, None, Vec::new()),
            StatementKind::Definition(definition) => (OutlineKind::Definition, defined_by(definition), Vec::new()),
            _ => (OutlineKind::Other, None, Vec::new()),
        };
        items.push(OutlineItem { kind, name, span: statement.span, name_span, defines, children });
    }
    items
}

/// The name that a definition gives.
fn defined_by(definition: &Definition) -> Option<(String, Span)> {
    let name: &Name = match definition {
        Definition::CreateTable(table) => &table.name,
        Definition::CreateView(view) => &view.name,
        Definition::CreateSequence(sequence) => &sequence.name,
        Definition::CreateDomain(domain) => &domain.name,
        Definition::CreateFunction(function) => &function.name,
        Definition::CreateSchema { .. }
        | Definition::DropSchema { .. }
        | Definition::DropTable { .. }
        | Definition::CreateIndex(_)
        | Definition::DropIndex { .. }
        | Definition::DropView { .. }
        | Definition::AlterTable { .. }
        | Definition::AlterSequence { .. }
        | Definition::AlterDomain { .. }
        | Definition::DropObject { .. }
        | Definition::Comment(_)
        | Definition::TrimHistory(_) => return None,
    };
    name.last().map(|name| (name.text.clone(), name.span))
}

fn steps_of(query: &Query) -> Vec<OutlineItem> {
    let elements = query.with.iter().flat_map(|with| &with.elements);
    let item = |element: &super::ast::WithElement| OutlineItem {
        kind: OutlineKind::CommonTableExpression,
        defines: None,
        name: element.name.text.clone(),
        span: element.name.span.to(element.query.span),
        name_span: element.name.span,
        children: steps_of(&element.query),
    };
    elements.map(item).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn statements_and_their_steps_are_listed() {
        let items = outline(
            "SELECT\n  1; selec; WITH a AS (WITH b AS (SELECT 1) SELECT * FROM b), c AS (SELECT 2) SELECT * FROM a, c",
        );
        let names: Vec<&str> = items.iter().map(|item| item.name.as_str()).collect();
        assert_eq!(names[0], "SELECT 1");
        assert_eq!(items.len(), 2, "{names:?}");
        let steps: Vec<&str> = items[1].children.iter().map(|item| item.name.as_str()).collect();
        assert_eq!(items[1].children[0].kind, OutlineKind::CommonTableExpression);
        assert_eq!((steps, items[1].children[0].children[0].name.as_str()), (vec!["a", "c"], "b"));
    }
    #[test]
    fn a_definition_has_the_name_that_it_gives() {
        let text = "CREATE TABLE garden.bed (n INTEGER); create view shady as select 1 as n; DROP TABLE bed; TABLE bed";
        let items = outline(text);
        let defined: Vec<Option<&str>> =
            items.iter().map(|item| item.defines.as_ref().map(|(_, span)| &text[span.range()])).collect();
        assert_eq!(defined, [Some("bed"), Some("shady"), None, None]);
        let kinds: Vec<OutlineKind> = items.iter().map(|item| item.kind).collect();
        let [definition, query] = [OutlineKind::Definition, OutlineKind::Query];
        assert_eq!(kinds, [definition, definition, definition, query]);
    }
}
