//! SEARCH and CYCLE (clause 7.18): further columns of a recursive query that say in what order rows were found, and whether one was
//! met before on the way to itself.

use super::scope::{At, Clause, Scope};
use super::{Binder, OutputColumn, problem::Problem};
use crate::diagnostic::{Result, Span, nearest};
use crate::logical::{ArrayFunction, ColumnId, CompareOp, Expr, ExprKind, Function, LogicalPlan, SetOperand, Test};
use crate::syntax::ast::{Cycle, Ident, SearchClause, WithElement};
use crate::types::{RowField, SqlType, Value};
use std::convert::Infallible;

/// Operands that are no branch, and those that are.
type Operands = (Vec<SetOperand>, Vec<SetOperand>);

/// The hidden column that counts rounds for a search in breadth.
const LEVEL: &str = "search level";

impl Binder<'_> {
    /// The further columns of an element, with the types they will have.
    pub(super) fn search_columns(&mut self, element: &WithElement, output: &[OutputColumn]) -> Vec<OutputColumn> {
        let mut columns: Vec<(String, SqlType)> = Vec::new();
        if let Some(search) = &element.search {
            let row = row_type(&search.by, output);
            if search.depth_first {
                columns.push((search.sequence.text.clone(), SqlType::array_of(row)));
            } else {
                columns.push((search.sequence.text.clone(), with_level(row)));
            }
        }
        if let Some(cycle) = &element.cycle {
            columns.push((cycle.mark.text.clone(), self.mark_type(cycle)));
            columns.push((path_name(cycle), SqlType::array_of(row_type(&cycle.columns, output))));
        }
        columns
            .into_iter()
            .map(|(name, sql_type)| OutputColumn { id: self.new_column(&name, sql_type), name, sql_type })
            .collect()
    }

    fn mark_type(&mut self, cycle: &Cycle) -> SqlType {
        match &cycle.values {
            None => SqlType::Boolean,
            Some((on, off)) => {
                let constant = |this: &mut Self, expr| {
                    this.expr(expr, At { scope: &Scope::default(), clause: Clause::Value })
                        .map_or(SqlType::TEXT, |expr| expr.sql_type())
                };
                let (a, b) = (constant(self, on), constant(self, off));
                a.common(b).filter(|common| *common != SqlType::Null).unwrap_or(SqlType::TEXT)
            }
        }
    }

    /// Computes the further columns in every operand, and keeps rows on a cycle from being followed.
    pub(super) fn with_search(
        &mut self,
        element: &WithElement,
        output: &mut Vec<OutputColumn>,
        operands: Operands,
    ) -> Result<Operands> {
        let plain = output.len();
        let further = self.search_columns(element, output);
        output.extend(further);
        let (mut anchors, mut branches) = operands;
        if element.search.is_none() && element.cycle.is_none() {
            return Ok((anchors, branches));
        }
        let named = [element.search.as_ref().map(|s| &s.by), element.cycle.as_ref().map(|c| &c.columns)];
        for name in named.into_iter().flatten().flatten() {
            if !output[..plain].iter().any(|column| name.matches(&column.name)) {
                let near =
                    nearest(&name.text, output[..plain].iter().map(|column| column.name.as_str())).map(str::to_owned);
                let tables = vec![element.name.text.clone()];
                self.report(
                    &Problem::NoSuchColumn { name: name.text.clone(), tables, near, meant_text: false },
                    name.span,
                );
                return Ok((anchors, branches));
            }
        }
        let span = element.name.span;
        for operand in &mut anchors {
            self.extend(operand, element, (&output[..plain], &output[plain..]), span)?;
        }
        for operand in &mut branches {
            self.extend(operand, element, (&output[..plain], &output[plain..]), span)?;
        }
        Ok((anchors, branches))
    }

    fn extend(
        &mut self,
        operand: &mut SetOperand,
        element: &WithElement,
        (plain, further): (&[OutputColumn], &[OutputColumn]),
        span: Span,
    ) -> Result<()> {
        let before = input_columns(&operand.plan, plain.len(), further.len());
        if let Some(before) = &before {
            let plan = std::mem::replace(&mut operand.plan, LogicalPlan::OneRow);
            operand.plan = kept_by_distinct(plan, before);
            if before.iter().any(|id| !operand.plan.output().contains(id)) {
                self.report(&Problem::SearchPastSetOperator { name: element.name.text.clone() }, span);
                return Ok(());
            }
        }
        let mut further = further.iter().enumerate();
        let mut computed = Vec::new();
        if let Some(search) = &element.search
            && let Some((at, column)) = further.next()
        {
            let parent = before.as_ref().map(|before| before[at]);
            computed.push((column, self.sequence(search, (operand, plain), (column, parent), span)));
        }
        if let Some(cycle) = &element.cycle
            && let (Some((at, mark)), Some((path_at, path))) = (further.next(), further.next())
        {
            let parents = before.as_ref().map(|before| (before[at], before[path_at]));
            let (mark_value, path_value, goes_on) = self.cycle(cycle, (operand, plain), (mark, path, parents), span)?;
            computed.push((mark, mark_value));
            computed.push((path, path_value));
            if let Some(goes_on) = goes_on {
                let plan = std::mem::replace(&mut operand.plan, LogicalPlan::OneRow);
                operand.plan = plan.filter(vec![goes_on]);
            }
        }
        let plan = std::mem::replace(&mut operand.plan, LogicalPlan::OneRow);
        let computed: Vec<(ColumnId, Expr)> =
            computed.into_iter().map(|(column, expr)| (self.columns.copy(column.id), expr)).collect();
        operand.columns.extend(computed.iter().map(|(id, _)| *id));
        operand.plan = plan.project(computed);
        Ok(())
    }

    /// Depth first: the rows on the way to this one, in an array. Breadth first: the number of the round, and the row.
    fn sequence(
        &self,
        search: &SearchClause,
        (operand, plain): (&SetOperand, &[OutputColumn]),
        (column, parent): (&OutputColumn, Option<ColumnId>),
        span: Span,
    ) -> Expr {
        let row = own_row(&search.by, operand, plain, span);
        if search.depth_first {
            return appended(parent, row, column.sql_type, span);
        }
        let SqlType::Row(fields) = column.sql_type else { return row };
        let zero = Expr::literal(Value::Integer(0), SqlType::BigInt, span);
        let level = parent.map_or(zero, |parent| {
            let parent = Expr::column(parent, column.sql_type, span);
            let level = Expr::new(ExprKind::Field(Box::new(parent), 0), fields[0].sql_type, span);
            let one = Expr::literal(Value::Integer(1), SqlType::BigInt, span);
            let sum = ExprKind::Arithmetic(crate::logical::ArithmeticOp::Add, Box::new([level, one]));
            Expr::new(sum, SqlType::BigInt, span)
        });
        let ExprKind::Row(values) = row.kind() else { return row };
        let parts = std::iter::once(level).chain(values.iter().cloned()).collect();
        Expr::new(ExprKind::Row(parts), column.sql_type, span)
    }

    /// The mark, the path, and the condition under which a row of the round before is followed at all.
    fn cycle(
        &mut self,
        cycle: &Cycle,
        (operand, plain): (&SetOperand, &[OutputColumn]),
        (mark, path, parents): (&OutputColumn, &OutputColumn, Option<(ColumnId, ColumnId)>),
        span: Span,
    ) -> Result<(Expr, Expr, Option<Expr>)> {
        let row = own_row(&cycle.columns, operand, plain, span);
        let (on, off) = match &cycle.values {
            None => (Expr::truth(true, span), Expr::truth(false, span)),
            Some((on, off)) => {
                let nothing = Scope::default();
                let on = self.expr(on, At { scope: &nothing, clause: Clause::Value })?;
                let off = self.expr(off, At { scope: &nothing, clause: Clause::Value })?;
                (self.coerce(on, mark.sql_type), self.coerce(off, mark.sql_type))
            }
        };
        let path_value = appended(parents.map(|(_, path)| path), row.clone(), path.sql_type, span);
        let Some((mark_before, path_before)) = parents else { return Ok((off, path_value, None)) };
        let path_before = Expr::column(path_before, path.sql_type, span);
        let met = Expr::new(
            ExprKind::Call(Function::Array(ArrayFunction::Contains), vec![path_before, row]),
            SqlType::Boolean,
            span,
        );
        let value = Expr::new(ExprKind::Case(vec![(met, on.clone())], Box::new(off)), mark.sql_type, span);
        let marked = Expr::compare(CompareOp::Equal, Expr::column(mark_before, mark.sql_type, span), on, span);
        let marked = Expr::new(ExprKind::Is(Box::new(marked), Test::True), SqlType::Boolean, span);
        Ok((value, path_value, Some(marked.negated(true))))
    }
}

