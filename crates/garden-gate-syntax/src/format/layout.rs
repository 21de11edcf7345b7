//! Lines of a statement: what fits stands on one, else it is broken from the outside in.

use super::clause::{self, Shape};
use super::pieces::{Comment, Piece, PieceKind};
use super::tree::Node;
use super::{FormatOptions, KeywordCase};
use crate::lexer::Symbol;

/// How much further in a line is that belongs to the one above.
const INDENT: usize = 2;

/// Words after which a sign is no operation between two values.
fn ends_value(piece: &Piece) -> bool {
    match piece.kind {
        PieceKind::Name | PieceKind::Text | PieceKind::Number | PieceKind::Parameter => true,
        PieceKind::Keyword => {
            ["NULL", "TRUE", "FALSE", "END", "UNKNOWN", "CURRENT_DATE"].iter().any(|word| piece.is_word(word))
        }
        PieceKind::Symbol(symbol) => {
            matches!(symbol, Symbol::RightParen | Symbol::RightBracket | Symbol::Question)
        }
        PieceKind::End => false,
    }
}

/// The token written last.
#[derive(Clone)]
struct Last {
    piece: Piece,
    /// Whether it is a sign of the value after it.
    is_sign: bool,
}

/// Whether a blank stands between two tokens.
fn is_spaced(last: &Last, next: &Piece) -> bool {
    use Symbol as S;
    let before = &last.piece;
    if before.kind == PieceKind::Name && before.text.ends_with('&') {
        return !next.is_glued;
    }
    let joins = |piece: &Piece| [S::LeftParen, S::LeftBracket].iter().any(|open| piece.is_symbol(*open));
    if next.kind == PieceKind::End || joins(before) || before.is_symbol(S::Dot) {
        return false;
    }
    match next.kind {
        PieceKind::Symbol(S::RightParen | S::RightBracket | S::Comma | S::Semicolon) => false,
        // `1 .` would be read as one number.
        PieceKind::Symbol(S::Dot) => before.kind == PieceKind::Number,
        PieceKind::Symbol(S::LeftBracket) => !next.is_glued,
        PieceKind::Symbol(S::LeftParen) => {
            !next.is_glued || !matches!(before.kind, PieceKind::Name | PieceKind::Keyword) || needs_blank(before)
        }
        // X'…' and the like are one word with their text.
        PieceKind::Text if before.kind == PieceKind::Name || before.kind == PieceKind::Keyword => {
            !(next.is_glued && before.text.chars().count() == 1)
        }
        _ if last.is_sign => {
            // Two signs would begin a comment.
            before.is_symbol(S::Minus) && next.is_symbol(S::Minus)
                || before.is_symbol(S::Plus) && next.is_symbol(S::Plus)
        }
        _ => true,
    }
}

/// Keywords that are no names of functions.
fn needs_blank(piece: &Piece) -> bool {
    const WORDS: [&str; 22] = [
        "IN", "AS", "ON", "AND", "OR", "NOT", "USING", "VALUES", "OVER", "EXISTS", "FROM", "WHERE", "SELECT", "WHEN",
        "THEN", "ELSE", "BY", "UNION", "ALL", "GUIDE", "KEY", "JOIN",
    ];
    WORDS.iter().any(|word| piece.is_word(word))
}

pub(super) struct Layout<'o> {
    options: &'o FormatOptions,
    out: String,
    /// Characters of the line so far.
    column: usize,
    last: Option<Last>,
    /// The line ends before the next token, which stands so far in.
    pending: Option<usize>,
}

impl<'o> Layout<'o> {
    /// Nothing laid out yet.
    pub(super) fn new(options: &'o FormatOptions) -> Self {
        Self { options, out: String::new(), column: 0, last: None, pending: None }
    }

    /// The text, with one line end at its end.
    pub(super) fn finish(mut self) -> String {
        self.out.truncate(self.out.trim_end().len());
        self.out.push('\n');
        self.out
    }

    fn push(&mut self, text: &str) {
        self.out.push_str(text);
        self.column = match text.rfind('\n') {
            Some(at) => text[at + 1..].chars().count(),
            None => self.column + text.chars().count(),
        };
    }

    /// Ends the line, unless nothing is on it.
    fn line(&mut self, indent: usize) {
        self.pending = Some(indent);
    }

