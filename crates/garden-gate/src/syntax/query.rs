use super::ast::{Alias, Direction, Expr, Nulls, Query, Select, SelectItem, SortItem};
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use super::problem::Problem;
use crate::diagnostic::Result;

impl Parser<'_> {
    pub(super) fn query(&mut self) -> Result<Query> {
        let select = self.select()?;
        if self.at_any(&["UNION", "INTERSECT", "EXCEPT"]) {
            return Err(self.not_supported(format!("the set operator {}", self.found().to_uppercase())));
        }
        let order_by = if self.accept_word("ORDER") {
            self.expect_word("BY")?;
            self.list(Self::sort_item)?
        } else {
            Vec::new()
        };
        let (offset, fetch) = self.offset_and_fetch()?;
        Ok(Query { select, order_by, offset, fetch })
    }

    fn select(&mut self) -> Result<Select> {
        self.expect_word("SELECT")?;
        let distinct = self.at_word("DISTINCT").then(|| self.span());
        if distinct.is_some() || self.at_word("ALL") {
            self.advance();
        }
        let items = self.select_items()?;
        let from = if self.accept_word("FROM") { self.list(Self::table_expression)? } else { Vec::new() };
        let where_ = if self.accept_word("WHERE") { Some(self.expression()?) } else { None };
        let group_by = if self.accept_word("GROUP") { self.group_by()? } else { Vec::new() };
        let having = if self.accept_word("HAVING") { Some(self.expression()?) } else { None };
        Ok(Select { distinct, items, from, where_, group_by, having })
    }

    fn group_by(&mut self) -> Result<Vec<Expr>> {
        self.expect_word("BY")?;
        if self.at_any(&["DISTINCT", "ALL"]) {
            return Err(self.not_supported("GROUP BY DISTINCT"));
        }
        self.list(|parser| {
            let later =
                parser.at_any(&["ROLLUP", "CUBE"]) && parser.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen);
            if later || parser.at_words(&["GROUPING", "SETS"]) {
                return Err(parser.not_supported("GROUPING SETS, ROLLUP and CUBE"));
            }
            parser.expression()
        })
    }

    fn select_items(&mut self) -> Result<Vec<SelectItem>> {
        if self.at_any(&["GROUP", "ORDER"]) && !self.at_words(&["GROUP", "BY"]) && !self.at_words(&["ORDER", "BY"]) {
            return Err(self.fail(&Problem::ReservedWord { word: self.found() }));
        }
        if self.at_any(&["FROM", "WHERE", "GROUP", "ORDER"]) || self.current().kind == TokenKind::End {
            return Err(self.expected("a column or expression after SELECT").with_help("* stands for all columns"));
        }
        let mut items = vec![self.select_item()?];
        loop {
            if self.accept_symbol(Symbol::Comma) {
                if self.at_word("FROM") {
                    return Err(self
                        .expected("a column or expression after the comma")
                        .with_help("take the comma away"));
                }
                items.push(self.select_item()?);
                continue;
            }
            if self.at_expression_start() {
                let found = self.found();
                return Err(self.fail(&Problem::MissingComma { expected: "a comma or FROM", found }));
            }
            return Ok(items);
        }
    }

    /// Whether what stands here can begin an expression, so that only a comma can be missing before it.
    fn at_expression_start(&self) -> bool {
        match self.current().kind {
            TokenKind::QuotedName | TokenKind::Text | TokenKind::Number | TokenKind::Parameter => true,
            TokenKind::Word => self.at_name() || self.at_any(&["CASE", "CAST", "NULL", "TRUE", "FALSE", "INTERVAL"]),
            _ => false,
        }
    }

    fn select_item(&mut self) -> Result<SelectItem> {
        let start = self.span();
        if self.accept_symbol(Symbol::Star) {
            return Ok(SelectItem::All(start));
        }
        if let Some(item) = self.all_of()? {
            return Ok(item);
        }
        let expr = self.expression()?;
        let alias = self.alias("a name for the column after AS")?;
        Ok(SelectItem::Expr { expr, alias })
    }

    /// `t.*` or `s.t.*`, recognised before anything is consumed.
    fn all_of(&mut self) -> Result<Option<SelectItem>> {
        let mut distance = 0;
        loop {
            let is_name = matches!(self.ahead(distance).kind, TokenKind::Word | TokenKind::QuotedName);
            if !is_name || self.ahead(distance + 1).kind != TokenKind::Symbol(Symbol::Dot) {
                return Ok(None);
            }
            if self.ahead(distance + 2).kind == TokenKind::Symbol(Symbol::Star) {
                break;
            }
            distance += 2;
        }
        let start = self.span();
        let name = self.qualified_name("a table")?;
        self.advance();
        self.advance();
        Ok(Some(SelectItem::AllOf(name, start.to(self.last_span()))))
    }

    pub(super) fn alias(&mut self, expected: &str) -> Result<Option<Alias>> {
        if self.accept_word("AS") {
            return Ok(Some(Alias { name: self.name(expected)?, with_as: true }));
        }
        Ok(if self.at_name() { Some(Alias { name: self.name(expected)?, with_as: false }) } else { None })
    }

    fn sort_item(&mut self) -> Result<SortItem> {
        let expr = self.expression()?;
        let direction = if self.accept_word("DESC") { Direction::Descending } else { Direction::Ascending };
        if direction == Direction::Ascending {
            self.accept_word("ASC");
        }
        let mut nulls = Nulls::Last;
        if self.accept_word("NULLS") {
            if self.accept_word("FIRST") {
                nulls = Nulls::First;
            } else if !self.accept_word("LAST") {
                return Err(self.expected("FIRST or LAST"));
            }
        }
        Ok(SortItem { expr, direction, nulls })
    }

    /// `[OFFSET n ROWS] [FETCH FIRST n ROWS ONLY]` of the standard, or `LIMIT n [OFFSET m]`.
    fn offset_and_fetch(&mut self) -> Result<(Option<Expr>, Option<Expr>)> {
        if self.accept_word("LIMIT") {
            let fetch = self.count()?;
            let offset = if self.accept_word("OFFSET") { Some(self.count()?) } else { None };
            return Ok((offset, Some(fetch)));
        }
        let mut offset = None;
        if self.accept_word("OFFSET") {
            offset = Some(self.count()?);
            self.accept_rows();
        }
        if !self.accept_word("FETCH") {
            return Ok((offset, None));
        }
        if !self.accept_word("FIRST") && !self.accept_word("NEXT") {
            return Err(self.expected("FIRST or NEXT"));
        }
        let fetch = if self.at_any(&["ROW", "ROWS"]) { self.one() } else { self.count()? };
        if self.at_word("PERCENT") {
            return Err(self.not_supported("FETCH FIRST … PERCENT"));
        }
        if !self.accept_rows() {
            return Err(self.expected("ROWS"));
        }
        if self.at_words(&["WITH", "TIES"]) {
            return Err(self.not_supported("FETCH FIRST … WITH TIES"));
        }
        self.expect_word("ONLY")?;
        Ok((offset, Some(fetch)))
    }

    fn accept_rows(&mut self) -> bool {
        self.accept_word("ROWS") || self.accept_word("ROW")
    }

    /// A row count: a number, a parameter, or an expression without columns.
    fn count(&mut self) -> Result<Expr> {
        self.additive()
    }
}
