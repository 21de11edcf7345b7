use super::ast::{Arguments, ArithmeticOp, Case, CompareOp, Expr, ExprKind, Now, ParameterName, Test};
use super::lexer::{Symbol, TokenKind};
use super::parser::{MAX_DEPTH, Parser};
use super::problem::Problem;
use crate::diagnostic::{Error, Result, Span};
use crate::types::{SqlType, Value};

/// Functions whose argument list has words of its own in the standard; all come later.
const LATER_FUNCTIONS: &[&str] = &["EXTRACT", "SUBSTRING", "POSITION", "OVERLAY", "TRIM", "ARRAY", "ROW", "LISTAGG"];

impl Parser<'_> {
    /// Any value expression; the entry of the grammar of clause 6.28.
    pub(super) fn expression(&mut self) -> Result<Expr> {
        self.nested(Self::or)
    }

    fn or(&mut self) -> Result<Expr> {
        self.terms("OR", Self::and, ExprKind::Or)
    }

    fn and(&mut self) -> Result<Expr> {
        self.terms("AND", Self::not, ExprKind::And)
    }

    /// `a word b word c` as one flat node, however many terms there are.
    fn terms(
        &mut self,
        word: &str,
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
        if self.accept_word("NOT") {
            let operand = self.nested(Self::not)?;
            let span = start.to(operand.span);
            return self.node(ExprKind::Not(Box::new(operand)), span);
        }
        self.predicate()
    }

    fn predicate(&mut self) -> Result<Expr> {
        let mut left = self.additive()?;
        loop {
            let start = left.span;
            let kind = if let Some(op) = self.compare_op() {
                self.advance();
                if self.at_any(&["ANY", "SOME", "ALL"]) {
                    return Err(self.not_supported("a comparison with ANY, SOME or ALL"));
                }
                let right = self.additive()?;
                ExprKind::Compare(op, Box::new((left, right)))
            } else if self.accept_word("IS") {
                self.is_predicate(left)?
            } else {
                let negated = self.at_word("NOT") && {
                    let next = self.ahead(1);
                    ["BETWEEN", "IN", "LIKE", "SIMILAR"].iter().any(|word| self.raw(next).eq_ignore_ascii_case(word))
                };
                if negated {
                    self.advance();
                }
                if self.accept_word("BETWEEN") {
                    self.between(left, negated)?
                } else if self.accept_word("IN") {
                    self.in_list(left, negated)?
                } else if self.accept_word("LIKE") {
                    self.like(left, negated)?
                } else if self.at_any(&["SIMILAR", "OVERLAPS", "LIKE_REGEX"]) {
                    return Err(self.not_supported(self.found().to_uppercase()));
                } else {
                    return Ok(left);
                }
            };
            left = self.node(kind, start.to(self.last_span()))?;
        }
    }

    fn compare_op(&self) -> Option<CompareOp> {
        Some(match self.current().kind {
            TokenKind::Symbol(Symbol::Equal) => CompareOp::Equal,
            TokenKind::Symbol(Symbol::NotEqual) => CompareOp::NotEqual,
            TokenKind::Symbol(Symbol::Less) => CompareOp::Less,
            TokenKind::Symbol(Symbol::LessOrEqual) => CompareOp::LessOrEqual,
            TokenKind::Symbol(Symbol::Greater) => CompareOp::Greater,
            TokenKind::Symbol(Symbol::GreaterOrEqual) => CompareOp::GreaterOrEqual,
            _ => return None,
        })
    }

    fn is_predicate(&mut self, operand: Expr) -> Result<ExprKind> {
        let negated = self.accept_word("NOT");
        if self.accept_word("DISTINCT") {
            self.expect_word("FROM")?;
            let right = self.additive()?;
            return Ok(ExprKind::Distinct { operands: Box::new((operand, right)), negated });
        }
        let tests = [("NULL", Test::Null), ("TRUE", Test::True), ("FALSE", Test::False), ("UNKNOWN", Test::Unknown)];
        for (word, test) in tests {
            if self.accept_word(word) {
                return Ok(ExprKind::Is { operand: Box::new(operand), test, negated });
            }
        }
        Err(self.expected("NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM"))
    }

    fn between(&mut self, operand: Expr, negated: bool) -> Result<ExprKind> {
        let symmetric = self.accept_word("SYMMETRIC");
        if !symmetric {
            self.accept_word("ASYMMETRIC");
        }
        let low = self.additive()?;
        self.expect_word("AND")?;
        let high = self.additive()?;
        Ok(ExprKind::Between { operands: Box::new([operand, low, high]), negated, symmetric })
    }

    fn in_list(&mut self, operand: Expr, negated: bool) -> Result<ExprKind> {
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and a list of values")?;
        if self.at_any(&["SELECT", "WITH", "VALUES"]) {
            return Err(self.not_supported("IN with a query"));
        }
        let list = self.list(Self::expression)?;
        self.close(open)?;
        Ok(ExprKind::In { operand: Box::new(operand), list, negated })
    }

    fn like(&mut self, operand: Expr, negated: bool) -> Result<ExprKind> {
        let pattern = self.additive()?;
        let escape = if self.accept_word("ESCAPE") { Some(Box::new(self.additive()?)) } else { None };
        Ok(ExprKind::Like { operands: Box::new((operand, pattern)), escape, negated })
    }

    pub(super) fn additive(&mut self) -> Result<Expr> {
        let mut left = self.multiplicative()?;
        loop {
            let symbol = self.current().kind;
            let make: fn(Box<(Expr, Expr)>) -> ExprKind = match symbol {
                TokenKind::Symbol(Symbol::Plus) => |pair| ExprKind::Arithmetic(ArithmeticOp::Add, pair),
                TokenKind::Symbol(Symbol::Minus) => |pair| ExprKind::Arithmetic(ArithmeticOp::Subtract, pair),
                TokenKind::Symbol(Symbol::Concat) => ExprKind::Concat,
                _ => return Ok(left),
            };
            self.advance();
            let right = self.multiplicative()?;
            let span = left.span.to(right.span);
            left = self.node(make(Box::new((left, right))), span)?;
        }
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
            left = self.node(ExprKind::Arithmetic(op, Box::new((left, right))), span)?;
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

    fn primary(&mut self) -> Result<Expr> {
        let token = self.current();
        match token.kind {
            TokenKind::Number => self.number(),
            TokenKind::Text => {
                let text = self.text_literal("text")?;
                self.node(ExprKind::Literal(Value::Text(text), SqlType::TEXT), token.span)
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
            TokenKind::Symbol(_) | TokenKind::End => Err(self.expected("an expression")),
        }
    }

    fn parenthesised(&mut self, open: Span) -> Result<Expr> {
        self.advance();
        if self.at_any(&["SELECT", "WITH", "VALUES"]) {
            return Err(self.not_supported("a query inside an expression"));
        }
        let mut inner = self.expression()?;
        if self.at_symbol(Symbol::Comma) {
            return Err(self.not_supported("a row value"));
        }
        self.close(open)?;
        inner.span = open.to(self.last_span());
        Ok(inner)
    }

    fn word_primary(&mut self) -> Result<Expr> {
        let span = self.span();
        if let Some(literal) = self.word_literal()? {
            return Ok(literal);
        }
        let now = [("CURRENT_DATE", Now::Date), ("CURRENT_TIME", Now::Time), ("CURRENT_TIMESTAMP", Now::Timestamp)];
        if let Some((_, now)) = now.into_iter().find(|(word, _)| self.at_word(word)) {
            self.advance();
            return self.node(ExprKind::Now(now), span);
        }
        if self.at_word("CASE") {
            return self.case();
        }
        if self.at_word("CAST") {
            return self.cast();
        }
        if self.at_any(&["EXISTS", "UNIQUE"]) {
            return Err(self.not_supported(format!("{} with a query", self.found().to_uppercase())));
        }
        self.name_or_call()
    }

    fn case(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        let operand = if self.at_word("WHEN") { None } else { Some(self.expression()?) };
        let mut branches = Vec::new();
        while self.accept_word("WHEN") {
            if self.compare_op().is_some() {
                return Err(self.not_supported("CASE … WHEN with a bare comparison"));
            }
            let condition = self.expression()?;
            self.expect_word("THEN")?;
            branches.push((condition, self.expression()?));
        }
        if branches.is_empty() {
            return Err(self.expected("WHEN"));
        }
        let otherwise = if self.accept_word("ELSE") { Some(self.expression()?) } else { None };
        if !self.at_word("END") {
            return Err(self.expected("WHEN, ELSE or END").with_label(start, "this CASE is still open"));
        }
        self.advance();
        self.node(ExprKind::Case(Box::new(Case { operand, branches, otherwise })), start.to(self.last_span()))
    }

    fn cast(&mut self) -> Result<Expr> {
        let start = self.advance().span;
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "(")?;
        let operand = self.expression()?;
        self.expect_word("AS")?;
        let target = self.data_type()?;
        self.close(open)?;
        self.node(ExprKind::Cast(Box::new(operand), target), start.to(self.last_span()))
    }

    fn name_or_call(&mut self) -> Result<Expr> {
        let start = self.span();
        let later = LATER_FUNCTIONS.iter().any(|word| self.at_word(word));
        let mut name = self.qualified_name("an expression")?;
        if !self.at_symbol(Symbol::LeftParen) {
            return self.node(ExprKind::Name(name), start.to(self.last_span()));
        }
        if name.len() > 1 || later {
            return Err(Error::from_facts(&Problem::NotSupported {
                what: format!("the function {}", name[name.len() - 1].text.to_uppercase()),
            })
            .at(start));
        }
        let args = self.arguments()?;
        if self.at_word("OVER") {
            return Err(self.not_supported("a window function"));
        }
        if self.at_word("FILTER") && self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen) {
            return Err(self.not_supported("FILTER"));
        }
        self.node(ExprKind::Call { name: name.remove(0), args }, start.to(self.last_span()))
    }

    fn arguments(&mut self) -> Result<Arguments> {
        let open = self.advance().span;
        if self.accept_symbol(Symbol::Star) {
            self.close(open)?;
            return Ok(Arguments::Star);
        }
        let distinct = self.accept_word("DISTINCT");
        if !distinct {
            self.accept_word("ALL");
        }
        let values = if self.at_symbol(Symbol::RightParen) { Vec::new() } else { self.list(Self::expression)? };
        self.close(open)?;
        Ok(Arguments::List { distinct, values })
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
        let pair = |pair: &(Expr, Expr)| pair.0.depth.max(pair.1.depth);
        match self {
            Self::Name(_) | Self::Literal(..) | Self::Parameter(_) | Self::Now(_) => 0,
            Self::And(terms) | Self::Or(terms) => deepest(terms),
            Self::Not(operand) | Self::Negate(operand) | Self::Cast(operand, _) | Self::Is { operand, .. } => {
                operand.depth
            }
            Self::Compare(_, operands) | Self::Arithmetic(_, operands) | Self::Concat(operands) => pair(operands),
            Self::Distinct { operands, .. } => pair(operands),
            Self::Between { operands, .. } => deepest(operands.as_slice()),
            Self::In { operand, list, .. } => operand.depth.max(deepest(list)),
            Self::Like { operands, escape, .. } => pair(operands).max(escape.as_ref().map_or(0, |e| e.depth)),
            Self::Case(case) => {
                let Case { operand, branches, otherwise } = case.as_ref();
                let outer = [operand, otherwise].into_iter().flatten().map(|e| e.depth).max().unwrap_or(0);
                branches.iter().map(pair).max().unwrap_or(0).max(outer)
            }
            Self::Call { args: Arguments::List { values, .. }, .. } => deepest(values),
            Self::Call { args: Arguments::Star, .. } => 0,
        }
    }
}
