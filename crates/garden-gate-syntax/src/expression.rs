use super::ast::{ArithmeticOp, Case, CompareOp, Expr, ExprKind, Form, Ident, Now, Operands, ParameterName};
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::{MAX_DEPTH, Parser};
use super::problem::Problem;
use crate::diagnostic::{Error, Result, Span};
use crate::types::{Field, SqlType, TypeLimit, Value};

/// How two operands become one expression.
type Make = fn(Box<Operands>) -> ExprKind;

/// Operands of a chain of `+` or `||` that are nested in one another.
const CHAIN_BLOCK: u16 = 256;

fn make_of(symbol: Symbol) -> Option<Make> {
    match symbol {
        Symbol::Plus => Some(|pair| ExprKind::Arithmetic(ArithmeticOp::Add, pair)),
        Symbol::Minus => Some(|pair| ExprKind::Arithmetic(ArithmeticOp::Subtract, pair)),
        Symbol::Concat => Some(ExprKind::Concat),
        _ => None,
    }
}

impl Parser<'_> {
    /// Any value expression; the entry of the grammar of clause 6.28.
    pub(super) fn expression(&mut self) -> Result<Expr> {
        self.nested(Self::or)
    }

    fn or(&mut self) -> Result<Expr> {
        self.terms(K::Or, Self::and, ExprKind::Or)
    }

    fn and(&mut self) -> Result<Expr> {
        self.terms(K::And, Self::not, ExprKind::And)
    }

    /// `a word b word c` as one flat node, however many terms there are.
    fn terms(
        &mut self,
        word: K,
        term: impl Fn(&mut Self) -> Result<Expr>,
        make: impl FnOnce(Vec<Expr>) -> ExprKind,
    ) -> Result<Expr> {
        let first = term(self)?;
        if !self.at_word(word) {
            return Ok(first);
        }
        let mut terms = vec![first];
        while self.accept_word(word) {
            terms.push(term(self)?);
        }
        let span = terms[0].span.to(self.last_span());
        self.node(make(terms), span)
    }

    fn not(&mut self) -> Result<Expr> {
        let start = self.span();
        if self.accept_word(K::Not) {
            let operand = self.nested(Self::not)?;
            let span = start.to(operand.span);
            return self.node(ExprKind::Not(Box::new(operand)), span);
        }
        self.predicate()
    }

    /// Operands tied by `+`, `-` and `||`.
    pub(super) fn additive(&mut self) -> Result<Expr> {
        let mut left = self.multiplicative()?;
        // Blocks of a long chain of one operator, which are put together last: a chain of any length is nested no deeper than a block of it
        // and their number. + and || may be taken together in any order.
        let mut blocks: Vec<Expr> = Vec::new();
        let mut chain: Option<(Symbol, Make)> = None;
        loop {
            let next = match self.current().kind {
                TokenKind::Symbol(symbol) => make_of(symbol).map(|make| (symbol, make)),
                _ => None,
            };
            let goes_on = chain.is_none() || matches!((chain, next), (Some((a, _)), Some((b, _))) if a == b);
            if !goes_on && let Some((_, make)) = chain {
                left = self.joined(std::mem::take(&mut blocks), left, make)?;
            }
            let Some((symbol, make)) = next else { return Ok(left) };
            if goes_on && left.depth >= CHAIN_BLOCK && symbol != Symbol::Minus {
                self.advance();
                blocks.push(std::mem::replace(&mut left, self.multiplicative()?));
            } else {
                self.advance();
                let right = self.multiplicative()?;
                let span = left.span.to(right.span);
                left = self.node(make(Box::new(Operands { left, right })), span)?;
            }
            chain = Some((symbol, make));
        }
    }

    /// The blocks of a chain and its last part as one expression.
    fn joined(&self, blocks: Vec<Expr>, last: Expr, make: Make) -> Result<Expr> {
        let mut parts = blocks.into_iter().chain([last]);
        let Some(first) = parts.next() else { return Err(self.expected("an expression")) };
        parts.try_fold(first, |left, right| {
            let span = left.span.to(right.span);
            self.node(make(Box::new(Operands { left, right })), span)
        })
    }

    fn multiplicative(&mut self) -> Result<Expr> {
        let mut left = self.unary()?;
        loop {
            let op = match self.current().kind {
                TokenKind::Symbol(Symbol::Star) => ArithmeticOp::Multiply,
                TokenKind::Symbol(Symbol::Slash) => ArithmeticOp::Divide,
                _ => return Ok(left),
            };
            self.advance();
            let right = self.unary()?;
            let span = left.span.to(right.span);
            left = self.node(ExprKind::Arithmetic(op, Box::new(Operands { left, right })), span)?;
        }
    }

    fn unary(&mut self) -> Result<Expr> {
        let start = self.span();
        if self.accept_symbol(Symbol::Minus) {
            let operand = self.nested(Self::unary)?;
            let span = start.to(operand.span);
            return self.node(ExprKind::Negate(Box::new(operand)), span);
        }
        if self.accept_symbol(Symbol::Plus) {
            return self.nested(Self::unary);
        }
        self.primary()
    }

    /// A primary with what may stand after it: `[position]`, `AT TIME ZONE`.
    fn primary(&mut self) -> Result<Expr> {
        let mut operand = self.plain_primary()?;
        loop {
            let start = operand.span;
            let kind = if self.accept_symbol(Symbol::LeftBracket) {
                let position = self.expression()?;
                self.expect_symbol(Symbol::RightBracket, "]")?;
                ExprKind::Element(Box::new(Operands { left: operand, right: position }))
            } else if self.accept_words(&[K::At, K::Local]) {
                ExprKind::AtZone(Box::new(operand), None)
            } else if self.accept_words(&[K::At, K::Time, K::Zone]) {
                let zone = self.plain_primary()?;
                ExprKind::AtZone(Box::new(operand), Some(Box::new(zone)))
            } else {
                return Ok(operand);
            };
            operand = self.node(kind, start.to(self.last_span()))?;
        }
    }

    fn plain_primary(&mut self) -> Result<Expr> {
        let token = self.current();
        match token.kind {
            TokenKind::Number => self.number(),
            TokenKind::Text => {
                let text = self.text_literal("text")?;
                self.node(ExprKind::Literal(Value::Text(text), SqlType::TEXT), token.span.to(self.last_span()))
            }
            TokenKind::Parameter => {
                self.advance();
                let name = self.raw(token)[1..].to_owned();
                self.node(ExprKind::Parameter(ParameterName::Named(name)), token.span)
            }
            TokenKind::Symbol(Symbol::Question) => {
                self.advance();
                self.positional += 1;
                self.node(ExprKind::Parameter(ParameterName::Position(self.positional)), token.span)
            }
            TokenKind::Symbol(Symbol::LeftParen) => self.parenthesised(token.span),
            TokenKind::Word => self.word_primary(),
            TokenKind::QuotedName => self.name_or_call(),
            TokenKind::Symbol(_) | TokenKind::End => {
                self.note_value_wanted();
                Err(self.expected("an expression"))
            }
        }
    }

    /// A query, a row of several values, or an expression in parentheses.
    fn parenthesised(&mut self, open: Span) -> Result<Expr> {
        if self.query_here() {
            let query = self.parenthesised_query()?;
            return self.node(ExprKind::Subquery(Box::new(query)), open.to(self.last_span()));
        }
        self.advance();
        let mut inner = self.expression()?;
        if self.at_symbol(Symbol::Comma) {
            let mut fields = vec![inner];
            while self.accept_symbol(Symbol::Comma) {
                fields.push(self.expression()?);
            }
            self.close(open)?;
            return self.node(ExprKind::Row(fields), open.to(self.last_span()));
        }
        self.close(open)?;
        inner.span = open.to(self.last_span());
        if self.at_symbol(Symbol::Dot) && self.ahead(1).kind != TokenKind::Symbol(Symbol::Star) {
            self.advance();
            let field = self.name("a field of the row")?;
            return self.node(ExprKind::Field(Box::new(inner), field), open.to(self.last_span()));
        }
        if matches!(inner.kind, ExprKind::Arithmetic(ArithmeticOp::Subtract, _)) && self.at_interval_field() {
            let target = self.interval_fields()?;
            let whole = open.to(self.last_span());
            return self.node(ExprKind::Difference(Box::new(inner), target), whole);
        }
        Ok(inner)
    }

    fn at_interval_field(&self) -> bool {
        let token = self.current();
        token.kind == TokenKind::Word && Field::from_word(self.raw(token)).is_some()
    }

    fn word_primary(&mut self) -> Result<Expr> {
        let span = self.span();
        if let Some(literal) = self.word_literal()? {
            return Ok(literal);
        }
        // Reserved for joins; in the place of a call they are functions that are told what to write.
        if self.at_any(&[K::Left, K::Right]) && self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) {
            let word = self.advance();
            let name = Ident { text: self.raw(word).to_owned(), quoted: false, span };
            return self.call(name, span);
        }
        if self.accept_words(&[K::Next, K::Value, K::For]) {
            let name = self.qualified_name("the name of a sequence")?;
            return self.node(ExprKind::NextValue(name), span.to(self.last_span()));
        }
        let now = [
            (K::CurrentDate, Now::Date),
            (K::CurrentTimestamp, Now::Timestamp),
            (K::Localtimestamp, Now::LocalTimestamp),
            (K::Localtime, Now::Time),
            (K::CurrentTime, Now::TimeTz),
        ];
        let of_session = [
            (K::CurrentUser, Now::User),
            (K::SessionUser, Now::User),
            (K::SystemUser, Now::User),
            (K::CurrentRole, Now::Role),
            (K::CurrentSchema, Now::Schema),
            (K::CurrentCatalog, Now::Catalog),
        ];
        if let Some((_, value)) = of_session.into_iter().find(|(word, _)| self.at_word(*word)) {
            self.advance();
            return self.node(ExprKind::Now(value), span);
        }
        if let Some((_, now)) = now.into_iter().find(|(word, _)| self.at_word(*word)) {
            self.advance();
            let digits = if now == Now::Date { 6 } else { self.second_digits()? };
            let span = span.to(self.last_span());
            let moment = self.node(ExprKind::Now(now), span)?;
            return self.with_digits(moment, digits, span);
        }
        if self.at_word(K::Case) {
            return self.case();
        }
        let open = self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen);
        if self.at_word(K::Cast) {
            return self.cast();
        }
        if self.accept_word(K::Exists) {
            let query = self.query_operand("EXISTS")?;
            return self.node(ExprKind::Exists(query), span.to(self.last_span()));
        }
        if self.accept_word(K::Unique) {
            let nulls_equal = self.accept_words(&[K::Nulls, K::Not, K::Distinct]);
            if !nulls_equal {
                self.accept_words(&[K::Nulls, K::Distinct]);
            }
            let query = self.query_operand("UNIQUE")?;
            return self.node(ExprKind::Unique(query, nulls_equal), span.to(self.last_span()));
        }
        if open && self.at_any(&[K::Any, K::Some]) {
            // The aggregate; before a query in parentheses it belongs to a comparison.
            let token = self.advance();
            let name = Ident { text: self.raw(token).to_owned(), quoted: false, span: token.span };
            return self.call(name, span);
        }
        if open && self.at_word(K::Row) {
            self.advance();
            let open = self.advance().span;
            let fields = self.list(Self::expression)?;
            self.close(open)?;
            return self.node(ExprKind::Row(fields), span.to(self.last_span()));
        }
        if self.at_word(K::Array) && (open || self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftBracket)) {
            return self.array();
        }
        self.name_or_call()
    }

    /// `ARRAY[a, b]`, `ARRAY[]` or `ARRAY(query)`.
    fn array(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        if self.query_here() {
            let query = self.parenthesised_query()?;
            return self.node(ExprKind::ArrayQuery(Box::new(query)), start.to(self.last_span()));
        }
        self.expect_symbol(Symbol::LeftBracket, "[ and the elements of the array")?;
        let elements = if self.at_symbol(Symbol::RightBracket) { Vec::new() } else { self.list(Self::expression)? };
        self.expect_symbol(Symbol::RightBracket, "]")?;
        self.node(ExprKind::Array(elements), start.to(self.last_span()))
    }

    /// The query in parentheses that a word asks for.
    pub(super) fn query_operand(&mut self, word: &str) -> Result<Box<super::ast::Query>> {
        if self.query_here() {
            return self.parenthesised_query().map(Box::new);
        }
        Err(self.expected(&format!("a query in parentheses after {word}")))
    }

    fn case(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        let operand = if self.at_word(K::When) { None } else { Some(self.expression()?) };
        let mut branches = Vec::new();
        while self.accept_word(K::When) {
            let condition = if operand.is_some() { self.when_operands()? } else { self.expression()? };
            self.expect_word(K::Then)?;
            branches.push((condition, self.expression()?));
        }
        if branches.is_empty() {
            return Err(self.expected("WHEN"));
        }
        let otherwise = if self.accept_word(K::Else) { Some(self.expression()?) } else { None };
        if !self.at_word(K::End) {
            return Err(self.expected("WHEN, ELSE or END").with_label(start, "this CASE is still open"));
        }
        self.advance();
        self.node(ExprKind::Case(Box::new(Case { operand, branches, otherwise })), start.to(self.last_span()))
    }

    /// What a simple CASE compares its operand with: values or the rest of predicates, several separated by commas (clause 6.12).
    fn when_operands(&mut self) -> Result<Expr> {
        let start = self.span();
        let mut terms = self.list(|parser| {
            let at = parser.span();
            let operand = parser.node(ExprKind::CaseOperand, at)?;
            if let Some(kind) = parser.predicate_rest(&operand)? {
                return parser.node(kind, at.to(parser.last_span()));
            }
            let value = parser.expression()?;
            let span = value.span;
            parser.node(ExprKind::Compare(CompareOp::Equal, Box::new(Operands { left: operand, right: value })), span)
        })?;
        if terms.len() == 1 {
            return Ok(terms.remove(0));
        }
        self.node(ExprKind::Or(terms), start.to(self.last_span()))
    }

    fn cast(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let operand = self.expression()?;
        self.expect_word(K::As)?;
        let (target, domain) = self.type_or_domain()?;
        if let Some(domain) = domain {
            self.close(open)?;
            return self.node(ExprKind::CastToDomain(Box::new(operand), domain), start.to(self.last_span()));
        }
        let format =
            if self.accept_word(K::Format) { Some(self.text_literal("a template in single quotes")?) } else { None };
        self.close(open)?;
        let span = start.to(self.last_span());
        if let Some(TypeLimit::Fields(fields)) = target.limit {
            if format.is_some() {
                return Err(self.not_supported("FORMAT of an interval"));
            }
            return self.node(ExprKind::CastToFields(Box::new(operand), fields), span);
        }
        let cast = self.node(ExprKind::Cast(Box::new(operand), target.sql_type, format), span)?;
        match target.limit {
            None | Some(TypeLimit::Fields(_)) => Ok(cast),
            Some(TypeLimit::SecondDigits(digits)) => self.with_digits(cast, digits, span),
            Some(TypeLimit::Elements(most)) => {
                let most = self.number_node(most.into(), span)?;
                self.node(ExprKind::Form(Form::ArrayLimit, vec![cast, most]), span)
            }
        }
    }

    /// A time with fewer digits of its seconds; the others are dropped.
    fn with_digits(&mut self, time: Expr, digits: u8, span: Span) -> Result<Expr> {
        if digits == 6 {
            return Ok(time);
        }
        let digits = self.number_node(digits.into(), span)?;
        self.node(ExprKind::Form(Form::SecondDigits, vec![time, digits]), span)
    }

    fn name_or_call(&mut self) -> Result<Expr> {
        let start = self.span();
        if let Some(period) = self.period_value()? {
            return Ok(period);
        }
        if self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen)
            && let Some(special) = self.special_call()?
        {
            return Ok(special);
        }
        let mut name = self.qualified_name("an expression")?;
        if !self.at_symbol(Symbol::LeftParen) {
            return self.node(ExprKind::Name(name), start.to(self.last_span()));
        }
        if name.len() > 1 {
            let what = format!("the function {}", name[name.len() - 1].text.to_uppercase());
            return Err(Error::from_facts(&Problem::NotSupported { what }).at(start));
        }
        self.call(name.remove(0), start)
    }

    /// Makes a node, one deeper than its deepest part.
    pub(super) fn node(&self, kind: ExprKind, span: Span) -> Result<Expr> {
        let depth = 1 + kind.parts_depth();
        if depth > MAX_DEPTH {
            return Err(Error::from_facts(&Problem::TooDeep(MAX_DEPTH)).at(self.last_span()));
        }
        Ok(Expr { kind, span, depth })
    }
}

