//! Predicates (clause 8): each becomes comparisons over operands of one type.

use super::blank_padding::align_blanks;
use super::convert::convert;
use super::{BareName, Binder, problem::Problem, scope::At};
use crate::diagnostic::{Error, Result, Span};
use crate::logical::{Expr, ExprKind, Function};
use crate::syntax::ast::{self, CompareOp, Test};
use crate::types::{SqlType, Value};

/// Whether a number is a whole one of more digits than a floating point number is sure to keep.
fn is_long_integer(expr: &Expr) -> bool {
    expr.sql_type().digits().is_some_and(|(precision, scale)| scale == 0 && precision > 15)
        && !expr.sql_type().is_approximate()
}

/// Compares a long integer with a floating point number by their values (clause 8.2): brought to DOUBLE PRECISION, neighbours would be the
/// same.
fn compare_exactly(op: CompareOp, left: Expr, right: Expr, span: Span) -> Expr {
    let (exact, approximate, op) =
        if left.sql_type().is_approximate() { (right, left, op.flipped()) } else { (left, right, op) };
    let exact = convert(exact, SqlType::numeric(38, 0));
    let approximate = convert(approximate, SqlType::Double);
    let sign = Expr::new(ExprKind::Call(Function::CompareExactly, vec![exact, approximate]), SqlType::Integer, span);
    Expr::compare(op, sign, Expr::literal(Value::Integer(0), SqlType::Integer, span), span)
}

