//! UNION, INTERSECT and EXCEPT (clause 7.17): columns side by side, by place or, with CORRESPONDING, by name.

use super::query::Rows;
use super::{Binder, OutputColumn, problem::Problem};
use crate::diagnostic::{Error, Result, Span, nearest};
use crate::logical::{ColumnId, Expr, LogicalPlan, SetOp, SetOperand};
use crate::syntax::ast;
use crate::types::SqlType;

impl Binder<'_> {
    /// UNION, INTERSECT and EXCEPT of several queries.
    pub(super) fn set_operation(&mut self, operation: &ast::SetOperation) -> Result<Rows> {
        let mut operands = operation.operands.iter().map(|operand| self.body(operand)).collect::<Result<Vec<_>>>()?;
        if let Some(corresponding) = &operation.corresponding {
            operands = self.corresponding(operands, corresponding, operation.span)?;
        } else {
            self.note_mixed_columns(&operands, operation);
        }
        let (operands, output) = self.unified(operands, operation)?;
        if operation.op == SetOp::Union && !operation.all {
            self.note_needless_union(&operands, operation.span);
        }
        Ok(combine(operation.op, operation.all, operands, output))
    }

    /// Brings the columns of all operands to common types, and names them as in the first.
    pub(super) fn unified(
        &mut self,
        operands: Vec<Rows>,
        operation: &ast::SetOperation,
    ) -> Result<(Vec<SetOperand>, Vec<OutputColumn>)> {
        let what = operation.op.name();
        let width = operands[0].1.len();
        let lists = |operands: &[Rows]| -> Vec<Vec<(String, SqlType)>> {
            let list =
                |(_, output): &Rows| output.iter().map(|column| (column.name.clone(), column.sql_type)).collect();
            operands.iter().map(list).collect()
        };
        if let Some(odd) = operands.iter().position(|(_, output)| output.len() != width) {
            let all = lists(&operands);
            let problem =
                Problem::SetColumns { what, odd: odd + 1, lists: [all[0].clone(), all[odd].clone()], at: None };
            return Err(self.after_others(Error::from_facts(&problem).at(operation.span)));
        }
        let mut types = Vec::with_capacity(width);
        for at in 0..width {
            let mut common = SqlType::Null;
            for (number, (_, output)) in operands.iter().enumerate() {
                let own = if self.untyped.contains(&output[at].id) { SqlType::Null } else { output[at].sql_type };
                let Some(wider) = common.common(own) else {
                    let all = lists(&operands);
                    let lists = [all[0].clone(), all[number].clone()];
                    let problem = Problem::SetColumns { what, odd: number + 1, lists, at: Some(at) };
                    return Err(self.after_others(Error::from_facts(&problem).at(operation.span)));
                };
                common = wider;
            }
            types.push(common);
        }
        let untyped: Vec<bool> = types.iter().map(|sql_type| *sql_type == SqlType::Null).collect();
        for sql_type in types.iter_mut().filter(|sql_type| **sql_type == SqlType::Null) {
            *sql_type = SqlType::TEXT;
        }
        let output: Vec<OutputColumn> = operands[0]
            .1
            .iter()
            .zip(types.iter().zip(untyped))
            .enumerate()
            .map(|(at, (column, (sql_type, untyped)))| {
                let id = self.new_column(&column.name, *sql_type);
                self.columns.set_limit(id, self.common_limit(operands.iter().map(|(_, output)| output[at].id)));
                if untyped {
                    self.untyped.insert(id);
                }
                OutputColumn { name: column.name.clone(), id, sql_type: *sql_type }
            })
            .collect();
        let operands = operands.into_iter().map(|rows| self.as_types(rows, &types, operation.span)).collect::<Vec<_>>();
        Ok((operands, output))
    }

    /// The problems found before come first: this one may only follow from them.
    fn after_others(&mut self, error: Error) -> Error {
        let mut others = std::mem::take(&mut self.problems).into_iter();
        match others.next() {
            Some(first) => first.with_related(others.chain(std::iter::once(error))),
            None => error,
        }
    }

    /// A query with its columns cast to these types.
    pub(super) fn as_types(&mut self, (plan, output): Rows, types: &[SqlType], span: Span) -> SetOperand {
        let mut computed = Vec::new();
        let mut columns = Vec::new();
        for (column, target) in output.iter().zip(types) {
            if column.sql_type == *target {
                columns.push(column.id);
                continue;
            }
            let id = self.new_column(&column.name, *target);
            let value = Expr::column(column.id, column.sql_type, span);
            computed.push((id, self.convert(value, *target)));
            columns.push(id);
        }
        SetOperand { plan: plan.project(computed), columns }
    }

    /// `CORRESPONDING [BY (…)]`: the columns of the same names, in the order of the first operand.
    fn corresponding(&mut self, operands: Vec<Rows>, by: &ast::Corresponding, span: Span) -> Result<Vec<Rows>> {
        let has =
            |output: &[OutputColumn], name: &str| output.iter().any(|column| column.name.eq_ignore_ascii_case(name));
        let names: Vec<String> = match &by.by {
            Some(names) => {
                for name in names {
                    if let Some((_, output)) = operands.iter().find(|(_, output)| !has(output, &name.text)) {
                        let near = nearest(&name.text, output.iter().map(|column| column.name.as_str()));
                        let side = "each of the queries".into();
                        let near = near.map(str::to_owned);
                        let (clause, text) = ("CORRESPONDING BY", name.text.clone());
                        self.report(&Problem::UsingColumnMissing { clause, name: text, side, near }, name.span);
                        return Ok(operands);
                    }
                }
                names.iter().map(|name| name.text.clone()).collect()
            }
            None => {
                let common = |name: &String| operands.iter().all(|(_, output)| has(output, name));
                operands[0].1.iter().map(|column| column.name.clone()).filter(common).collect()
            }
        };
        if names.is_empty() {
            let lists = [0, 1].map(|at| operands[at].1.iter().map(|c| (c.name.clone(), c.sql_type)).collect());
            return Err(Error::from_facts(&Problem::NothingCorresponds { lists }).at(span));
        }
        let pick = |(plan, output): Rows| {
            let find = |name: &String| output.iter().find(|column| column.name.eq_ignore_ascii_case(name)).cloned();
            let columns = names.iter().filter_map(find).collect();
            (plan, columns)
        };
        Ok(operands.into_iter().map(pick).collect())
    }
}

/// The operator over operands whose columns have the same types.
pub(super) fn combine(op: SetOp, all: bool, operands: Vec<SetOperand>, output: Vec<OutputColumn>) -> Rows {
    let columns: Vec<ColumnId> = output.iter().map(|column| column.id).collect();
    let distinct = !all && op == SetOp::Union;
    let mut plan = LogicalPlan::SetOperation { op, all: all || distinct, operands, columns: columns.clone() };
    if distinct {
        plan = LogicalPlan::Distinct { input: Box::new(plan), columns };
    }
    (plan, output)
}
