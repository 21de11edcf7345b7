//! CASE and its short forms (clause 6.12).

use super::{Binder, scope::At};
use crate::diagnostic::{Result, Span};
use crate::logical::{Expr, ExprKind};
use crate::syntax::ast::{self, CompareOp};
use crate::types::{SqlType, Value};

impl Binder<'_> {
    /// A simple CASE is a searched one that compares its operand with each WHEN.
    pub(super) fn case(&mut self, case: &ast::Case, at: At<'_>, span: Span) -> Result<Expr> {
        let ast::Case { operand, branches, otherwise } = case;
        if let Some(operand) = operand {
            let bound = self.expr(operand, at)?;
            self.case_operands.push(bound);
        }
        let mut conditions = Vec::with_capacity(branches.len());
        let mut values = Vec::with_capacity(branches.len() + 1);
        for (when, then) in branches {
            let bound = self.expr(when, at)?;
            conditions.push(self.condition(bound, "WHEN"));
            values.push(self.expr(then, at)?);
        }
        if operand.is_some() {
            self.case_operands.pop();
        }
        values.push(match otherwise {
            Some(otherwise) => self.expr(otherwise, at)?,
            None => Expr::literal(Value::Null, SqlType::Null, span),
        });
        let (mut values, common) = self.unify_all(values, "CASE");
        let Some(otherwise) = values.pop() else { return Ok(super::stand_in(span)) };
        let branches =
            conditions.into_iter().map(|c| super::convert::convert(c, SqlType::Boolean)).zip(values).collect();
        Ok(Expr::new(ExprKind::Case(branches, Box::new(otherwise)), common, span))
    }

    /// `COALESCE(arguments)`, of the type that all have in common.
    pub(super) fn coalesce(&mut self, arguments: Vec<Expr>, span: Span) -> Expr {
        let (arguments, common) = self.unify_all(arguments, "COALESCE");
        Expr::new(ExprKind::Coalesce(arguments), common, span)
    }

    /// `NULLIF(a, b)` is `CASE WHEN a = b THEN NULL ELSE a END`.
    pub(super) fn nullif(&mut self, first: Expr, second: Expr, span: Span) -> Expr {
        let (first, second) = self.settle_pair(first, second);
        let result = first.sql_type();
        let condition = self.compare(CompareOp::Equal, first.clone(), second, span);
        if condition.sql_type() != SqlType::Boolean {
            return condition;
        }
        let null = Expr::literal(Value::Null, result, span);
        Expr::new(ExprKind::Case(vec![(condition, null)], Box::new(first)), result, span)
    }
}
