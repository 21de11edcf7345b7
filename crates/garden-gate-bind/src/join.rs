//! Joins (clause 7.10): ON, USING, NATURAL; inner and outer; LATERAL.

use super::scope::{At, Clause, Merged, Scope, ScopeColumn};
use super::{Binder, problem::Problem};
use crate::collections::HashMap;
use crate::diagnostic::{Error, Result, Span};
use crate::logical::{
    BinaryJoin, ColumnId, CteDefinition, CteId, CteReference, Expr, ExprKind, JoinKind, LogicalPlan, Sides, WindowCall,
};
use crate::syntax::ast::{CompareOp, Ident, Join, JoinCondition};
use crate::types::SqlType;

impl Binder<'_> {
    /// Every row of the one with every row of the other; the right side may depend on the left.
    pub(super) fn beside(&mut self, left: LogicalPlan, right: LogicalPlan) -> LogicalPlan {
        if depends(&left, &right) {
            let join = BinaryJoin::new(JoinKind::Inner, left, right, Vec::new());
            return BinaryJoin { dependent: true, ..join }.into_plan();
        }
        left.join(right, Vec::new())
    }

    /// A join of two tables. The right one sees the columns of the left one where it is LATERAL.
    pub(super) fn join(&mut self, join: &Join, outside: &Scope) -> Result<(LogicalPlan, Scope)> {
        let (left, left_scope) = self.table_expr(&join.left, outside)?;
        let lateral = outside.clone().beside(left_scope.clone(), &[]);
        let (right, right_scope) = self.table_expr(&join.right, &lateral)?;
        let lateral = depends(&left, &right);
        if lateral && (join.mirrored || join.kind == JoinKind::Full) {
            self.report(&Problem::LateralOuter, join.span);
        }
        match &join.condition {
            JoinCondition::Cross => {
                let scope = self.side_by_side(left_scope, right_scope, &[]);
                Ok((self.beside(left, right), scope))
            }
            JoinCondition::On(condition) => {
                let scope = self.side_by_side(left_scope, right_scope, &[]);
                let bound = self.expr(condition, At { scope: &scope, clause: Clause::On })?;
                let condition = self.condition(bound, "ON");
                Ok((self.joined(join, (left, right), condition), scope))
            }
            JoinCondition::Using(names, alias) => {
                self.merged(join, (left, left_scope), (right, right_scope), (names, alias.as_ref()))
            }
            JoinCondition::Natural => {
                let names = common_names(&left_scope, &right_scope, join.span);
                if names.is_empty() {
                    self.note_natural_without_names(join.span);
                }
                self.note_natural_columns(&names, join.span);
                self.merged(join, (left, left_scope), (right, right_scope), (&names, None))
            }
        }
    }

    /// The join itself, with its condition.
    fn joined(&mut self, join: &Join, (left, right): (LogicalPlan, LogicalPlan), condition: Expr) -> LogicalPlan {
        let (kind, left, right) = if join.mirrored { (join.kind, right, left) } else { (join.kind, left, right) };
        if kind == JoinKind::Inner {
            let plan = if depends(&left, &right) {
                self.beside(left, right)
            } else if condition.has_subquery() {
                left.join(right, Vec::new())
            } else {
                return left.join(right, condition.into_conjuncts());
            };
            return self.filter_attached(plan, condition);
        }
        if condition.has_subquery() {
            return self.outer_with_subquery(kind, (left, right), condition);
        }
        let dependent = depends(&left, &right);
        let written = (self.views == 0).then_some(join.span);
        let sides = if join.mirrored { Sides::Exchanged } else { Sides::AsWritten };
        BinaryJoin { dependent, written, sides, ..BinaryJoin::new(kind, left, right, condition.into_conjuncts()) }
            .into_plan()
    }

    /// An outer join whose ON holds queries. Where they see one side only, that side takes them up. Else the pairs for which ON holds
    /// are found first, as an inner join, and joined to the numbered rows of the sides that are kept.
    pub(super) fn outer_with_subquery(
        &mut self,
        kind: JoinKind,
        (left, right): (LogicalPlan, LogicalPlan),
        condition: Expr,
    ) -> LogicalPlan {
        let span = condition.span();
        let (left_columns, right_columns) = (left.output(), right.output());
        let mut seen = Vec::new();
        condition.walk(&mut |expr| {
            if matches!(expr.kind(), ExprKind::Subquery(_)) {
                seen.extend(expr.columns());
            }
        });
        if seen.iter().all(|id| !left_columns.contains(id)) && !depends(&left, &right) {
            let (right, condition) = self.attach(right, condition);
            return BinaryJoin::new(kind, left, right, condition.into_conjuncts()).into_plan();
        }
        if seen.iter().all(|id| !right_columns.contains(id)) && !depends(&left, &right) {
            let (left, condition) = self.attach(left, condition);
            return BinaryJoin::new(kind, left, right, condition.into_conjuncts()).into_plan();
        }
        let (left, left_number) = self.numbered(left, span);
        if kind == JoinKind::Left {
            // The pairs have a copy of the left side, and the right side itself, which may depend on that copy.
            let (left, copy, map) = self.twice(left);
            let moved = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
            let pairs = self.beside(copy, right.map_columns(&mut |id| moved(id)));
            let pairs = self.filter_attached(pairs, condition.map_columns(&mut |id| moved(id)));
            let (a, b) = (self.column(left_number, span), self.column(moved(left_number), span));
            return BinaryJoin::new(kind, left, pairs, vec![Expr::compare(CompareOp::Equal, a, b, span)]).into_plan();
        }
        let (right, right_number) = self.numbered(right, span);
        // The pairs are made of copies, so that every column has one origin.
        let (left, left_copy, left_map) = self.twice(left);
        let (right, right_copy, right_map) = self.twice(right);
        let moved = |id: ColumnId| left_map.get(&id).or_else(|| right_map.get(&id)).copied().unwrap_or(id);
        let condition = condition.map_columns(&mut |id| moved(id));
        let pairs = self.beside(left_copy, right_copy);
        let pairs = self.filter_attached(pairs, condition);
        let same = |this: &Self, id: ColumnId| {
            Expr::compare(CompareOp::Equal, this.column(id, span), this.column(moved(id), span), span)
        };
        let with_left = BinaryJoin::new(kind, left, pairs, vec![same(self, left_number)]).into_plan();
        BinaryJoin::new(kind, with_left, right, vec![same(self, right_number)]).into_plan()
    }

    /// Rows that are used in two places, the second time under other columns: run once, unless they belong to rows around them.
    fn twice(&mut self, plan: LogicalPlan) -> (LogicalPlan, LogicalPlan, HashMap<ColumnId, ColumnId>) {
        let (copy, map) = plan.copy(&mut self.columns);
        if !plan.free().is_empty() {
            return (plan, copy, map);
        }
        let inner = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
        let (name, id) = ("rows to join", CteId(self.steps.len()));
        let outer = plan.output();
        let output = outer.iter().map(|column| inner(*column)).collect();
        self.steps.push(CteDefinition { name: name.into(), plan: copy, output, uses: 2 });
        let again: HashMap<ColumnId, ColumnId> =
            outer.iter().map(|column| (*column, self.columns.copy(*column))).collect();
        let step = |columns: Vec<(ColumnId, ColumnId)>| {
            LogicalPlan::CteReference(CteReference { id, name: name.into(), columns })
        };
        let first = step(outer.iter().map(|column| (*column, inner(*column))).collect());
        let second = step(outer.iter().map(|column| (again[column], inner(*column))).collect());
        (first, second, again)
    }

    /// The rows with a number each.
    fn numbered(&mut self, plan: LogicalPlan, span: Span) -> (LogicalPlan, ColumnId) {
        let id = self.new_column("row number", SqlType::BigInt);
        let call = WindowCall::row_number(span);
        let (partition, order) = (Vec::new(), Vec::new());
        (LogicalPlan::Window { input: Box::new(plan), partition, order, calls: vec![(id, call)] }, id)
    }

    /// `USING (a, b)`: equality of the columns of these names, each shown once: the side that is kept, of FULL whichever there is.
    fn merged(
        &mut self,
        join: &Join,
        (left, left_scope): (LogicalPlan, Scope),
        (right, right_scope): (LogicalPlan, Scope),
        (names, alias): (&[Ident], Option<&Ident>),
    ) -> Result<(LogicalPlan, Scope)> {
        let mut conjuncts = Vec::new();
        let mut merged = Vec::new();
        let mut computed = Vec::new();
        for name in names {
            let (Some(a), Some(b)) = (self.using_side(name, &left_scope), self.using_side(name, &right_scope)) else {
                continue;
            };
            let (left_column, right_column) = (self.column(a.id, name.span), self.column(b.id, name.span));
            let same_type = left_column.sql_type() == right_column.sql_type();
            let equal = self.compare(CompareOp::Equal, left_column.clone(), right_column.clone(), name.span);
            if equal.sql_type() == SqlType::Boolean {
                conjuncts.push(equal);
            }
            let id = match join.kind {
                JoinKind::Full => None,
                _ if join.mirrored && (same_type || join.kind == JoinKind::Left) => Some(b.id),
                _ if same_type || join.kind == JoinKind::Left => Some(a.id),
                JoinKind::Inner
                | JoinKind::Left
                | JoinKind::Semi
                | JoinKind::Anti
                | JoinKind::Mark
                | JoinKind::Single => None,
            };
            let id = id.unwrap_or_else(|| {
                let either = self.coalesce(vec![left_column, right_column], name.span);
                let id = self.new_column(&a.name, either.sql_type());
                computed.push((id, either));
                id
            });
            merged.push(Merged { left: a.id, right: b.id, column: ScopeColumn { name: a.name, id } });
        }
        let plan = self.joined(join, (left, right), Expr::and(conjuncts, join.span)).project(computed);
        let mut scope = self.side_by_side(left_scope, right_scope, &merged);
        if let Some(alias) = alias {
            let columns = merged.iter().map(|merged| merged.column.clone()).collect();
            let name = alias.text.clone();
            scope.relations.push(super::scope::Relation::new(name, columns));
        }
        Ok((plan, scope))
    }

    fn using_side(&mut self, name: &Ident, scope: &Scope) -> Option<ScopeColumn> {
        match scope.resolve(std::slice::from_ref(name)) {
            Ok(id) => scope.star.iter().find(|column| column.id == id).cloned(),
            Err(Problem::NoSuchColumn { name: text, tables, near, .. }) => {
                let side = crate::diagnostic::sentence_list(&tables);
                self.report(&Problem::UsingColumnMissing { clause: "USING", name: text, side, near }, name.span);
                None
            }
            Err(problem) => {
                self.report(&problem, name.span);
                None
            }
        }
    }

    /// The tables of both sides in one scope; two of one name are an error.
    pub(super) fn side_by_side(&mut self, left: Scope, right: Scope, merged: &[Merged]) -> Scope {
        for relation in right.relations.iter().filter(|relation| !relation.name.is_empty()) {
            if left
                .relations
                .iter()
                .any(|other| other.name.eq_ignore_ascii_case(&relation.name) && other.schema == relation.schema)
            {
                let problem = Problem::DuplicateCorrelation { name: relation.name.clone() };
                self.problems.push(Error::from_facts(&problem));
            }
        }
        left.beside(right, merged)
    }
}

/// Whether the right side uses columns of the left.
fn depends(left: &LogicalPlan, right: &LogicalPlan) -> bool {
    let free = right.free();
    !free.is_empty() && left.output().iter().any(|id| free.contains(id))
}

/// The names that both sides have, in the order of the left.
fn common_names(left: &Scope, right: &Scope, span: Span) -> Vec<Ident> {
    let common = |column: &&ScopeColumn| right.star.iter().any(|other| other.name.eq_ignore_ascii_case(&column.name));
    let name = |column: &ScopeColumn| Ident { text: column.name.clone(), quoted: false, span };
    left.star.iter().filter(common).map(name).collect()
}
