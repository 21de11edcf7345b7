//! GROUP BY: what may stand in the SELECT list, HAVING and ORDER BY of a grouped query (clause 7.16).

use super::{Binder, problem::Problem};
use crate::diagnostic::{Error, Result};
use crate::logical::{ColumnId, ColumnInfo, Expr, ExprKind};

/// The grouping of a query; expressions above it are rewritten over its columns.
#[derive(Debug)]
pub(super) struct Grouping {
    pub(super) keys: Vec<(ColumnId, Expr)>,
}

impl Binder<'_> {
    /// Gives each key a column: a plain column stays itself, an expression gets a new one.
    pub(super) fn grouping(&mut self, exprs: Vec<Expr>) -> Grouping {
        let mut keys: Vec<(ColumnId, Expr)> = Vec::new();
        for expr in exprs {
            if keys.iter().any(|(_, known)| known.same_as(&expr)) {
                continue;
            }
            let id = match expr.kind() {
                ExprKind::Column(id) => *id,
                _ => self.computed(self.text(expr.span()), &expr),
            };
            keys.push((id, expr));
        }
        Grouping { keys }
    }

    pub(super) fn computed(&mut self, name: &str, expr: &Expr) -> ColumnId {
        let name = name.split_whitespace().collect::<Vec<_>>().join(" ");
        self.columns.add(ColumnInfo { qualifier: None, name, sql_type: expr.sql_type(), origin: None })
    }

    /// `expr` over the columns of the grouping. A column that is neither a key nor inside an aggregate has many values in a
    /// group: that is reported.
    pub(super) fn over_groups(&mut self, expr: Expr, grouping: &Grouping) -> Result<Expr> {
        if let Some((id, key)) = grouping.keys.iter().find(|(_, key)| key.same_as(&expr)) {
            return Ok(Expr::column(*id, key.sql_type(), expr.span()));
        }
        if let ExprKind::Column(id) = expr.kind() {
            if self.aggregates.iter().any(|(known, _)| known == id) {
                return Ok(expr);
            }
            if self.problems.iter().any(|problem| problem.span() == Some(expr.span())) {
                return Ok(super::stand_in(expr.span()));
            }
            let text = self.text(expr.span()).to_owned();
            let grouped = grouping.keys.iter().map(|(_, key)| self.text(key.span()).to_owned()).collect();
            self.problems.push(Error::from_facts(&Problem::NotGrouped { text, grouped }).at(expr.span()));
            return Ok(super::stand_in(expr.span()));
        }
        expr.map_children(&mut |child| self.over_groups(child, grouping))
    }
}
