//! `union all to IN`
//!
//! ```text
//! union all                                scan bed  [sun IN ('shade', 'sun')]
//!   scan bed  [sun = 'shade']        →
//!   scan bed  [sun = 'sun']
//! ```
//! Condition: both queries give the same columns of the same table under the same conditions, but for one, which allows other values of a column:
//! no row is of both.

use super::{Rule, RuleContext};
use crate::diagnostic::{Result, Span};
use crate::logical::{
    ColumnId, CompareOp, Expr, ExprKind, LogicalPlan, RewriteNote, RewriteRule, Scan, SetOp, SetOperand,
};
use crate::types::{SqlType, Value};
use std::sync::Arc;

pub(super) struct UnionToIn;

impl Rule for UnionToIn {
    fn name(&self) -> RewriteRule {
        RewriteRule::UnionToIn
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        let LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands, columns } = plan else {
            return Ok(plan);
        };
        let count = operands.len();
        let mut kept: Vec<SetOperand> = Vec::new();
        for operand in operands {
            match kept.iter_mut().find_map(|known| Some((both(known, &operand)?, known))) {
                Some((merged, known)) => *known = merged,
                None => kept.push(operand),
            }
        }
        if kept.len() < count {
            context.log.push(RewriteNote {
                rule: self.name(),
                change: format!("{} queries of UNION ALL became {}", count, kept.len()),
                why: "they read the same table, each for other values of a column",
            });
        }
        if kept.len() > 1 {
            return Ok(LogicalPlan::SetOperation { op: SetOp::Union, all: true, operands: kept, columns });
        }
        let Some(only) = kept.pop() else { return Ok(LogicalPlan::Empty(columns)) };
        let free = only.plan.free();
        let is_once = |(at, id): (usize, &ColumnId)| !only.columns[..at].contains(id) && !free.contains(id);
        if only.columns.iter().enumerate().all(is_once) {
            // Its columns are those of the union, under other numbers.
            let pairs: Vec<(ColumnId, ColumnId)> = only.columns.iter().copied().zip(columns.iter().copied()).collect();
            pairs.iter().for_each(|(from, made)| context.columns.stand_for(*made, *from));
            let to = |id: ColumnId| pairs.iter().find(|(from, _)| *from == id).map_or(id, |(_, made)| *made);
            return Ok(only.plan.map_columns(&mut |id| to(id)));
        }
        let named = |(id, of): (&ColumnId, &ColumnId)| {
            (*id, Expr::column(*of, context.columns.get(*of).sql_type, Span::default()))
        };
        let renamed = columns.iter().zip(&only.columns).map(named).collect();
        Ok(only.plan.project(renamed))
    }
}

/// A query that reads columns of a table, apart from its conditions.
struct Reading<'p> {
    scan: &'p Scan,
    /// What is computed of each row, the innermost first.
    above: Vec<&'p [(ColumnId, Expr)]>,
}

impl<'p> Reading<'p> {
    fn of(mut plan: &'p LogicalPlan) -> Option<Self> {
        let mut above: Vec<&[(ColumnId, Expr)]> = Vec::new();
        while let LogicalPlan::Project { input, computed } = plan {
            above.insert(0, computed);
            plan = input;
        }
        if let LogicalPlan::Scan(scan) = plan { Some(Self { scan, above }) } else { None }
    }

    /// For each column of `self` the one of `other` that is the same, where both compute the same.
    fn columns_of(&self, other: &Self) -> Option<Vec<(ColumnId, ColumnId)>> {
        if !Arc::ptr_eq(&self.scan.source, &other.scan.source)
            || self.scan.versions != other.scan.versions
            || self.above.len() != other.above.len()
        {
            return None;
        }
        let same = |(id, at): &(ColumnId, usize)| {
            other.scan.columns.iter().find(|(_, place)| place == at).map(|(theirs, _)| (*id, *theirs))
        };
        let mut map: Vec<(ColumnId, ColumnId)> = self.scan.columns.iter().filter_map(same).collect();
        for (own, theirs) in self.above.iter().zip(&other.above) {
            if own.len() != theirs.len() {
                return None;
            }
            for ((id, expr), (their, known)) in own.iter().zip(theirs.iter()) {
                if !moved(expr, &map).same_as(known) {
                    return None;
                }
                map.push((*id, *their));
            }
        }
        Some(map)
    }
}

