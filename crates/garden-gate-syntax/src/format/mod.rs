//! SQL laid out anew: the same tokens and comments, with other blanks, ends of lines and letters of keywords.
//!
//! A statement that fits on a line stands on one. A longer one has a line for each clause; a clause that does not fit has a line for each
//! of its items or conjuncts, two blanks further in; parentheses that do not fit enclose lines of their own. A statement that cannot be
//! read stays as it is. Laying out what was laid out changes nothing.

mod clause;
mod layout;
mod pieces;
mod tree;

use crate::control;
use crate::diagnostic::{Error, Result, SourceText, SqlState};
use layout::Layout;
use pieces::{PieceKind, Statement};
use std::sync::Arc;

/// How the letters of keywords are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum KeywordCase {
    /// `SELECT`
    #[default]
    Upper,
    /// `select`
    Lower,
    /// As they are.
    Keep,
}

/// How SQL is laid out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FormatOptions {
    /// Characters of a line, where it can be broken.
    pub width: usize,
    /// The letters of keywords.
    pub keywords: KeywordCase,
}

impl Default for FormatOptions {
    fn default() -> Self {
        Self { width: 100, keywords: KeywordCase::Upper }
    }
}

impl FormatOptions {
    /// With lines of so many characters.
    #[must_use]
    pub fn width(self, width: usize) -> Self {
        Self { width, ..self }
    }

    /// With these letters of keywords.
    #[must_use]
    pub fn keywords(self, keywords: KeywordCase) -> Self {
        Self { keywords, ..self }
    }
}

/// A text that was laid out.
#[derive(Debug)]
#[non_exhaustive]
pub struct Formatted {
    /// The text.
    pub text: String,
    /// Why statements stay as they were.
    pub problems: Vec<Error>,
}

/// Lays out the statements of a text. O(length · depth of nesting).
///
/// ```
/// # mod garden_gate { pub use garden_gate_syntax::format; }
/// use garden_gate::format::{FormatOptions, format_sql};
///
/// let formatted = format_sql("select name from bed where sun='shade'", &FormatOptions::default()).unwrap();
/// assert_eq!(formatted.text, "SELECT name FROM bed WHERE sun = 'shade'\n");
/// ```
///
/// # Errors
/// 42000 when a text, a name or a comment is not closed: nobody can say then what is what.
pub fn format_sql(text: &str, options: &FormatOptions) -> Result<Formatted> {
    // Parentheses within parentheses cost stack.
    control::large_stack(|| format_all(text, options))
}

fn format_all(text: &str, options: &FormatOptions) -> Result<Formatted> {
    let source = SourceText::new(text);
    let statements = pieces::statements(&source)?;
    let mut out = String::new();
    let mut problems = Vec::new();
    for statement in statements {
        let raw = text[statement.span.clone()].trim();
        if !out.is_empty() && statement.after_blank {
            out.push('\n');
        }
        let laid_out = match &statement.problem {
            None => lay_out(&statement, options),
            Some(_) => None,
        };
        let after = statement.pieces.last().map(|last| last.after.clone()).unwrap_or_default();
        problems.extend(statement.problem);
        match laid_out {
            Some(laid_out) => out.push_str(&laid_out),
            None => {
                out.push_str(raw);
                after.iter().for_each(|comment| out.extend([" ", &comment.text]));
            }
        }
        if !out.ends_with('\n') {
            out.push('\n');
        }
    }
    check_same(&out, &source)?;
    Ok(Formatted { text: out, problems })
}

fn lay_out(statement: &Statement, options: &FormatOptions) -> Option<String> {
    let (end, pieces) = statement.pieces.split_last()?;
    let mut pieces = pieces.to_vec();
    let mut layout = Layout::new(options);
    if let Some(first) = pieces.first_mut() {
        // What stands before the statement does not break it.
        layout.comments(&std::mem::take(&mut first.before), 0);
    }
    let nodes = tree::trees(pieces)?;
    layout.sequence(&nodes, 0);
    layout.piece(end, 0);
    Some(layout.finish())
}

/// Laying out changes no token: were it to, the text stays as it is and this says so.
fn check_same(after: &str, source: &Arc<SourceText>) -> Result<()> {
    let tokens = |source: &Arc<SourceText>| -> Result<Vec<(PieceKind, String)>> {
        let statements = pieces::statements(source)?;
        let pieces = statements.into_iter().flat_map(|statement| statement.pieces);
        let text = |piece: pieces::Piece| match piece.kind {
            PieceKind::Keyword => (piece.kind, piece.text.to_ascii_uppercase()),
            kind => (kind, piece.text),
        };
        Ok(pieces.map(text).collect())
    };
    let (before, after) = (tokens(source)?, tokens(&SourceText::new(after))?);
    let differs = (0..before.len().max(after.len())).find(|at| before.get(*at) != after.get(*at));
    match differs {
        None => Ok(()),
        Some(at) => {
            let text =
                |tokens: &[(PieceKind, String)]| tokens.get(at).map_or("nothing".into(), |(_, text)| text.clone());
            let message = format!("internal error: the layout would make {} of {}", text(&after), text(&before));
            Err(Error::new(SqlState::GENERAL, message))
        }
    }
}
