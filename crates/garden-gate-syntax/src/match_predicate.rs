//! `row MATCH [UNIQUE] [SIMPLE | PARTIAL | FULL] (query)` (clause 8.13), written as what it means: for `(a, b) MATCH (q)`
//!
//! ```text
//! SIMPLE   a IS NULL OR b IS NULL OR EXISTS (SELECT … FROM (q) AS m (m1, m2) WHERE a = m1 AND b = m2)
//! PARTIAL  a IS NULL AND b IS NULL OR EXISTS (… WHERE (a IS NULL OR a = m1) AND (b IS NULL OR b = m2))
//! FULL     a IS NULL AND b IS NULL OR a IS NOT NULL AND b IS NOT NULL AND EXISTS (… WHERE a = m1 AND b = m2)
//! ```
//!
//! With UNIQUE the number of such rows is one. The predicate is never UNKNOWN.

use super::ast::{
    Call, CompareOp, Expr, ExprKind, Ident, Operands, Query, QueryBody, Select, SelectItem, TableAlias, TableExpr, Test,
};
use super::keyword::Keyword as K;
use super::parser::Parser;
use crate::diagnostic::{Result, Span};
use crate::types::{SqlType, Value};

#[derive(Clone, Copy, PartialEq, Eq)]
enum Match {
    Simple,
    Partial,
    Full,
}

impl Parser<'_> {
    /// What follows MATCH.
    pub(super) fn match_predicate(&mut self, operand: &Expr) -> Result<ExprKind> {
        let unique = self.accept_word(K::Unique);
        let kinds = [(K::Simple, Match::Simple), (K::Partial, Match::Partial), (K::Full, Match::Full)];
        let found = kinds.into_iter().find(|(word, _)| self.at_word(*word));
        if found.is_some() {
            self.advance();
        }
        let kind = found.map_or(Match::Simple, |(_, kind)| kind);
        let query = self.query_operand("MATCH")?;
        let span = operand.span.to(self.last_span());
        let parts = match &operand.kind {
            ExprKind::Row(parts) => parts.clone(),
            _ => vec![operand.clone()],
        };
        let is_null = |part: &Expr, negated: bool| {
            self.node(ExprKind::Is { operand: Box::new(part.clone()), test: Test::Null, negated }, span)
        };
        let nulls = parts.iter().map(|part| is_null(part, false)).collect::<Result<Vec<_>>>()?;
        let partner = self.partner((&parts, kind), (query, unique), span)?;
        let and = |terms: Vec<Expr>| match terms.len() {
            1 => Ok(terms.into_iter().next().unwrap_or_else(|| partner.clone())),
            _ => self.node(ExprKind::And(terms), span),
        };
        Ok(ExprKind::Or(match kind {
            Match::Simple => nulls.into_iter().chain([partner]).collect(),
            Match::Partial => vec![and(nulls)?, partner],
            Match::Full => {
                let given = parts.iter().map(|part| is_null(part, true)).chain([Ok(partner.clone())]);
                vec![and(nulls)?, and(given.collect::<Result<_>>()?)?]
            }
        }))
    }

    /// Whether a row of the query is like the operands, or just one is.
    fn partner(
        &self,
        (parts, kind): (&[Expr], Match),
        (query, unique): (Box<Query>, bool),
        span: Span,
    ) -> Result<Expr> {
        let ident = |text: String| Ident { text, quoted: true, span };
        let columns: Vec<Ident> = (1..=parts.len()).map(|number| ident(format!("match {number}"))).collect();
        let mut terms = Vec::new();
        for (part, column) in parts.iter().zip(&columns) {
            let column = self.node(ExprKind::Name(vec![ident("match".into()), column.clone()]), span)?;
            let same = self.node(
                ExprKind::Compare(CompareOp::Equal, Box::new(Operands { left: part.clone(), right: column })),
                span,
            )?;
            terms.push(match kind {
                Match::Partial => {
                    let operand = Box::new(part.clone());
                    let null = self.node(ExprKind::Is { operand, test: Test::Null, negated: false }, span)?;
                    self.node(ExprKind::Or(vec![null, same]), span)?
                }
                Match::Simple | Match::Full => same,
            });
        }
        let condition = if terms.len() == 1 { terms.remove(0) } else { self.node(ExprKind::And(terms), span)? };
        let one = self.node(ExprKind::Literal(Value::Integer(1), SqlType::Integer), span)?;
        let item = if unique {
            let count = Call::of_all(Ident { text: "COUNT".into(), quoted: false, span });
            self.node(ExprKind::Call(Box::new(count)), span)?
        } else {
            one.clone()
        };
        let alias = TableAlias { name: Some(ident("match".into())), columns: Some(columns) };
        let select = Select {
            distinct: None,
            items: vec![SelectItem::Expr { expr: item, alias: None }],
            from: vec![TableExpr::Derived { query, lateral: false, alias }],
            from_span: span,
            where_: Some(condition),
            group_by: None,
            having: None,
            windows: Vec::new(),
            span,
        };
        let body = QueryBody::Select(Box::new(select));
        let rows =
            Box::new(Query { with: None, body, order_by: Vec::new(), offset: None, fetch: None, guide: None, span });
        if !unique {
            return self.node(ExprKind::Exists(rows), span);
        }
        let count = self.node(ExprKind::Subquery(rows), span)?;
        self.node(ExprKind::Compare(CompareOp::Equal, Box::new(Operands { left: count, right: one })), span)
    }
}
