//! `set operation to join`
//!
//! ```text
//! except                          →   distinct
//!   a, b                                anti join a.x IS NOT DISTINCT FROM b.x     (= where neither is NULL)
//!                                         a, b
//! ```
//! INTERSECT becomes a semi join. Condition: without ALL, each row of the result is one of the first query that has, or has not, its like in
//! the second one; NULL is like NULL (clause 7.17).

use super::outer_to_anti_join::stored;
use super::{Rule, RuleContext};
use crate::diagnostic::{Result, Span};
use crate::logical::never_null::is_never_null;
use crate::logical::{
    BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan, RewriteNote, RewriteRule, SetOp, SetOperand,
};
use crate::types::SqlType;

pub(super) struct SetOperationToJoin;

impl Rule for SetOperationToJoin {
    fn name(&self) -> RewriteRule {
        RewriteRule::SetOperationToJoin
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        Ok(if let LogicalPlan::SetOperation { op, all: false, operands, columns } = plan {
            match (op, <[_; 2]>::try_from(operands)) {
                (SetOp::Except, Ok(operands)) => joined(JoinKind::Anti, operands, &columns, context),
                (SetOp::Intersect, Ok(operands)) => joined(JoinKind::Semi, operands, &columns, context),
                (SetOp::Union, Ok(operands)) => {
                    LogicalPlan::SetOperation { op, all: false, operands: operands.into(), columns }
                }
                (op, Err(operands)) => LogicalPlan::SetOperation { op, all: false, operands, columns },
            }
        } else {
            plan
        })
    }
}

fn joined(
    kind: JoinKind,
    [first, second]: [SetOperand; 2],
    columns: &[ColumnId],
    context: &mut RuleContext<'_>,
) -> LogicalPlan {
    let (change, why) = match kind {
        JoinKind::Semi => {
            ("INTERSECT became a semi join", "each row is one of the first query that is in the second, once")
        }
        JoinKind::Inner | JoinKind::Left | JoinKind::Full | JoinKind::Anti | JoinKind::Mark | JoinKind::Single => {
            ("EXCEPT became an anti join", "each row is one of the first query that is not in the second, once")
        }
    };
    context.log.push(RewriteNote { rule: RewriteRule::SetOperationToJoin, change: change.into(), why });
    let column = |id: ColumnId| Expr::column(id, context.columns.get(id).sql_type, Span::default());
    let never_null = |operand: &SetOperand, id| is_never_null(&operand.plan, id, &stored(context.columns));
    let same = |(a, b): (&ColumnId, &ColumnId)| {
        let sides = [column(*a), column(*b)];
        let is_plain = !matches!(sides[0].sql_type(), SqlType::Array(_) | SqlType::Row(_));
        if is_plain && (never_null(&first, *a) || never_null(&second, *b)) {
            let [a, b] = sides;
            return Expr::compare(CompareOp::Equal, a, b, Span::default());
        }
        Expr::new(ExprKind::Same(Box::new(sides)), SqlType::Boolean, Span::default())
    };
    let on: Vec<Expr> = first.columns.iter().zip(&second.columns).map(same).collect();
    let mut kept = Vec::new();
    let mut twice: Vec<(ColumnId, Expr)> = Vec::new();
    let mut renamed: Vec<(ColumnId, ColumnId)> = Vec::new();
    let free = first.plan.free();
    for (made, from) in columns.iter().zip(&first.columns) {
        if kept.contains(from) || free.contains(from) {
            twice.push((*made, column(*from)));
        } else {
            renamed.push((*from, *made));
        }
        if !kept.contains(from) {
            kept.push(*from);
        }
    }
    let input = BinaryJoin::new(kind, first.plan, second.plan, on).into_plan();
    let plan = LogicalPlan::Distinct { input: Box::new(input), columns: kept }.project(twice);
    // The columns of the first query are those of the result, under other numbers.
    renamed.iter().for_each(|(from, made)| context.columns.stand_for(*made, *from));
    plan.map_columns(&mut |id| renamed.iter().find(|(from, _)| *from == id).map_or(id, |(_, made)| *made))
}