fn path_name(cycle: &Cycle) -> String {
    cycle.path.as_ref().map_or_else(|| "path".to_owned(), |path| path.text.clone())
}

/// The type of the row of these columns.
fn row_type(by: &[Ident], output: &[OutputColumn]) -> SqlType {
    let field = |name: &Ident| {
        let column = output.iter().find(|column| name.matches(&column.name))?;
        Some(RowField { name: column.name.clone(), sql_type: column.sql_type })
    };
    SqlType::row_of(by.iter().filter_map(field).collect())
}

fn with_level(row: SqlType) -> SqlType {
    let SqlType::Row(fields) = row else { return row };
    let level = RowField { name: LEVEL.into(), sql_type: SqlType::BigInt };
    SqlType::row_of(std::iter::once(level).chain(fields.iter().cloned()).collect())
}

/// The values of these columns in a row of the operand.
fn own_row(by: &[Ident], operand: &SetOperand, plain: &[OutputColumn], span: Span) -> Expr {
    let value = |name: &Ident| {
        let at = plain.iter().position(|column| name.matches(&column.name))?;
        Some(Expr::column(operand.columns[at], plain[at].sql_type, span))
    };
    Expr::new(ExprKind::Row(by.iter().filter_map(value).collect()), row_type(by, plain), span)
}

