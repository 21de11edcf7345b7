use super::{BareName, Binder, problem::Problem, scope::Clause, scope::Scope};
use crate::diagnostic::{Result, Span};
use crate::logical::{Expr, ExprKind};
use crate::syntax::ast::{self, Ident, Now};
use crate::types::{MICROS_PER_DAY, SqlType, Value};

impl Binder<'_> {
    /// Binds an expression that stands in `clause` and sees `scope`.
    pub(super) fn expr(&mut self, expr: &ast::Expr, scope: &Scope, clause: Clause) -> Result<Expr> {
        use ast::ExprKind as K;
        let span = expr.span;
        let bare_name = std::mem::take(&mut self.bare_name);
        Ok(match &expr.kind {
            K::Name(name) => self.name(name, bare_name, (scope, clause), span),
            K::Literal(value, sql_type) => Expr::literal(value.clone(), *sql_type, span),
            K::Parameter(name) => self.parameter(name, span),
            K::Now(now) => self.now(*now, span),
            K::And(terms) => Expr::and(self.conditions(terms, scope, clause)?, span),
            K::Or(terms) => Expr::or(self.conditions(terms, scope, clause)?, span),
            K::Not(operand) => {
                let operand = self.expr(operand, scope, clause)?;
                self.condition(operand, "NOT").negated(true)
            }
            K::Compare(op, operands) => self.comparison(*op, operands, (scope, clause), span)?,
            K::Between { operands, negated, symmetric } => {
                self.between(operands, *symmetric, (scope, clause), span)?.negated(*negated)
            }
            K::In { operand, list, negated } => self.in_list(operand, list, (scope, clause), span)?.negated(*negated),
            K::Like { operands, escape, negated } => {
                self.like(operands, escape.as_deref(), (scope, clause), span)?.negated(*negated)
            }
            K::Is { operand, test, negated } => self.is(operand, *test, (scope, clause), span)?.negated(*negated),
            K::Distinct { operands, negated } => {
                self.distinct_from(operands, (scope, clause), span)?.negated(!*negated)
            }
            K::Arithmetic(op, operands) => {
                let left = self.expr(&operands.0, scope, clause)?;
                let right = self.expr(&operands.1, scope, clause)?;
                self.arithmetic(*op, left, right, span)
            }
            K::Concat(operands) => {
                let left = self.expr(&operands.0, scope, clause)?;
                let right = self.expr(&operands.1, scope, clause)?;
                self.concat(left, right, span)
            }
            K::Negate(operand) => {
                let operand = self.expr(operand, scope, clause)?;
                self.negate(operand, span)
            }
            K::Case(case) => self.case(case, (scope, clause), span)?,
            K::Cast(operand, target) => {
                let operand = self.expr(operand, scope, clause)?;
                self.cast(operand, *target, span)
            }
            K::Call { name, args } => self.call(name, args, (scope, clause), span)?,
        })
    }

    fn conditions(&mut self, terms: &[ast::Expr], scope: &Scope, clause: Clause) -> Result<Vec<Expr>> {
        terms
            .iter()
            .map(|term| {
                let bound = self.expr(term, scope, clause)?;
                Ok(self.condition(bound, "AND, OR and NOT"))
            })
            .collect()
    }

    fn name(&mut self, name: &[Ident], bare_name: BareName, at: (&Scope, Clause), span: Span) -> Expr {
        let (scope, clause) = at;
        if matches!(clause, Clause::Fetch | Clause::Value) {
            let text = name.last().map_or("", |ident| ident.text.as_str());
            let expects = self.report(&Problem::ColumnInConstant { clause }, span);
            if let Some(last) = self.problems.pop() {
                self.problems.push(last.with_help(format!("if text was meant, write it in single quotes: '{text}'")));
            }
            return expects;
        }
        match scope.resolve(name) {
            Ok(id) => Expr::column(id, self.columns.get(id).sql_type, span),
            Err(problem) => {
                let problem = self.explain_missing(problem, name, bare_name, clause);
                self.report(&problem, span)
            }
        }
    }

    /// Looks for what may have been meant by a name that is no column.
    fn explain_missing(&self, problem: Problem, name: &[Ident], bare_name: BareName, clause: Clause) -> Problem {
        match (problem, name) {
            (Problem::NoSuchColumn { name: text, tables, near, .. }, [ident]) => {
                let alias = self.aliases.iter().find(|(alias, _)| ident.matches(&alias.text));
                if let Some((_, span)) = alias
                    && clause != Clause::Select
                {
                    let expression = self.text(*span).to_owned();
                    return Problem::AliasTooEarly { name: text, clause, expression };
                }
                Problem::NoSuchColumn {
                    name: text,
                    tables,
                    near,
                    meant_text: bare_name == BareName::PerhapsText || ident.quoted,
                }
            }
            (problem, _) => problem,
        }
    }

    fn now(&self, now: Now, span: Span) -> Expr {
        let micros = self.around.moment.micros;
        let (value, sql_type) = match now {
            Now::Date => {
                let days = i32::try_from(micros.div_euclid(MICROS_PER_DAY)).unwrap_or(i32::MAX);
                (Value::Date(days), SqlType::Date)
            }
            Now::Time => (Value::Time(micros.rem_euclid(MICROS_PER_DAY)), SqlType::Time),
            Now::Timestamp => (Value::Timestamp(micros), SqlType::Timestamp),
        };
        Expr::literal(value, sql_type, span)
    }

    pub(super) fn cast(&mut self, operand: Expr, target: SqlType, span: Span) -> Expr {
        let from = operand.sql_type();
        if super::convert::is_unsettled(&operand) {
            return self.coerce(operand, target);
        }
        if !castable(from, target) {
            return self.report(&Problem::NoCast { from, to: target }, span);
        }
        Expr::new(ExprKind::Cast(Box::new(operand)), target, span)
    }
}

/// The table of clause 6.13, syntax rule 6, for the types there are.
fn castable(from: SqlType, to: SqlType) -> bool {
    use SqlType as T;
    match (from, to) {
        (a, b) if a == b => true,
        (T::Null, _) | (T::Varchar(_), _) | (_, T::Varchar(_)) => true,
        (a, b) if a.is_number() && b.is_number() => true,
        (T::Date, T::Timestamp) | (T::Timestamp, T::Date | T::Time) => true,
        _ => false,
    }
}
