use super::lexer::{Lexer, Symbol, TokenKind};
use super::problem::Problem;
use crate::diagnostic::Error;

/// How far a text that is still being typed has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Typed {
    /// Blanks and comments at most.
    Nothing,
    /// A statement without its semicolon: there is none yet, or it is part of a comment, a text or a quoted name.
    Unfinished,
    /// Statements, the last of which ends with a semicolon.
    Finished,
}

impl Typed {
    /// Whether the text is worth running, or more is to come. Only tokens count: a semicolon in a comment, a text or a quoted name ends
    /// nothing. O(length).
    ///
    /// ```
    /// # mod garden_gate { pub mod value { pub use garden_gate_syntax::Typed; } }
    /// use garden_gate::value::Typed;
    ///
    /// assert_eq!(Typed::of("DELETE FROM bed -- only the old ones;"), Typed::Unfinished);
    /// assert_eq!(Typed::of("DELETE FROM bed WHERE id = 1; -- an old one"), Typed::Finished);
    /// ```
    pub fn of(text: &str) -> Self {
        let mut lexer = Lexer::new(text, 0);
        let mut typed = Self::Nothing;
        loop {
            match lexer.next_token() {
                Ok(token) => match token.kind {
                    TokenKind::End => return typed,
                    TokenKind::Symbol(Symbol::Semicolon) => {
                        // A semicolon alone is nothing to run, and nothing to wait for.
                        typed = if typed == Typed::Nothing { Typed::Nothing } else { Typed::Finished };
                    }
                    _ => typed = Typed::Unfinished,
                },
                Err(error) => {
                    typed = Typed::Unfinished;
                    if is_unclosed(&error) {
                        return typed;
                    }
                }
            }
        }
    }
}

/// Whether an error is that a text, a name or a comment is not closed.
pub fn is_unclosed(error: &Error) -> bool {
    let open = [Problem::UnclosedText, Problem::UnclosedName, Problem::UnclosedComment];
    open.iter().any(|open| error.message() == open.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_semicolon_that_is_a_token_ends_a_statement() {
        for (text, typed) in [
            ("", Typed::Nothing),
            (" \n-- a comment;\n/* another; */", Typed::Nothing),
            (";", Typed::Nothing),
            ("delete from fare -- only the old ones;", Typed::Unfinished),
            ("delete from fare -- only the old ones;\n;", Typed::Finished),
            ("delete from fare /* where;", Typed::Unfinished),
            ("delete from fare /* where; */", Typed::Unfinished),
            ("delete from fare /* where; */ ;", Typed::Finished),
            ("select 'a;", Typed::Unfinished),
            ("select 'a;\n;'", Typed::Unfinished),
            ("select 'it''s;';", Typed::Finished),
            ("select \"a;", Typed::Unfinished),
            ("select \"a;\";", Typed::Finished),
            ("select 1; -- done", Typed::Finished),
            ("select 1; select 2", Typed::Unfinished),
            ("select 1; select 2;", Typed::Finished),
            ("select # 1;", Typed::Finished),
            ("select #", Typed::Unfinished),
        ] {
            assert_eq!(Typed::of(text), typed, "{text}");
        }
    }
}
