//! Where clauses begin, and what is said first in each.

use super::tree::Node;
use crate::lexer::Symbol;

/// Words that begin a clause wherever they are keywords.
const STARTS: [&str; 12] = [
    "SELECT",
    "WHERE",
    "HAVING",
    "WINDOW",
    "OFFSET",
    "FETCH",
    "UNION",
    "EXCEPT",
    "INTERSECT",
    "VALUES",
    "RETURNING",
    "GUIDE",
];

/// Words that JOIN may have before it.
const JOINS: [&str; 8] = ["INNER", "LEFT", "RIGHT", "FULL", "CROSS", "NATURAL", "OUTER", "JOIN"];

/// What the lines of a clause that does not fit are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Shape {
    /// Items between commas, each on its line, further in.
    Items,
    /// Definitions between commas, each from the margin.
    Definitions,
    /// Conjuncts or disjuncts, each on its line, after the first further in.
    Condition,
    /// A table, and how it is joined on the next line.
    Join,
    /// One after the other.
    Plain,
}

fn is_any(node: Option<&Node>, words: &[&str]) -> bool {
    node.is_some_and(|node| words.iter().any(|word| node.is_word(word)))
}

/// Whether a clause begins at a node.
pub(super) fn begins(nodes: &[Node], at: usize) -> bool {
    let node = &nodes[at];
    let before = at.checked_sub(1).map(|before| &nodes[before]);
    let next = nodes.get(at + 1);
    if is_any(Some(node), &STARTS) {
        return true;
    }
    if is_any(Some(node), &JOINS) {
        return at > 0 && !is_any(before, &JOINS);
    }
    match () {
        () if is_any(Some(node), &["GROUP", "ORDER", "PARTITION"]) => is_any(next, &["BY"]),
        () if node.is_word("FROM") => !is_any(before, &["DISTINCT", "DELETE"]) && !is_any(next, &["FIRST", "LAST"]),
        () if node.is_word("WITH") => at == 0 || is_any(next, &["RECURSIVE"]),
        () if node.is_word("SET") => at > 0 && nodes[0].is_word("UPDATE") || is_any(before, &["UPDATE"]),
        () if node.is_word("WHEN") => nodes[0].is_word("MERGE"),
        () if is_any(Some(node), &["INSERT", "UPDATE", "DELETE", "MERGE", "CREATE"]) => at == 0,
        () if node.is_word("USING") => nodes[0].is_word("MERGE"),
        () => false,
    }
}

/// Whether a run of nodes consists of clauses.
pub(super) fn is_clauses(nodes: &[Node]) -> bool {
    // A directive begins with JOIN and is none.
    !is_any(nodes.first(), &["JOIN"]) && (0..nodes.len()).any(|at| begins(nodes, at))
}

/// How many nodes of a clause are its head, and the shape of the rest.
pub(super) fn head(nodes: &[Node]) -> (usize, Shape) {
    let word = |at: usize, words: &[&str]| is_any(nodes.get(at), words);
    let also = |at: usize, words: &[&str]| at + usize::from(word(at, words));
    if word(0, &["SELECT"]) {
        return (also(1, &["DISTINCT", "ALL"]), Shape::Items);
    }
    if word(0, &["GROUP", "ORDER", "PARTITION"]) {
        return (also(2, &["DISTINCT", "ALL"]), Shape::Items);
    }
    if word(0, &["VALUES", "SET", "RETURNING", "WINDOW"]) {
        return (1, Shape::Items);
    }
    if word(0, &["WITH"]) {
        return (also(1, &["RECURSIVE"]), Shape::Definitions);
    }
    if word(0, &["WHERE", "HAVING", "WHEN"]) {
        return (1, Shape::Condition);
    }
    if word(0, &["FROM"]) {
        return (1, if nodes.iter().any(|node| node.is_symbol(Symbol::Comma)) { Shape::Items } else { Shape::Plain });
    }
    if word(0, &JOINS) {
        let join = nodes.iter().position(|node| node.is_word("JOIN")).map_or(1, |at| at + 1);
        return (also(join, &["LATERAL"]), Shape::Join);
    }
    // What is not a word, such as a query in parentheses, is no head.
    (usize::from(matches!(nodes.first(), Some(Node::Leaf(_)))), Shape::Plain)
}

/// The places of the words between which the operands of a condition stand: each OR, or each AND where there is none; the AND of BETWEEN is
/// part of its operand.
pub(super) fn connectives(nodes: &[Node]) -> Vec<usize> {
    let (mut ands, mut ors, mut between) = (Vec::new(), Vec::new(), 0_u32);
    for (at, node) in nodes.iter().enumerate() {
        match () {
            () if node.is_word("BETWEEN") => between += 1,
            () if node.is_word("AND") && between > 0 => between -= 1,
            () if node.is_word("AND") => ands.push(at),
            () if node.is_word("OR") => ors.push(at),
            () => {}
        }
    }
    if ors.is_empty() { ands } else { ors }
}