impl ExprKind {
    fn parts_depth(&self) -> u16 {
        let deepest = |parts: &[Expr]| parts.iter().map(|part| part.depth).max().unwrap_or(0);
        let pair = |pair: &Operands| pair.left.depth.max(pair.right.depth);
        match self {
            Self::Name(_)
            | Self::Literal(..)
            | Self::Parameter(_)
            | Self::Now(_)
            | Self::NextValue(_)
            | Self::CaseOperand
            | Self::Exists(_)
            | Self::Unique(..)
            | Self::Subquery(_)
            | Self::ArrayQuery(_) => 0,
            Self::Row(parts) | Self::Array(parts) | Self::Form(_, parts) => deepest(parts),
            Self::Overlaps(parts) => deepest(parts.as_slice()),
            Self::InQuery { operand, .. }
            | Self::Quantified { operand, .. }
            | Self::Extract(_, operand)
            | Self::TruncateTo(_, operand)
            | Self::Field(operand, _)
            | Self::Difference(operand, _) => operand.depth,
            Self::Nested(nested) => nested
                .value
                .as_ref()
                .map_or(0, |value| value.value.depth.max(value.default.as_ref().map_or(0, |default| default.depth))),
            Self::AtZone(operand, zone) => operand.depth.max(zone.as_ref().map_or(0, |zone| zone.depth)),
            Self::Element(operands) => pair(operands),
            Self::And(terms) | Self::Or(terms) => deepest(terms),
            Self::Not(operand)
            | Self::Negate(operand)
            | Self::Cast(operand, ..)
            | Self::CastToDomain(operand, _)
            | Self::CastToFields(operand, _)
            | Self::Is { operand, .. } => operand.depth,
            Self::Compare(_, operands) | Self::Arithmetic(_, operands) | Self::Concat(operands) => pair(operands),
            Self::Distinct { operands, .. } | Self::Period(operands) | Self::PeriodTest(_, operands) => pair(operands),
            Self::Between { operands, .. } => deepest(operands.as_slice()),
            Self::In { operand, list, .. } => operand.depth.max(deepest(list)),
            Self::Like { operands, escape, .. }
            | Self::Similar { operands, escape, .. }
            | Self::LikeRegex { operands, flag: escape, .. } => {
                pair(operands).max(escape.as_ref().map_or(0, |e| e.depth))
            }
            Self::Case(case) => {
                let Case { operand, branches, otherwise } = case.as_ref();
                let outer = [operand, otherwise].into_iter().flatten().map(|e| e.depth).max().unwrap_or(0);
                branches.iter().map(|(when, then)| when.depth.max(then.depth)).max().unwrap_or(0).max(outer)
            }
            Self::Call(call) => deepest(&call.args).max(call.filter.as_ref().map_or(0, |filter| filter.depth)),
        }
    }
}
