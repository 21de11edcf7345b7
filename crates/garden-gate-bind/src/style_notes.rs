//! Notes on forms that do the same as simpler ones, or other than they look.

use super::query::Rows;
use super::scope::Scope;
use super::{Binder, OutputColumn};
use crate::diagnostic::{Note, Span};
use crate::logical::nullable::may_be_null;
use crate::logical::unique::distinct_sets;
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan, SetOperand};
use crate::syntax::ast;
use std::sync::Arc;

impl Binder<'_> {
    /// Records a note, unless it is about the text of a view or function: that is somebody else's.
    pub(super) fn note(&mut self, note: Note) {
        if self.views == 0 {
            self.notes.push(note);
        }
    }

    /// `a OR b AND c` is `a OR (b AND c)`, which not everybody reads so.
    pub(super) fn note_mixed_and_or(&mut self, terms: &[ast::Expr], span: Span) {
        let bare = |term: &&ast::Expr| matches!(term.kind, ast::ExprKind::And(_)) && !self.in_parentheses(term.span);
        let Some(term) = terms.iter().find(bare) else { return };
        let whole = self.text(span);
        let at = (term.span.start - span.start) as usize..(term.span.end - span.start) as usize;
        let help = format!("write {}({}){}", &whole[..at.start], &whole[at.clone()], &whole[at.end..]);
        let message = format!("AND binds closer than OR: {} belongs together", self.text(term.span));
        self.note(Note::new("mixed-and-or", message).at(term.span).help(help).style());
    }

    /// Whether a part of the text is all in one pair of parentheses.
    fn in_parentheses(&self, span: Span) -> bool {
        let text = self.text(span);
        let mut depth = 0_i32;
        let mut quoted = false;
        for (at, character) in text.char_indices() {
            match character {
                '\'' => quoted = !quoted,
                '(' if !quoted => depth += 1,
                ')' if !quoted => depth -= 1,
                _ => {}
            }
            if depth == 0 && at + 1 < text.len() {
                return false;
            }
        }
        true
    }

    /// ORDER BY in a derived table, or in WITH, says nothing of the order of the whole.
    pub(super) fn note_needless_order(&mut self, query: &ast::Query) {
        let (Some(first), Some(last)) = (query.order_by.first(), query.order_by.last()) else { return };
        if query.fetch.is_some() || query.offset.is_some() {
            return;
        }
        let span = first.expr.span.to(last.expr.span);
        let message = format!("ORDER BY {} in a query inside another does not order the result", self.text(span));
        let help = format!("leave it out, or order the whole: … ORDER BY {}", self.text(span));
        self.note(Note::new("needless-order", message).at(span).help(help).style());
    }

    /// DISTINCT over rows that are different anyway.
    pub(super) fn note_needless_distinct(&mut self, span: Span, plan: &LogicalPlan, columns: &[ColumnId]) {
        if distinct_sets(plan).iter().any(|set| set.iter().all(|id| columns.contains(id))) {
            let message = "DISTINCT changes nothing: a key or a grouping makes all rows different";
            self.note(Note::new("needless-distinct", message).at(span).help("write SELECT without DISTINCT").style());
        }
    }

    /// UNION of queries that have no row in common, and none twice.
    pub(super) fn note_needless_union(&mut self, operands: &[SetOperand], span: Span) {
        let different = |operand: &SetOperand| {
            let covered = |set: &Vec<ColumnId>| set.iter().all(|id| operand.columns.contains(id));
            distinct_sets(&operand.plan).iter().any(covered)
        };
        let width = operands.first().map_or(0, |operand| operand.columns.len());
        let apart = |a: &SetOperand, b: &SetOperand| {
            (0..width).any(|at| match (constant(&a.plan, a.columns[at]), constant(&b.plan, b.columns[at])) {
                (Some(a), Some(b)) => !a.same_as(&b) && a.constant() != b.constant(),
                _ => false,
            })
        };
        let all_apart = || operands.iter().enumerate().all(|(at, a)| operands[at + 1..].iter().all(|b| apart(a, b)));
        if operands.iter().all(different) && all_apart() {
            let message = "UNION looks for rows that are there twice, and there are none";
            self.note(Note::new("needless-union", message).at(span).help("write UNION ALL").style());
        }
    }

    /// NOT IN over a query that may give a NULL: then it is never TRUE (clause 8.4).
    pub(super) fn note_not_in_nulls(&mut self, query: &ast::Query, column: Option<(&LogicalPlan, &OutputColumn)>) {
        let Some((plan, column)) = column else { return };
        if !may_be_null(plan, column.id, &|id| self.stored_may_be_null(id)) {
            return;
        }
        let message =
            format!("{} may be NULL: with one NULL among its values NOT IN is TRUE for no row at all", column.name);
        let note = Note::new("not-in-nulls", message).at(query.span);
        self.note(match &query.body {
            ast::QueryBody::Select(select) if takes_condition(select) && query.order_by.is_empty() => {
                let item = match select.items.first() {
                    Some(ast::SelectItem::Expr { expr, .. }) => self.text(expr.span),
                    _ => column.name.as_str(),
                };
                let written = format!("{} {item} IS NOT NULL", self.text_and(select));
                let help = format!("write NOT IN ({written}), or NOT EXISTS");
                let note = note.help(help);
                if select.span == query.span { note.replaced_by(written) } else { note }
            }
            ast::QueryBody::Select(_)
            | ast::QueryBody::Values(_)
            | ast::QueryBody::Table(..)
            | ast::QueryBody::SetOperation(_)
            | ast::QueryBody::Nested(_) => note.help("leave NULLs out of the query, or write NOT EXISTS"),
        });
    }

    /// A query up to where a further condition of WHERE stands.
    fn text_and(&self, select: &ast::Select) -> String {
        let text = self.text(select.span);
        let Some(condition) = &select.where_ else { return format!("{text} WHERE") };
        if !matches!(condition.kind, ast::ExprKind::Or(_)) {
            return format!("{text} AND");
        }
        let (from, to) = (select.span.start as usize, condition.span.start as usize);
        format!("{}({}) AND", &text[..to - from], self.text(condition.span))
    }

    /// Whether a column of a table may hold a NULL.
    fn stored_may_be_null(&self, id: ColumnId) -> bool {
        let Some((source, place)) = &self.columns.get(id).origin else { return false };
        if source.keys().iter().any(|key| key.contains(place)) {
            return false;
        }
        let is_same = |table: &&crate::catalog::Table| Arc::ptr_eq(&table.source, source);
        let table = self.around.catalog.tables().map(|(_, table)| table).find(is_same);
        match table.and_then(|table| table.definition.as_ref()) {
            Some(definition) => definition.columns.get(*place).is_some_and(|column| !column.not_null),
            None => source.statistics(*place).is_ok_and(|known| known.nulls > 0),
        }
    }

    /// Tables in FROM that no condition ties to the others.
    pub(super) fn note_cross_product(&mut self, select: &ast::Select, plan: &LogicalPlan, scope: &Scope) {
        if select.from.iter().any(has_cross_join) {
            return;
        }
        let (inputs, conditions) = joined(plan);
        let outputs: Vec<Vec<ColumnId>> = inputs.iter().map(|input| input.output()).collect();
        let mut sets: Vec<usize> = (0..inputs.len()).collect();
        for condition in conditions {
            let used = condition.columns();
            let touched: Vec<usize> =
                (0..inputs.len()).filter(|at| outputs[*at].iter().any(|id| used.contains(id))).collect();
            for pair in touched.windows(2) {
                let (from, to) = (sets[pair[1]], sets[pair[0]]);
                sets.iter_mut().filter(|set| **set == from).for_each(|set| *set = to);
            }
        }
        // Tables may be tied by what is none: a series, a round of a recursion.
        let tables: Vec<usize> = (0..inputs.len()).filter(|at| holds_table(inputs[*at])).collect();
        let Some(first) = tables.first().copied() else { return };
        let Some(alone) = tables.into_iter().find(|at| sets[*at] != sets[first]) else { return };
        let name = |at: usize| {
            let owner = scope
                .relations
                .iter()
                .find(|relation| relation.columns.iter().any(|column| outputs[at].contains(&column.id)));
            owner.map_or_else(|| "a table".to_owned(), |relation| relation.name.clone())
        };
        let message = format!(
            "no condition ties {} to {}: each row of the one is paired with each of the other",
            name(alone),
            name(first)
        );
        let help =
            format!("add one, such as {}.… = {}.…, or write CROSS JOIN if that is meant", name(first), name(alone));
        self.note(Note::new("cross-product", message).at(select.from_span).help(help));
    }
}