fn moved(expr: &Expr, map: &[(ColumnId, ColumnId)]) -> Expr {
    let to = |id: ColumnId| map.iter().find(|(from, _)| *from == id).map_or(id, |(_, to)| *to);
    expr.clone().map_columns(&mut |id| to(id))
}

/// One query that gives the rows of two.
fn both(known: &SetOperand, other: &SetOperand) -> Option<SetOperand> {
    let (first, second) = (Reading::of(&known.plan)?, Reading::of(&other.plan)?);
    let map = second.columns_of(&first)?;
    let to = |id: &ColumnId| map.iter().find(|(from, _)| from == id).map(|(_, to)| *to);
    let same_columns = known.columns.iter().zip(&other.columns).all(|(known, own)| to(own) == Some(*known));
    let theirs: Vec<Expr> = second.scan.filter.iter().map(|term| moved(term, &map)).collect();
    let differs = |terms: &[Expr], others: &[Expr]| -> Option<Vec<usize>> {
        let own = |at: &usize| !others.iter().any(|other| other.same_as(&terms[*at]));
        Some((0..terms.len()).filter(own).collect::<Vec<_>>()).filter(|found| found.len() == 1)
    };
    let (own, their) = (differs(&first.scan.filter, &theirs)?[0], differs(&theirs, &first.scan.filter)?[0]);
    let (column, mut values) = allowed(&first.scan.filter[own])?;
    let (their_column, more) = allowed(&theirs[their])?;
    let is_apart = more.iter().all(|value| !values.iter().any(|known| may_be_equal(known, value)));
    if !same_columns || !column.same_as(&their_column) || !is_apart {
        return None;
    }
    values.extend(more);
    let mut scan = first.scan.clone();
    let span = scan.filter[own].span();
    scan.filter[own] = Expr::new(ExprKind::In(Box::new(column), values), SqlType::Boolean, span);
    let plan = first.above.iter().fold(LogicalPlan::Scan(scan), |plan, computed| plan.project(computed.to_vec()));
    Some(SetOperand { plan, columns: known.columns.clone() })
}

/// Whether two literals may be equal: texts may but for blanks at their ends.
fn may_be_equal(a: &Expr, b: &Expr) -> bool {
    match (a.kind(), b.kind()) {
        (ExprKind::Literal(Value::Text(a)), ExprKind::Literal(Value::Text(b))) => a.trim_end() == b.trim_end(),
        _ => a.same_as(b),
    }
}

/// The column that a condition is about, and the constants that it allows, of which two that differ in writing differ.
fn allowed(term: &Expr) -> Option<(Expr, Vec<Expr>)> {
    let (column, values) = if let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() {
        match (sides[0].kind(), sides[1].kind()) {
            (ExprKind::Column(_), _) => (sides[0].clone(), vec![sides[1].clone()]),
            (_, ExprKind::Column(_)) => (sides[1].clone(), vec![sides[0].clone()]),
            _ => return None,
        }
    } else if let ExprKind::In(operand, list) = term.kind()
        && matches!(operand.kind(), ExprKind::Column(_))
    {
        (operand.as_ref().clone(), list.clone())
    } else {
        return None;
    };
    let is_plain = |value: &Expr| {
        let differs = matches!(
            value.kind(),
            ExprKind::Literal(Value::Integer(_) | Value::Text(_) | Value::Date(_) | Value::Boolean(_))
        );
        differs && value.sql_type() == values[0].sql_type()
    };
    if values.iter().all(is_plain) { Some((column, values)) } else { None }
}
