//! Texts that are parts of statements: an expression, a name, a type, the options of a file.

use super::ast::Ident;
use super::lexer::TokenKind;
use super::parser::{Parser, Script};
use crate::diagnostic::{Error, Result, SourceText};
use std::sync::Arc;

/// The expression that a text consists of, such as a default that a table's definition keeps.
pub fn expression_of(source: &SourceText) -> Result<super::ast::Expr> {
    let tokens = Script::new(Arc::new(source.clone())).tokens_to_semicolon()?;
    Parser::new(source.text(), tokens).expression()
}

/// A text of SQL with a quoted name instead of each use of a word.
pub fn with_name_for(source: &SourceText, word: &str, name: &str) -> Result<String> {
    let tokens = Script::new(Arc::new(source.clone())).tokens_to_semicolon()?;
    let mut text = String::new();
    let mut copied = 0;
    for token in tokens {
        let range = token.span.range();
        if token.kind == TokenKind::Word && source.slice(token.span).eq_ignore_ascii_case(word) {
            text.push_str(&source.text()[copied..range.start]);
            text.push_str(&format!("\"{}\"", name.replace('"', "\"\"")));
            copied = range.end;
        }
    }
    text.push_str(&source.text()[copied..]);
    Ok(text)
}

/// The parts of a name that appears alone.
pub fn name_of(text: &str) -> Result<Vec<Ident>> {
    let source = SourceText::new(text);
    let tokens = Script::new(Arc::clone(&source)).tokens_to_semicolon()?;
    let mut parser = Parser::new(source.text(), tokens);
    let parts = parser.qualified_name("a name")?;
    if parser.current().kind == TokenKind::End { Ok(parts) } else { Err(parser.expected("the end of the name")) }
}

/// The options that stand in parentheses after the path of a file, without them.
pub fn file_options_of(text: &str) -> Result<super::ast::FileOptions> {
    if text.trim().is_empty() {
        return Ok(super::ast::FileOptions::default());
    }
    let source = SourceText::new(format!("({text})"));
    let read = || {
        let tokens = Script::new(Arc::clone(&source)).tokens_to_semicolon()?;
        let mut parser = Parser::new(source.text(), tokens);
        let options = parser.file_options()?;
        if parser.current().kind == TokenKind::End {
            Ok(options)
        } else {
            Err(parser.expected("the end of the options"))
        }
    };
    read().map_err(|error: Error| error.in_source(&source))
}

/// The type that a text names.
pub fn type_of(text: &str) -> Result<crate::types::DeclaredType> {
    let source = SourceText::new(text);
    let tokens = Script::new(Arc::clone(&source)).tokens_to_semicolon()?;
    Parser::new(source.text(), tokens).declared_type()
}
