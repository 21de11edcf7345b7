//! Query expressions: WITH, set operators, SELECT, VALUES, and their order and number of rows.

use super::ast::{
    Alias, Corresponding, Cycle, Direction, Expr, ExprKind, Fetch, GroupBy, GroupingElement, Ident, Nulls, Query,
    QueryBody, SearchClause, Select, SelectItem, SetOp, SetOperation, SortItem, With, WithElement,
};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::{MAX_NESTING, Parser};
use super::problem::Problem;
use crate::diagnostic::{Error, Result, Span, nearest};

/// Levels of the parser's nesting that a query inside a query counts for: its own stack is deeper than an expression's.
const QUERY_LEVELS: u16 = 4;

impl Parser<'_> {
    /// A query expression (clause 7.17).
    pub(super) fn query(&mut self) -> Result<Query> {
        self.nested_by(QUERY_LEVELS, |parser| {
            let start = parser.span();
            let with = if parser.at_word(K::With) { Some(parser.with()?) } else { None };
            let body = parser.query_body()?;
            parser.query_tail(with, body, start)
        })
    }

    /// ORDER BY, OFFSET and FETCH FIRST after a body.
    fn query_tail(&mut self, with: Option<With>, body: QueryBody, start: Span) -> Result<Query> {
        let order_by = if self.accept_word(K::Order) { self.order_by()? } else { Vec::new() };
        let (offset, fetch) = self.offset_and_fetch()?;
        let guide = if self.at_guide() { Some(self.guide()?) } else { None };
        Ok(Query { with, body, order_by, offset, fetch, guide, span: start.to(self.last_span()) })
    }

    /// The keys after ORDER.
    pub(super) fn order_by(&mut self) -> Result<Vec<SortItem>> {
        self.expect_word(K::By)?;
        self.list(Self::sort_item)
    }

    /// Whether a query in parentheses begins here, and not an expression or join in parentheses.
    pub(super) fn query_here(&self) -> bool {
        self.query_at(0)
    }

    /// As [`Parser::query_here`], so many tokens ahead.
    pub(super) fn query_at(&self, start: usize) -> bool {
        let is_open = |at: usize| self.ahead(at).kind == TokenKind::Symbol(Symbol::LeftParen);
        let Some(open) = (start..=start + usize::from(MAX_NESTING)).find(|at| !is_open(*at)) else { return false };
        if open == start || !self.query_word_ahead(open) {
            return false;
        }
        // The innermost parentheses hold a query; those around it do when only what continues a query appears after it.
        (start + 1..open).all(|inner| {
            let behind = self.closing(inner) + 1;
            self.ahead(behind).kind == TokenKind::Symbol(Symbol::RightParen)
                || [K::Union, K::Intersect, K::Except, K::Order, K::Offset, K::Fetch, K::Limit]
                    .iter()
                    .any(|word| self.is_word_at(behind, *word))
        })
    }

    fn query_word_ahead(&self, distance: usize) -> bool {
        let is_name = |token: TokenKind| matches!(token, TokenKind::Word | TokenKind::QuotedName);
        [K::Select, K::With, K::Values].iter().any(|word| self.is_word_at(distance, *word))
            || self.is_word_at(distance, K::Table) && is_name(self.ahead(distance + 1).kind)
    }

    /// How far ahead the parenthesis is closed that opens `distance` ahead; the end when it is not.
    fn closing(&self, distance: usize) -> usize {
        let mut open = 0;
        for at in distance.. {
            match self.ahead(at).kind {
                TokenKind::Symbol(Symbol::LeftParen) => open += 1,
                TokenKind::Symbol(Symbol::RightParen) => open -= 1,
                TokenKind::End => return at,
                _ => {}
            }
            if open == 0 {
                return at;
            }
        }
        distance
    }

    /// A query in parentheses, which appears here.
    pub(super) fn parenthesised_query(&mut self) -> Result<Query> {
        let open = self.advance().span;
        let query = self.query()?;
        self.close(open)?;
        Ok(query)
    }

    /// UNION and EXCEPT bind less tightly than INTERSECT.
    fn query_body(&mut self) -> Result<QueryBody> {
        let first = self.query_term()?;
        self.set_operations(first, &[(K::Union, SetOp::Union), (K::Except, SetOp::Except)], Self::query_term)
    }

    fn query_term(&mut self) -> Result<QueryBody> {
        let first = self.query_primary()?;
        self.set_operations(first, &[(K::Intersect, SetOp::Intersect)], Self::query_primary)
    }

    fn set_operations(
        &mut self,
        mut left: QueryBody,
        ops: &[(K, SetOp)],
        operand: fn(&mut Self) -> Result<QueryBody>,
    ) -> Result<QueryBody> {
        let mut depth = 0;
        loop {
            let span = self.span();
            let Some((_, op)) = ops.iter().copied().find(|(word, _)| self.accept_word(*word)) else { return Ok(left) };
            let all = self.accept_word(K::All);
            if !all {
                self.accept_word(K::Distinct);
            }
            let corresponding = if self.accept_word(K::Corresponding) { Some(self.corresponding()?) } else { None };
            let right = operand(self)?;
            left = match left {
                QueryBody::SetOperation(mut known)
                    if op == SetOp::Union
                        && corresponding.is_none()
                        && known.op == op
                        && known.all == all
                        && known.corresponding.is_none() =>
                {
                    known.operands.push(right);
                    QueryBody::SetOperation(known)
                }
                left => {
                    depth += 1;
                    if depth > MAX_NESTING {
                        return Err(self.fail(&Problem::TooDeep(MAX_NESTING)));
                    }
                    let operands = vec![left, right];
                    QueryBody::SetOperation(Box::new(SetOperation { op, all, corresponding, operands, span }))
                }
            };
        }
    }

    fn corresponding(&mut self) -> Result<Corresponding> {
        let by =
            if self.accept_word(K::By) { Some(self.names_in_parentheses("a column of both queries")?) } else { None };
        Ok(Corresponding { by })
    }

    /// `(name, …)`.
    pub(super) fn names_in_parentheses(&mut self, expected: &'static str) -> Result<Vec<Ident>> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let names = self.list(|parser| parser.name(expected))?;
        self.close(open)?;
        Ok(names)
    }

    fn query_primary(&mut self) -> Result<QueryBody> {
        let start = self.span();
        if self.at_symbol(Symbol::LeftParen) {
            return Ok(QueryBody::Nested(Box::new(self.parenthesised_query()?)));
        }
        if self.accept_word(K::Values) {
            return Ok(QueryBody::Values(self.list(Self::values_row)?));
        }
        if self.query_word_ahead(0) && self.accept_word(K::Table) {
            let name = self.qualified_name("a table")?;
            return Ok(QueryBody::Table(name, start.to(self.last_span())));
        }
        if !self.at_word(K::Select) {
            return Err(self.expected("SELECT, VALUES, TABLE or a query in parentheses"));
        }
        Ok(QueryBody::Select(Box::new(self.select()?)))
    }

    /// `(a, b)`, or a single value without parentheses.
    fn values_row(&mut self) -> Result<Vec<Expr>> {
        let expr = self.expression()?;
        Ok(match expr.kind {
            ExprKind::Row(fields) => fields,
            _ => vec![expr],
        })
    }

    /// `WITH [RECURSIVE] name AS (query), …`.
    pub(super) fn with(&mut self) -> Result<With> {
        let start = self.advance().span;
        let recursive = self.accept_word(K::Recursive);
        let elements = self.list(Self::with_element)?;
        let next = self.ahead(1);
        if self.at_name() && (self.is_word_at(1, K::As) || next.kind == TokenKind::Symbol(Symbol::LeftParen)) {
            return Err(self.fail(&Problem::MissingComma { expected: "a comma or the query", found: self.found() }));
        }
        if self.current().kind == TokenKind::End || self.at_symbol(Symbol::RightParen) {
            let error = self.fail(&Problem::NothingBehindWith { name: elements[0].name.text.clone() });
            return Err(error.with_label(start, "this WITH only names queries"));
        }
        Ok(With { recursive, elements })
    }

    fn with_element(&mut self) -> Result<WithElement> {
        let name = self.name("a name for the query")?;
        let columns = if self.at_symbol(Symbol::LeftParen) {
            Some(self.names_in_parentheses("a name for a column")?)
        } else {
            None
        };
        self.expect_word(K::As)?;
        if !self.at_symbol(Symbol::LeftParen) {
            return Err(self.expected("a query in parentheses"));
        }
        let query = self.parenthesised_query()?;
        let search = if self.accept_word(K::Search) { Some(self.search()?) } else { None };
        let cycle = if self.accept_word(K::Cycle) { Some(self.cycle()?) } else { None };
        Ok(WithElement { name, columns, query, search, cycle })
    }

    fn search(&mut self) -> Result<SearchClause> {
        let depth_first = self.accept_word(K::Depth);
        if !depth_first {
            self.expect_either(K::Breadth, "DEPTH or BREADTH")?;
        }
        self.expect_word(K::First)?;
        self.expect_word(K::By)?;
        let by = self.list(|parser| parser.name("a column of the recursive query"))?;
        self.expect_word(K::Set)?;
        Ok(SearchClause { depth_first, by, sequence: self.name("a name for the order column")? })
    }

    fn cycle(&mut self) -> Result<Cycle> {
        let columns = self.list(|parser| parser.name("a column of the recursive query"))?;
        self.expect_word(K::Set)?;
        let mark = self.name("a name for the mark column")?;
        let values = if self.accept_word(K::To) {
            let on = self.additive()?;
            self.expect_word(K::Default)?;
            Some((on, self.additive()?))
        } else {
            None
        };
        let path = if self.accept_word(K::Using) { Some(self.name("a name for the path column")?) } else { None };
        Ok(Cycle { columns, mark, values, path })
    }

    fn select(&mut self) -> Result<Select> {
        let start = self.span();
        self.expect_word(K::Select)?;
        let distinct = self.at_word(K::Distinct).then(|| self.span());
        if distinct.is_some() || self.at_word(K::All) {
            self.advance();
        }
        let items = self.select_items()?;
        let begin = self.span();
        let from = if self.accept_word(K::From) { self.list(Self::table_expression)? } else { Vec::new() };
        let from_span = begin.to(self.last_span());
        let where_ = if self.accept_word(K::Where) { Some(self.expression()?) } else { None };
        let group_by = if self.accept_word(K::Group) { Some(self.group_by()?) } else { None };
        let having = if self.accept_word(K::Having) { Some(self.expression()?) } else { None };
        let windows = if self.accept_word(K::Window) { self.list(Self::named_window)? } else { Vec::new() };
        let span = start.to(self.last_span());
        Ok(Select { distinct, items, from, from_span, where_, group_by, having, windows, span })
    }

    fn group_by(&mut self) -> Result<GroupBy> {
        self.expect_word(K::By)?;
        let distinct = self.accept_word(K::Distinct);
        if !distinct {
            self.accept_word(K::All);
        }
        Ok(GroupBy { distinct, elements: self.list(Self::grouping_element)? })
    }

    fn grouping_element(&mut self) -> Result<GroupingElement> {
        let open = self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen);
        if open && self.accept_word(K::Rollup) {
            return Ok(GroupingElement::Rollup(self.grouping_sets()?));
        }
        if open && self.accept_word(K::Cube) {
            return Ok(GroupingElement::Cube(self.grouping_sets()?));
        }
        if self.accept_words(&[K::Grouping, K::Sets]) {
            let open = self.span();
            self.expect_symbol(Symbol::LeftParen, "(")?;
            let sets = self.nested(|parser| parser.list(Self::grouping_element))?;
            self.close(open)?;
            return Ok(GroupingElement::Sets(sets));
        }
        Ok(GroupingElement::Set(self.grouping_set()?))
    }

    fn grouping_sets(&mut self) -> Result<Vec<Vec<Expr>>> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let sets = self.list(Self::grouping_set)?;
        self.close(open)?;
        Ok(sets)
    }

    /// `()`, `(a, b)` or `a`.
    fn grouping_set(&mut self) -> Result<Vec<Expr>> {
        if self.at_symbol(Symbol::LeftParen) && self.ahead(1).kind == TokenKind::Symbol(Symbol::RightParen) {
            self.advance();
            self.advance();
            return Ok(Vec::new());
        }
        let is_row_call = self.at_word(K::Row);
        let expr = self.expression()?;
        Ok(match expr.kind {
            ExprKind::Row(fields) if !is_row_call => fields,
            _ => vec![expr],
        })
    }

    fn select_items(&mut self) -> Result<Vec<SelectItem>> {
        if self.current().kind == TokenKind::End {
            self.note_value_wanted();
        } else if self.at_any(&[K::Group, K::Order])
            && !self.at_words(&[K::Group, K::By])
            && !self.at_words(&[K::Order, K::By])
        {
            return Err(self.fail(&Problem::ReservedWord { word: self.found() }));
        }
        if self.current().kind == TokenKind::End || self.at_any(&[K::From, K::Where, K::Group, K::Order]) {
            return Err(self.expected("a column or expression after SELECT").with_help("* stands for all columns"));
        }
        let mut items = vec![self.select_item()?];
        loop {
            if self.accept_symbol(Symbol::Comma) {
                if self.current().kind != TokenKind::End && self.at_word(K::From) {
                    return Err(self
                        .expected("a column or expression after the comma")
                        .with_help("take the comma away"));
                }
                items.push(self.select_item()?);
                continue;
            }
            if self.at_expression_start() && !self.at_guide() {
                return Err(self.no_select_item());
            }
            return Ok(items);
        }
    }

    /// What can't follow an item of the SELECT list: FROM is misspelt, a count of rows appears there, or a comma is missing.
    fn no_select_item(&self) -> Error {
        let (before, found) = (self.raw_before(), self.found());
        let error = self.fail(&Problem::MissingComma { expected: "a comma or FROM", found });
        let counts = ["TOP", "FIRST", "LIMIT", "ONLY"].iter().any(|word| before.eq_ignore_ascii_case(word));
        if counts && self.current().kind == TokenKind::Number {
            let help = format!("FETCH FIRST {} ROWS ONLY belongs at the end of the query", self.found());
            return error.with_help(help);
        }
        // One letter more or less, or two exchanged: no alias of a column that a table's name follows.
        let here = self.raw(self.current());
        let is_name_next = matches!(self.ahead(1).kind, TokenKind::Word | TokenKind::QuotedName);
        if self.current().kind == TokenKind::Word && is_name_next && nearest(here, ["FROM"]).is_some() {
            return error.with_help(format!("did you mean FROM instead of {here}?")).with_replacement("FROM");
        }
        match nearest(before, ["FROM"]) {
            Some(_) if self.at_name() => error
                .with_help(format!("did you mean FROM instead of {before}?"))
                .with_replacement("FROM")
                .replacing(self.last_span()),
            _ => error,
        }
    }

    /// Whether what appears here can begin an expression, so that only a comma can be missing before it.
    fn at_expression_start(&self) -> bool {
        match self.current().kind {
            TokenKind::QuotedName | TokenKind::Text | TokenKind::Number | TokenKind::Parameter => true,
            TokenKind::Word => {
                self.at_name() || self.at_any(&[K::Case, K::Cast, K::Null, K::True, K::False, K::Interval])
            }
            _ => false,
        }
    }

    /// One item of SELECT.
    pub(super) fn select_item(&mut self) -> Result<SelectItem> {
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

    /// A name after AS or without it, where one may stand.
    pub(super) fn alias(&mut self, expected: &'static str) -> Result<Option<Alias>> {
        if self.accept_word(K::As) {
            return Ok(Some(Alias { name: self.name(expected)?, with_as: true }));
        }
        // These go on with the statement that a query appears in.
        let behind = self.at_word(K::Returning)
            || self.at_guide()
            || [K::Skip, K::Replace].iter().any(|word| self.at_words(&[*word, K::Duplicates]));
        Ok(if self.at_name() && !behind { Some(Alias { name: self.name(expected)?, with_as: false }) } else { None })
    }

    /// One key of ORDER BY.
    pub(super) fn sort_item(&mut self) -> Result<SortItem> {
        let expr = self.expression()?;
        let direction = if self.accept_word(K::Desc) { Direction::Descending } else { Direction::Ascending };
        if direction == Direction::Ascending {
            self.accept_word(K::Asc);
        }
        let mut nulls = Nulls::Last;
        if self.accept_word(K::Nulls) {
            if self.accept_word(K::First) {
                nulls = Nulls::First;
            } else if !self.accept_word(K::Last) {
                return Err(self.expected("FIRST or LAST"));
            }
        }
        Ok(SortItem { expr, direction, nulls })
    }

    /// `[OFFSET n ROWS] [FETCH FIRST n ROWS ONLY]` of the standard, or `LIMIT n [OFFSET m]`.
    fn offset_and_fetch(&mut self) -> Result<(Option<Expr>, Option<Fetch>)> {
        if self.accept_word(K::Limit) {
            let count = self.count()?;
            let offset = if self.accept_word(K::Offset) { Some(self.count()?) } else { None };
            return Ok((offset, Some(Fetch { count, percent: false, with_ties: false })));
        }
        let mut offset = None;
        if self.accept_word(K::Offset) {
            offset = Some(self.count()?);
            self.accept_rows();
        }
        if !self.accept_word(K::Fetch) {
            return Ok((offset, None));
        }
        if !self.accept_word(K::First) && !self.accept_word(K::Next) {
            return Err(self.expected("FIRST or NEXT"));
        }
        let count = if self.at_any(&[K::Row, K::Rows]) { self.one() } else { self.count()? };
        let percent = self.accept_word(K::Percent);
        if !self.accept_rows() {
            return Err(self.expected("ROWS"));
        }
        let with_ties = self.accept_words(&[K::With, K::Ties]);
        if !with_ties {
            self.expect_word(K::Only)?;
        }
        Ok((offset, Some(Fetch { count, percent, with_ties })))
    }

    fn accept_rows(&mut self) -> bool {
        self.accept_word(K::Rows) || self.accept_word(K::Row)
    }

    /// A row count: a number, a parameter, or an expression without columns.
    fn count(&mut self) -> Result<Expr> {
        self.additive()
    }
}
