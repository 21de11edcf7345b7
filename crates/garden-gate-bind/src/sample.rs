//! TABLESAMPLE (clause 7.6): a share of the rows of a table, told by a hash of the place of each.

use super::change_problem::ChangeProblem;
use super::convert::convert;
use super::problem::Problem;
use super::scope::{At, Clause, Scope};
use super::{Binder, stand_in};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Expr, ExprKind, Frame, Function, LogicalPlan, WindowCall, WindowFunction};
use crate::storage::StoredTable;
use crate::syntax::ast;
use crate::types::{SqlType, Value};
use std::any::Any;

impl Binder<'_> {
    /// The rows of `plan` that belong to the sample. Without REPEATABLE each statement takes other rows.
    pub(super) fn sample(&mut self, plan: LogicalPlan, sample: &ast::Sample) -> Result<LogicalPlan> {
        let nothing = Scope::default();
        let percent = self.expr(&sample.percent, At { scope: &nothing, clause: Clause::From })?;
        let percent = self.sample_number(percent, SqlType::Double);
        let repeatable = sample.repeatable.is_some();
        let seed = match &sample.repeatable {
            Some(seed) => {
                let seed = self.expr(seed, At { scope: &nothing, clause: Clause::From })?;
                self.sample_number(seed, SqlType::BigInt)
            }
            None => {
                let number = i64::from(sample.span.start);
                let seed = self.around.moment.micros.wrapping_mul(1024).wrapping_add(number);
                Expr::literal(Value::Integer(seed), SqlType::BigInt, sample.span)
            }
        };
        let (plan, place) = self.with_places(plan, sample);
        let place = Expr::new(ExprKind::Column(place), SqlType::BigInt, sample.span);
        let function = Function::Sampled { pages: sample.pages, repeatable };
        let taken = ExprKind::Call(function, vec![place, percent, seed]);
        Ok(plan.filter(vec![Expr::new(taken, SqlType::Boolean, sample.span)]))
    }

    /// A number of the sample clause, which no row and no query has a part in.
    fn sample_number(&mut self, number: Expr, target: SqlType) -> Expr {
        if number.has_subquery() {
            self.report(&ChangeProblem::Subquery { what: "TABLESAMPLE" }, number.span());
            return stand_in(number.span());
        }
        if super::convert::is_unsettled(&number) {
            return self.coerce(number, target);
        }
        if !number.sql_type().is_number() && number.sql_type() != SqlType::Null {
            let problem =
                Problem::WrongType { what: "TABLESAMPLE".into(), expected: "a number", found: number.sql_type() };
            self.report(&problem, number.span());
            return stand_in(number.span());
        }
        convert(number, target)
    }

    /// The rows with the place of each: where it lies in its table, or its number among the rows.
    fn with_places(&mut self, mut plan: LogicalPlan, sample: &ast::Sample) -> (LogicalPlan, ColumnId) {
        let place = self.new_column("place", SqlType::BigInt);
        if let LogicalPlan::Scan(scan) = &mut plan {
            let source: &dyn Any = scan.source.as_ref();
            if let Some(stored) = source.downcast_ref::<StoredTable>() {
                let at = stored.place_column();
                scan.columns.push((place, at));
                return (plan, place);
            }
        }
        let call = WindowCall {
            function: WindowFunction::RowNumber,
            arguments: Vec::new(),
            frame: Frame::usual(),
            from_last: false,
            ignore_nulls: false,
            span: sample.span,
        };
        let (partition, order) = (Vec::new(), Vec::new());
        let plan = LogicalPlan::Window { input: Box::new(plan), partition, order, calls: vec![(place, call)] };
        (plan, place)
    }
}
