use super::ast::{FileOptions, Ident, Join, JoinCondition, TableExpr};
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::Result;

impl Parser<'_> {
    /// One item of FROM with the joins that follow it.
    pub(super) fn table_expression(&mut self) -> Result<TableExpr> {
        let mut left = self.table_primary()?;
        loop {
            let condition_expected = if self.accept_words(&["CROSS", "JOIN"]) {
                false
            } else if self.accept_words(&["INNER", "JOIN"]) || self.accept_word("JOIN") {
                true
            } else if self.at_any(&["LEFT", "RIGHT", "FULL"]) {
                return Err(self.not_supported(format!("{} JOIN", self.found().to_uppercase())));
            } else if self.at_word("NATURAL") {
                return Err(self.not_supported("NATURAL JOIN"));
            } else {
                return Ok(left);
            };
            let right = self.table_primary()?;
            let condition = if condition_expected { self.join_condition()? } else { JoinCondition::Cross };
            left = TableExpr::Join(Box::new(Join { left, right, condition }));
        }
    }

    fn join_condition(&mut self) -> Result<JoinCondition> {
        if self.accept_word("ON") {
            return Ok(JoinCondition::On(self.expression()?));
        }
        if self.accept_word("USING") {
            let open = self.span();
            self.expect_symbol(Symbol::LeftParen, "(")?;
            let columns = self.list(|parser| parser.name("a column of both tables"))?;
            self.close(open)?;
            return Ok(JoinCondition::Using(columns));
        }
        Err(self.expected("ON or USING").with_help("CROSS JOIN pairs every row with every other, without a condition"))
    }

    fn table_primary(&mut self) -> Result<TableExpr> {
        let start = self.span();
        if self.at_symbol(Symbol::LeftParen) {
            self.advance();
            if self.at_any(&["SELECT", "WITH", "VALUES"]) {
                return Err(self.not_supported("a query in FROM"));
            }
            let inner = self.nested(Self::table_expression)?;
            self.close(start)?;
            return Ok(inner);
        }
        if self.at_word("LATERAL") || self.at_word("UNNEST") {
            return Err(self.not_supported(self.found().to_uppercase()));
        }
        if self.at_word("FILE") && self.ahead(1).kind == TokenKind::Text {
            self.advance();
            let path = self.text_literal("the path of a file")?;
            let options = if self.at_symbol(Symbol::LeftParen) { self.file_options()? } else { FileOptions::default() };
            let span = start.to(self.last_span());
            return Ok(TableExpr::File { path, options, alias: self.correlation_name()?, span });
        }
        let name = self.qualified_name("a table")?;
        if self.at_symbol(Symbol::LeftParen) {
            return Err(self.not_supported("a function as a table"));
        }
        if self.at_words(&["FOR", "SYSTEM_TIME"]) {
            return Err(self.not_supported("FOR SYSTEM_TIME"));
        }
        let span = start.to(self.last_span());
        Ok(TableExpr::Named { name, alias: self.correlation_name()?, span })
    }

    fn correlation_name(&mut self) -> Result<Option<Ident>> {
        if self.at_any(&["GUIDE", "FOR", "TABLESAMPLE"]) {
            return Ok(None);
        }
        let alias = self.alias("a name for the table after AS")?;
        if alias.is_some() && self.at_symbol(Symbol::LeftParen) {
            return Err(self.not_supported("a list of column names behind a table's name"));
        }
        Ok(alias.map(|alias| alias.name))
    }

    fn file_options(&mut self) -> Result<FileOptions> {
        let open = self.span();
        self.advance();
        let mut options = FileOptions::default();
        self.list(|parser| parser.file_option(&mut options))?;
        self.close(open)?;
        Ok(options)
    }

    fn file_option(&mut self, options: &mut FileOptions) -> Result<()> {
        if self.accept_word("DELIMITER") {
            let text = self.text_literal("a character in single quotes")?;
            let text = if text == "\\t" { "\t".to_owned() } else { text };
            let mut characters = text.chars();
            match (characters.next(), characters.next()) {
                (Some(one), None) if one.is_ascii() => options.delimiter = Some(one),
                _ => return Err(self.expected("one ASCII character as the delimiter")),
            }
        } else if self.accept_words(&["NO", "HEADER"]) {
            options.no_header = true;
        } else if self.accept_word("SKIP") {
            let token = self.current();
            options.skip = self.raw(token).parse().map_err(|_| self.expected("a number of lines"))?;
            self.advance();
        } else if self.accept_words(&["NULL", "TEXT"]) {
            options.null_text = Some(self.text_literal("text in single quotes")?);
        } else if self.at_any(&["ROW", "BATCH", "ERROR", "ERRORS", "CHECKS"]) {
            return Err(self.not_supported(format!("the file option {}", self.found().to_uppercase())));
        } else {
            return Err(self.expected("a file option: DELIMITER, NO HEADER, SKIP or NULL TEXT"));
        }
        Ok(())
    }
}
