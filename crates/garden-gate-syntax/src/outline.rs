//! The statements of a text and the common table expressions in them, as an editor lists them.

use super::ast::{Query, StatementKind};
use super::parser::Script;
use crate::diagnostic::{SourceText, Span};
use std::sync::Arc;

/// A statement, or a common table expression in it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct OutlineItem {
    /// The beginning of the statement, or the name of the expression.
    pub name: String,
    /// The statement, or the expression's query.
    pub span: Span,
    /// Where the name is written; of a statement its first word.
    pub name_span: Span,
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
        let children = match &statement.kind {
            StatementKind::Query(query) => steps_of(query),
            _ => Vec::new(),
        };
        items.push(OutlineItem { name, span: statement.span, name_span: Span::new(start, start + first), children });
    }
    items
}

fn steps_of(query: &Query) -> Vec<OutlineItem> {
    let elements = query.with.iter().flat_map(|with| &with.elements);
    let item = |element: &super::ast::WithElement| OutlineItem {
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
        assert_eq!((steps, items[1].children[0].children[0].name.as_str()), (vec!["a", "c"], "b"));
    }
}
