//! Predicates (clause 8): what appears after a value and makes it a condition.

use super::ast::{CompareOp, Expr, ExprKind, Form, Operands, Test};
use super::call::NORMAL_FORMS;
use super::keyword::Keyword as K;
use super::lexer::{Symbol, TokenKind};
use super::parser::Parser;
use crate::diagnostic::Result;

/// An operand with its pattern, and the escape.
type Pattern = (Box<Operands>, Option<Box<Expr>>);

impl Parser<'_> {
    /// An expression, and the predicates after it.
    pub(super) fn predicate(&mut self) -> Result<Expr> {
        let mut left = self.additive()?;
        loop {
            let start = left.span;
            let Some(kind) = self.predicate_rest(&left)? else { return Ok(left) };
            left = self.node(kind, start.to(self.last_span()))?;
        }
    }

    /// The predicate whose first operand has been read, when one appears here.
    pub(super) fn predicate_rest(&mut self, left: &Expr) -> Result<Option<ExprKind>> {
        if let Some(op) = self.compare_op() {
            self.advance();
            return self.comparison(op, left.clone()).map(Some);
        }
        if self.accept_word(K::Is) {
            return self.is_predicate(left.clone()).map(Some);
        }
        let words = [K::Between, K::In, K::Like, K::Similar, K::LikeRegex];
        let negated = self.at_word(K::Not) && words.iter().any(|word| self.is_word_at(1, *word));
        if negated {
            self.advance();
        }
        Ok(Some(if self.accept_word(K::Between) {
            self.between(left.clone(), negated)?
        } else if self.accept_word(K::In) {
            self.in_predicate(left.clone(), negated)?
        } else if self.accept_word(K::Like) {
            let (operands, escape) = self.pattern(left.clone())?;
            ExprKind::Like { operands, escape, negated }
        } else if self.accept_words(&[K::Similar, K::To]) {
            let (operands, escape) = self.pattern(left.clone())?;
            ExprKind::Similar { operands, escape, negated }
        } else if self.accept_word(K::LikeRegex) {
            let operands = Box::new(Operands { left: left.clone(), right: self.additive()? });
            let flag = if self.accept_word(K::Flag) { Some(Box::new(self.additive()?)) } else { None };
            ExprKind::LikeRegex { operands, flag, negated }
        } else if let Some(op) = self.period_op(left) {
            let right = self.additive()?;
            ExprKind::PeriodTest(op, Box::new(Operands { left: left.clone(), right }))
        } else if self.at_word(K::Match) && self.match_follows() {
            self.advance();
            self.match_predicate(left)?
        } else if self.at_word(K::Overlaps) {
            self.overlaps(left)?
        } else {
            return Ok(None);
        }))
    }

    /// Whether MATCH begins the predicate, and is not a misspelt operator.
    fn match_follows(&self) -> bool {
        [K::Unique, K::Simple, K::Partial, K::Full].iter().any(|word| self.is_word_at(1, *word))
            || self.ahead(1).kind == TokenKind::Symbol(Symbol::LeftParen)
    }

    /// The comparison that comes next, if one does.
    pub(super) fn compare_op(&self) -> Option<CompareOp> {
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

    /// `op value`, or `op {ANY | SOME | ALL} (query)`.
    fn comparison(&mut self, op: CompareOp, left: Expr) -> Result<ExprKind> {
        let query_behind = self.at_word(K::All) || self.query_at(1);
        if query_behind && self.at_any(&[K::Any, K::Some, K::All]) {
            let all = self.at_word(K::All);
            self.advance();
            let query = self.query_operand("ANY, SOME or ALL")?;
            return Ok(ExprKind::Quantified { op, operand: Box::new(left), all, query });
        }
        let right = self.additive()?;
        Ok(ExprKind::Compare(op, Box::new(Operands { left, right })))
    }

    fn is_predicate(&mut self, operand: Expr) -> Result<ExprKind> {
        let negated = self.accept_word(K::Not);
        if self.accept_word(K::Distinct) {
            self.expect_word(K::From)?;
            let right = self.additive()?;
            return Ok(ExprKind::Distinct { operands: Box::new(Operands { left: operand, right }), negated });
        }
        let tests =
            [(K::Null, Test::Null), (K::True, Test::True), (K::False, Test::False), (K::Unknown, Test::Unknown)];
        for (word, test) in tests {
            if self.accept_word(word) {
                return Ok(ExprKind::Is { operand: Box::new(operand), test, negated });
            }
        }
        if let Some(kind) = self.normalized(&operand, negated)? {
            return Ok(kind);
        }
        Err(self.expected("NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM"))
    }

    /// `IS [NOT] [NFC | NFD | NFKC | NFKD] NORMALIZED`
    fn normalized(&mut self, operand: &Expr, negated: bool) -> Result<Option<ExprKind>> {
        let form = NORMAL_FORMS.into_iter().find(|word| self.at_word(*word));
        let ahead = usize::from(form.is_some());
        if !self.is_word_at(ahead, K::Normalized) {
            return Ok(None);
        }
        let span = self.span();
        (0..=ahead).for_each(|_| {
            self.advance();
        });
        let form = self.text_node(form.unwrap_or(K::Nfc).text(), span)?;
        let test = self.node(ExprKind::Form(Form::IsNormalized, vec![operand.clone(), form]), span)?;
        Ok(Some(if negated { ExprKind::Not(Box::new(test)) } else { test.kind }))
    }

    fn between(&mut self, operand: Expr, negated: bool) -> Result<ExprKind> {
        let symmetric = self.accept_word(K::Symmetric);
        if !symmetric {
            self.accept_word(K::Asymmetric);
        }
        let low = self.additive()?;
        self.expect_word(K::And)?;
        let high = self.additive()?;
        Ok(ExprKind::Between { operands: Box::new([operand, low, high]), negated, symmetric })
    }

    fn in_predicate(&mut self, operand: Expr, negated: bool) -> Result<ExprKind> {
        if self.query_here() {
            let query = Box::new(self.parenthesised_query()?);
            return Ok(ExprKind::InQuery { operand: Box::new(operand), query, negated });
        }
        let open = self.span();
        self.expect_symbol(Symbol::LeftParen, "( and a list of values or a query")?;
        let list = self.list(Self::expression)?;
        self.close(open)?;
        Ok(ExprKind::In { operand: Box::new(operand), list, negated })
    }

    /// The pattern of LIKE or SIMILAR TO with its ESCAPE.
    fn pattern(&mut self, operand: Expr) -> Result<Pattern> {
        let pattern = self.additive()?;
        let escape = if self.accept_word(K::Escape) { Some(Box::new(self.additive()?)) } else { None };
        Ok((Box::new(Operands { left: operand, right: pattern }), escape))
    }

    /// `(start, end) OVERLAPS (start, end)`; an end may be an interval (clause 8.14).
    fn overlaps(&mut self, left: &Expr) -> Result<ExprKind> {
        let period = |expr: &Expr| match &expr.kind {
            ExprKind::Row(fields) => <[Expr; 2]>::try_from(fields.clone()).ok(),
            _ => None,
        };
        let Some([a, b]) = period(left) else { return Err(self.expected("(start, end) before OVERLAPS")) };
        self.advance();
        let right = self.additive()?;
        match period(&right) {
            Some([c, d]) => Ok(ExprKind::Overlaps(Box::new([a, b, c, d]))),
            None => Err(self.expected("(start, end) after OVERLAPS")),
        }
    }
}