    fn break_line(&mut self, indent: usize) {
        if !self.out.is_empty() && !self.out.ends_with('\n') {
            self.out.push('\n');
        }
        self.column = 0;
        self.push(&" ".repeat(indent));
    }

    fn cased(&self, piece: &Piece) -> String {
        match (piece.kind, self.options.keywords) {
            (PieceKind::Keyword, KeywordCase::Upper) => piece.text.to_uppercase(),
            (PieceKind::Keyword, KeywordCase::Lower) => piece.text.to_lowercase(),
            _ => piece.text.clone(),
        }
    }

    /// Writes comments, each on a line.
    pub(super) fn comments(&mut self, comments: &[Comment], indent: usize) {
        for comment in comments {
            let indent = self.pending.take().unwrap_or(indent);
            self.break_line(indent);
            self.push(&comment.text);
            self.line(indent);
        }
    }

    /// Writes a token with its comments.
    pub(super) fn piece(&mut self, piece: &Piece, indent: usize) {
        self.comments(&piece.before, indent);
        let goes_on = self.last.as_ref().is_some_and(|last| last.piece.kind == PieceKind::Text);
        if piece.kind == PieceKind::Text && goes_on && piece.on_new_line {
            // Texts on two lines are one text (clause 5.3), on one line they are not.
            self.pending.get_or_insert(indent + INDENT);
        }
        let text = self.cased(piece);
        if text.is_empty() {
            // The end of the text.
        } else if let Some(indent) = self.pending.take() {
            self.break_line(indent);
        } else if self.last.as_ref().is_some_and(|last| is_spaced(last, piece)) {
            self.push(" ");
        }
        self.push(&text);
        self.note(piece);
        for comment in &piece.after {
            self.push(" ");
            self.push(&comment.text);
            if comment.ends_line() {
                self.line(indent);
            }
        }
    }

    fn note(&mut self, piece: &Piece) {
        let is_sign = [Symbol::Minus, Symbol::Plus].iter().any(|sign| piece.is_symbol(*sign))
            && !self.last.as_ref().is_some_and(|last| ends_value(&last.piece));
        self.last = Some(Last { piece: piece.clone(), is_sign });
    }

    /// Writes nodes on the line when they fit. A comment after the last of them, which ends the line, does not count.
    fn fits(&mut self, nodes: &[Node]) -> bool {
        let column = self.pending.unwrap_or(self.column);
        let width = self.options.width.saturating_sub(column);
        let mut trial = Layout { out: String::new(), column: 0, pending: None, last: self.last.clone(), ..*self };
        let after: &[Comment] = match nodes.split_last() {
            Some((Node::Leaf(last), before)) if last.after.iter().any(Comment::ends_line) => {
                let bare = Piece { after: Vec::new(), ..last.clone() };
                if !trial.flat(before, width) || !trial.flat_piece(&bare, width) {
                    return false;
                }
                &last.after
            }
            _ if trial.flat(nodes, width) => &[],
            _ => return false,
        };
        let (text, last) = (trial.out, trial.last);
        if let Some(indent) = self.pending.take() {
            self.break_line(indent);
            self.push(text.trim_start());
        } else {
            self.push(&text);
        }
        self.last = last;
        for comment in after {
            self.push(" ");
            self.push(&comment.text);
            // Whoever writes on knows how far in.
            self.line(0);
        }
        true
    }

    /// Nodes without an end of a line; `false` when something ends one, or they are longer.
    fn flat(&mut self, nodes: &[Node], width: usize) -> bool {
        nodes.iter().all(|node| match node {
            Node::Leaf(piece) => self.flat_piece(piece, width),
            Node::Group { open, body, close } => {
                self.flat_piece(open, width) && self.flat(body, width) && self.flat_piece(close, width)
            }
        })
    }

    fn flat_piece(&mut self, piece: &Piece, width: usize) -> bool {
        let goes_on = self.last.as_ref().is_some_and(|last| last.piece.kind == PieceKind::Text);
        let breaks = !piece.before.is_empty()
            || piece.after.iter().any(Comment::ends_line)
            || piece.kind == PieceKind::Text && (goes_on && piece.on_new_line || piece.text.contains('\n'));
        if breaks {
            return false;
        }
        self.piece(piece, 0);
        self.column <= width
    }

