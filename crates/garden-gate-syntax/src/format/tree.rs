//! Tokens between parentheses, brackets, and CASE and END, as trees.

use super::pieces::Piece;
use crate::lexer::Symbol;

/// A token, or what stands between two that belong together.
#[derive(Debug)]
pub(super) enum Node {
    Leaf(Piece),
    Group { open: Piece, body: Vec<Node>, close: Piece },
}

impl Node {
    /// The first token of it.
    pub(super) fn first(&self) -> &Piece {
        match self {
            Self::Leaf(piece) => piece,
            Self::Group { open, .. } => open,
        }
    }

    /// Whether it is a keyword alone.
    pub(super) fn is_word(&self, word: &str) -> bool {
        matches!(self, Self::Leaf(piece) if piece.is_word(word))
    }

    /// Whether it is a symbol alone.
    pub(super) fn is_symbol(&self, symbol: Symbol) -> bool {
        matches!(self, Self::Leaf(piece) if piece.is_symbol(symbol))
    }

    /// Whether it is CASE … END.
    pub(super) fn is_case(&self) -> bool {
        matches!(self, Self::Group { open, .. } if open.is_word("CASE"))
    }
}

/// The token that closes what another one opens.
fn closes(open: &Piece, piece: &Piece) -> bool {
    open.is_symbol(Symbol::LeftParen) && piece.is_symbol(Symbol::RightParen)
        || open.is_symbol(Symbol::LeftBracket) && piece.is_symbol(Symbol::RightBracket)
        || open.is_word("CASE") && piece.is_word("END")
}

fn opens(piece: &Piece) -> bool {
    piece.is_symbol(Symbol::LeftParen) || piece.is_symbol(Symbol::LeftBracket) || piece.is_word("CASE")
}

/// The trees of the tokens; `None` when something is not closed. The stack is a list, so that no nesting exhausts the thread's.
pub(super) fn trees(pieces: impl IntoIterator<Item = Piece>) -> Option<Vec<Node>> {
    let mut outer: Vec<(Piece, Vec<Node>)> = Vec::new();
    let mut nodes = Vec::new();
    for piece in pieces {
        if opens(&piece) {
            outer.push((piece, std::mem::take(&mut nodes)));
        } else if outer.last().is_some_and(|(open, _)| closes(open, &piece)) {
            let (open, before) = outer.pop()?;
            let body = std::mem::replace(&mut nodes, before);
            nodes.push(Node::Group { open, body, close: piece });
        } else {
            nodes.push(Node::Leaf(piece));
        }
    }
    outer.is_empty().then_some(nodes)
}