/// The array of the row before with one more element.
fn appended(parent: Option<ColumnId>, row: Expr, sql_type: SqlType, span: Span) -> Expr {
    let one = Expr::new(ExprKind::Array(vec![row]), sql_type, span);
    match parent {
        Some(parent) => {
            let parent = Expr::column(parent, sql_type, span);
            Expr::new(ExprKind::Concat(Box::new([parent, one])), sql_type, span)
        }
        None => one,
    }
}

/// The same plan, in which DISTINCT compares the further columns of the row of the round before as well (syntax rule 3 of 7.18
/// appends them to the columns that are selected).
fn kept_by_distinct(plan: LogicalPlan, before: &[ColumnId]) -> LogicalPlan {
    let Ok(plan) = plan.map_inputs(&mut |input| Ok::<_, Infallible>(kept_by_distinct(input, before)));
    if let LogicalPlan::Distinct { input, mut columns } = plan {
        let below = input.output();
        let missing = before.iter().filter(|id| below.contains(id) && !columns.contains(id));
        let missing: Vec<ColumnId> = missing.copied().collect();
        columns.extend(missing);
        LogicalPlan::Distinct { input, columns }
    } else {
        plan
    }
}

/// The further columns of the row of the round before.
fn input_columns(plan: &LogicalPlan, plain: usize, further: usize) -> Option<Vec<ColumnId>> {
    let mut found = None;
    plan.walk(&mut |node| {
        if let LogicalPlan::RecursionInput(input) = node
            && input.columns.len() == plain + further
        {
            found = Some(input.columns[plain..].to_vec());
        }
    });
    found
}