    /// Writes clauses, items or operands, whichever nodes are, from a margin.
    pub(super) fn sequence(&mut self, nodes: &[Node], indent: usize) {
        if self.fits(nodes) {
            return;
        }
        if clause::is_clauses(nodes) {
            let mut starts: Vec<usize> = (0..nodes.len()).filter(|at| clause::begins(nodes, *at)).collect();
            if starts.first() != Some(&0) {
                starts.insert(0, 0);
            }
            for (number, from) in starts.iter().enumerate() {
                let to = starts.get(number + 1).copied().unwrap_or(nodes.len());
                if number > 0 {
                    self.line(indent);
                }
                self.clause(&nodes[*from..to], indent);
            }
        } else {
            self.items(nodes, indent);
        }
    }

    fn clause(&mut self, nodes: &[Node], indent: usize) {
        if self.fits(nodes) {
            return;
        }
        let (head, shape) = clause::head(nodes);
        let (head, rest) = nodes.split_at(head.min(nodes.len()));
        head.iter().for_each(|node| self.piece(node.first(), indent));
        match shape {
            Shape::Items if rest.iter().any(|node| node.is_symbol(Symbol::Comma)) => {
                self.line(indent + INDENT);
                self.items(rest, indent + INDENT);
            }
            Shape::Definitions => self.items(rest, indent),
            Shape::Condition => self.operands(rest, indent + INDENT),
            Shape::Join => {
                let on = rest.iter().position(|node| node.is_word("ON") || node.is_word("USING"));
                let (table, condition) = rest.split_at(on.unwrap_or(rest.len()));
                self.flow(table, indent);
                if let Some((word, condition)) = condition.split_first() {
                    self.line(indent + INDENT);
                    self.piece(word.first(), indent + INDENT);
                    self.operands(condition, indent + INDENT + INDENT);
                }
            }
            Shape::Items | Shape::Plain => self.flow(rest, indent),
        }
    }

    /// What stands between commas, each on a line.
    fn items(&mut self, nodes: &[Node], indent: usize) {
        let mut first = true;
        for item in nodes.split_inclusive(|node| node.is_symbol(Symbol::Comma)) {
            if !std::mem::take(&mut first) {
                self.line(indent);
            }
            if !self.fits(item) {
                self.operands(item, indent);
            }
        }
    }

    /// The operands of AND or OR, each after the first on a line.
    fn operands(&mut self, nodes: &[Node], indent: usize) {
        if self.fits(nodes) {
            return;
        }
        let connectives = clause::connectives(nodes);
        let mut from = 0;
        for to in connectives.iter().copied().chain([nodes.len()]) {
            let operand = &nodes[from..to];
            if from > 0 {
                self.line(indent);
            }
            if !self.fits(operand) {
                let inner = usize::from(from > 0);
                operand[..inner].iter().for_each(|word| self.piece(word.first(), indent));
                let rest = &operand[inner..];
                if connectives.is_empty() || clause::connectives(rest).is_empty() {
                    self.flow(rest, indent);
                } else {
                    self.operands(rest, indent + INDENT);
                }
            }
            from = to;
        }
    }

    /// One after the other; parentheses that do not fit enclose lines of their own.
    fn flow(&mut self, nodes: &[Node], indent: usize) {
        for node in nodes {
            match node {
                Node::Leaf(piece) => self.piece(piece, indent),
                Node::Group { open, body, close } => {
                    if self.fits(std::slice::from_ref(node)) {
                        continue;
                    }
                    self.piece(open, indent);
                    if node.is_case() {
                        self.branches(body, indent + INDENT);
                    } else if !body.is_empty() {
                        self.line(indent + INDENT);
                        self.sequence(body, indent + INDENT);
                    }
                    self.line(indent);
                    self.piece(close, indent);
                }
            }
        }
    }

    /// What stands between CASE and END, each branch on a line.
    fn branches(&mut self, nodes: &[Node], indent: usize) {
        let starts = |node: &Node| node.is_word("WHEN") || node.is_word("ELSE");
        let mut from = 0;
        for to in (0..nodes.len()).filter(|at| starts(&nodes[*at])).chain([nodes.len()]) {
            let branch = &nodes[from..to];
            if branch.first().is_some_and(starts) {
                self.line(indent);
            }
            if !self.fits(branch) {
                self.operands(branch, indent + INDENT);
            }
            from = to;
        }
    }
}
