//! CAST to a domain (clauses 4.12 and 6.13): a value of its type that its conditions allow.

use super::Binder;
use super::problem::Problem;
use super::scope::{Relation, Scope, ScopeColumn};
use crate::catalog::Domain;
use crate::diagnostic::{Result, Span, nearest};
use crate::logical::{Expr, ExprKind, Function, Test};
use crate::syntax::ast::Ident;
use crate::types::{SqlType, Value};

impl<'a> Binder<'a> {
    /// `CAST(operand AS domain)`: the value is tested by the checks of the domain.
    pub(super) fn cast_to_domain(&mut self, operand: Expr, name: &[Ident], span: Span) -> Result<Expr> {
        let domain = match self.domain_of(name) {
            Ok(domain) => domain,
            Err(problem) => return Ok(self.report(&problem, name.last().map_or(span, |name| name.span))),
        };
        let value = self.cast(operand, domain.sql_type, span);
        if value.sql_type() != domain.sql_type {
            return Ok(value);
        }
        let mut held = value.clone();
        if domain.not_null {
            let present = Expr::new(ExprKind::Is(Box::new(value.clone()), Test::Null), SqlType::Boolean, span);
            held = in_domain(held, present.negated(true), (&domain.name, "NOT NULL"));
        }
        for (check, condition) in &domain.checks {
            let id = self.new_column("VALUE", domain.sql_type);
            let columns = vec![ScopeColumn { name: "VALUE".into(), id }];
            let name = domain.name.clone();
            let scope = Scope::of(Relation::new(name, columns));
            // The names in it are looked up where the domain was made, and it sees no row but the value.
            let outer = std::mem::take(&mut self.outer);
            let bound = self.written(condition, &scope);
            self.outer = outer;
            let bound = self.condition(bound?, "CHECK");
            let bound = bound.replace_columns(&|column| (column == id).then(|| value.clone()));
            held = in_domain(held, bound, (&domain.name, check));
        }
        Ok(held)
    }

    fn domain_of(&self, name: &[Ident]) -> Result<&'a Domain, Problem> {
        let (schema, domain) = match name {
            [domain] => (None, domain),
            [schema, domain] => (Some(schema), domain),
            _ => return Err(Problem::NameTooLong),
        };
        let schemas = self.schemas_of(schema);
        let known = || schemas.iter().flat_map(|schema| &schema.domains);
        known().find(|known| domain.matches(&known.name)).map(AsRef::as_ref).ok_or_else(|| {
            let near = nearest(&domain.text, known().map(|known| known.name.as_str())).map(str::to_owned);
            Problem::NoSuchType { name: domain.text.clone(), near }
        })
    }
}

/// The value, of which the condition must not be FALSE.
fn in_domain(value: Expr, condition: Expr, (domain, check): (&str, &str)) -> Expr {
    let (sql_type, span) = (value.sql_type(), value.span());
    let text = |text: &str| Expr::literal(Value::Text(text.to_owned()), SqlType::TEXT, span);
    let arguments = vec![value, condition, text(domain), text(check)];
    Expr::new(ExprKind::Call(Function::InDomain, arguments), sql_type, span)
}