impl Binder<'_> {
    /// Binds an operand of a comparison, where a name that is not a column may have been meant as text.
    fn operand(&mut self, expr: &ast::Expr, at: At<'_>) -> Result<Expr> {
        self.bare_name = BareName::PerhapsText;
        self.expr(expr, at)
    }

    /// A comparison, after both sides have taken one type.
    pub(super) fn comparison(
        &mut self,
        op: CompareOp,
        operands: &ast::Operands,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let left = self.operand(&operands.left, at)?;
        let right = self.operand(&operands.right, at)?;
        for (side, other, written) in [(&left, &right, &operands.left), (&right, &left, &operands.right)] {
            if let (SqlType::Row(fields), ast::ExprKind::Subquery(query)) = (side.sql_type(), &written.kind)
                && !matches!(other.sql_type(), SqlType::Row(_) | SqlType::Null)
            {
                return Ok(self.report(&Problem::ScalarWidth { found: fields.len() }, query.span));
            }
        }
        self.note_null_comparison(op, operands, span);
        self.note_self_comparison(op, (&left, &right), span);
        self.note_outer_condition(operands, (&left, &right), at);
        Ok(self.compare(op, left, right, span))
    }

    /// `left op right` over their common type; a stand-in when there is none.
    pub(super) fn compare(&mut self, op: CompareOp, left: Expr, right: Expr, span: Span) -> Expr {
        let (long, approximate) = (is_long_integer, |expr: &Expr| expr.sql_type().is_approximate());
        if long(&left) && approximate(&right) || approximate(&left) && long(&right) {
            return compare_exactly(op, left, right, span);
        }
        match self.unify_compared(left, right, span) {
            Some((left, right)) => Expr::compare(op, left, right, span),
            None => super::stand_in(span),
        }
    }

    /// `a BETWEEN b AND c` is `a >= b AND a <= c`; SYMMETRIC allows the bounds in either order (clause 8.3).
    pub(super) fn between(
        &mut self,
        operands: &[ast::Expr; 3],
        symmetric: bool,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let operand = self.operand(&operands[0], at)?;
        let low = self.operand(&operands[1], at)?;
        let high = self.operand(&operands[2], at)?;
        let problems = self.problems.len();
        let forward = self.within(&operand, &low, &high, span);
        if !symmetric {
            self.note_exchanged_bounds((&low, &high), operands, span);
        }
        if !symmetric || self.problems.len() > problems {
            return Ok(forward);
        }
        let backward = self.within(&operand, &high, &low, span);
        Ok(Expr::or([forward, backward], span))
    }

    fn within(&mut self, operand: &Expr, low: &Expr, high: &Expr, span: Span) -> Expr {
        let from = self.compare(CompareOp::GreaterOrEqual, operand.clone(), low.clone(), span);
        let to = self.compare(CompareOp::LessOrEqual, operand.clone(), high.clone(), span);
        Expr::and([from, to], span)
    }

    /// `operand IN (list)`, all of one type.
    pub(super) fn in_list(&mut self, operand: &ast::Expr, list: &[ast::Expr], at: At<'_>, span: Span) -> Result<Expr> {
        let first = self.operand(operand, at)?;
        let mut all = vec![first];
        for item in list {
            all.push(self.operand(item, at)?);
        }
        for item in &all[1..] {
            let (left, right) = (all[0].sql_type(), item.sql_type());
            if left.common(right).is_none() {
                let texts = [&all[0], item].map(|side| self.text(side.span()).to_owned());
                return Ok(self.report(&Problem::NotComparable { left, right, texts }, item.span()));
            }
        }
        let (mut all, common) = self.unify_all(align_blanks(all), "IN");
        if common == SqlType::Null {
            return Ok(super::stand_in(span));
        }
        if matches!(common, SqlType::Row(_) | SqlType::Array(_)) {
            let operand = all.remove(0);
            let equal = |item: Expr| Expr::compare(CompareOp::Equal, operand.clone(), item, span);
            return Ok(Expr::or(all.into_iter().map(equal).collect::<Vec<_>>(), span));
        }
        let operand = Box::new(all.remove(0));
        Ok(Expr::new(ExprKind::In(operand, all), SqlType::Boolean, span))
    }

    /// `operand LIKE pattern [ESCAPE character]`.
    pub(super) fn like(
        &mut self,
        operands: &ast::Operands,
        escape: Option<&ast::Expr>,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let operand = self.expr(&operands.left, at)?;
        let pattern = self.operand(&operands.right, at)?;
        let operand = self.text_operand(operand, "LIKE");
        let pattern = self.text_operand(pattern, "the pattern of LIKE");
        let escape = match escape {
            Some(escape) => {
                let bound = self.expr(escape, at)?;
                Some(Box::new(self.text_operand(bound, "ESCAPE")))
            }
            None => None,
        };
        Ok(Expr::new(ExprKind::Like(Box::new([operand, pattern]), escape), SqlType::Boolean, span))
    }

    /// An operand that must be text.
    pub(super) fn text_operand(&mut self, operand: Expr, what: &str) -> Expr {
        let found = operand.sql_type();
        if found.is_text() || found == SqlType::Null {
            return self.coerce(operand, SqlType::TEXT);
        }
        let span = operand.span();
        let error = Error::from_facts(&Problem::WrongType { what: what.into(), expected: "text", found }).at(span);
        let is_one = !matches!(found, SqlType::Array(_) | SqlType::Row(_)) && !found.is_binary();
        let help = format!("CAST({} AS VARCHAR(40)) makes text of it", self.text(span));
        self.problems.push(if is_one { error.with_help(help) } else { error });
        super::stand_in(span)
    }

    /// `IS [NOT] NULL`, `TRUE`, `FALSE` or `UNKNOWN`.
    pub(super) fn is(
        &mut self,
        operand: &ast::Expr,
        (test, negated): (Test, bool),
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let mut operand = self.expr(operand, at)?;
        if test == Test::Null {
            if super::convert::is_unsettled(&operand) {
                operand = self.settle_parameter(operand, SqlType::TEXT);
            }
        } else {
            operand = self.condition(operand, "IS TRUE, IS FALSE and IS UNKNOWN");
        }
        let SqlType::Row(fields) = operand.sql_type() else { return Ok(is_test(operand, test, span).negated(negated)) };
        // A row is NULL when all its fields are, and NOT NULL when none is: neither is the contrary of the other (clause 8.8).
        let field = |place: usize| {
            if let ExprKind::Row(parts) = operand.kind() {
                parts[place].clone()
            } else {
                Expr::new(ExprKind::Field(Box::new(operand.clone()), place), fields[place].sql_type, span)
            }
        };
        let terms: Vec<Expr> =
            (0..fields.len()).map(|place| is_test(field(place), test, span).negated(negated)).collect();
        Ok(Expr::and(terms, span))
    }

    /// `IS NOT DISTINCT FROM`; the caller negates.
    pub(super) fn distinct_from(&mut self, operands: &ast::Operands, at: At<'_>, span: Span) -> Result<Expr> {
        let left = self.operand(&operands.left, at)?;
        let right = self.operand(&operands.right, at)?;
        let Some((left, right)) = self.unify_compared(left, right, span) else { return Ok(super::stand_in(span)) };
        if left.sql_type() == SqlType::Null {
            return Ok(Expr::literal(Value::Boolean(true), SqlType::Boolean, span));
        }
        Ok(Expr::new(ExprKind::Same(Box::new([left, right])), SqlType::Boolean, span))
    }
}

fn is_test(operand: Expr, test: Test, span: Span) -> Expr {
    Expr::new(ExprKind::Is(Box::new(operand), test), SqlType::Boolean, span)
}