fn has_cross_join(item: &ast::TableExpr) -> bool {
    match item {
        ast::TableExpr::Join(join) => {
            matches!(join.condition, ast::JoinCondition::Cross | ast::JoinCondition::Natural)
                || has_cross_join(&join.left)
                || has_cross_join(&join.right)
        }
        ast::TableExpr::Named { .. }
        | ast::TableExpr::File { .. }
        | ast::TableExpr::Derived { .. }
        | ast::TableExpr::Function { .. }
        | ast::TableExpr::Call { .. }
        | ast::TableExpr::Delta(_)
        | ast::TableExpr::Changes(_)
        | ast::TableExpr::Sampled(_) => false,
    }
}

/// The inputs of the inner join that a plan is, with all conditions on them.
fn joined(plan: &LogicalPlan) -> (Vec<&LogicalPlan>, Vec<&Expr>) {
    match plan {
        LogicalPlan::Filter { input, conjuncts } => {
            let (inputs, mut all) = joined(input);
            all.extend(conjuncts);
            (inputs, all)
        }
        LogicalPlan::InnerJoin { inputs, conjuncts } => (inputs.iter().collect(), conjuncts.iter().collect()),
        // A query in a condition ties what it compares.
        LogicalPlan::Join(join) if join.dependent => {
            let (inputs, mut all) = joined(&join.left);
            all.extend(join.exprs());
            (inputs, all)
        }
        other @ (LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Scan(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::Project { .. }
        | LogicalPlan::Join(_)
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Window { .. }
        | LogicalPlan::Distinct { .. }
        | LogicalPlan::Sort { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_)) => (vec![other], Vec::new()),
    }
}

/// Whether rows of a table come out, not just of one value or a series.
fn holds_table(plan: &LogicalPlan) -> bool {
    let mut found = false;
    plan.walk(&mut |node| found |= matches!(node, LogicalPlan::Scan(_) | LogicalPlan::CteReference(_)));
    found
}

/// The value that a column of a query is for every row.
fn constant(plan: &LogicalPlan, id: ColumnId) -> Option<Expr> {
    if let LogicalPlan::Project { input, computed } = plan {
        match computed.iter().find(|(known, _)| *known == id) {
            Some((_, expr)) if matches!(expr.kind(), ExprKind::Literal(value) if !value.is_null()) => {
                Some(expr.clone())
            }
            Some((_, expr)) => {
                if let ExprKind::Cast(inner) = expr.kind()
                    && inner.is_constant()
                {
                    Some((**inner).clone())
                } else if let ExprKind::Column(inner) = expr.kind() {
                    constant(input, *inner)
                } else {
                    None
                }
            }
            None => constant(input, id),
        }
    } else if let LogicalPlan::Filter { input, .. } | LogicalPlan::Sort { input, .. } = plan {
        constant(input, id)
    } else {
        None
    }
}

/// The one column of a query whose rows are compared with an operand.
pub(super) fn only_column((plan, output): &Rows) -> Option<(&LogicalPlan, &OutputColumn)> {
    match output.as_slice() {
        [one] => Some((plan, one)),
        _ => None,
    }
}

/// Whether a further condition may stand at the end of a query's text.
fn takes_condition(select: &ast::Select) -> bool {
    select.group_by.is_none() && select.having.is_none() && select.windows.is_empty()
}
