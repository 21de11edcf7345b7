//! Window functions (clauses 6.11 and 7.15): windows by name and in place, refinement, frames.

use super::problem::{Computed, Problem};
use super::scope::{At, Clause, Scope};
use super::{Binder, Rows};
use crate::catalog::Sequence;
use crate::diagnostic::{Result, Span};
use crate::logical::{ColumnId, Expr, ExprKind, Frame, Function, LogicalPlan, SortKey, WindowCall, WindowFunction};
use crate::syntax::ast::{self, Call, FrameBound, FrameExclusion, FrameUnit, Over};
use crate::types::{SqlType, Value};
use std::sync::Arc;

/// A window function with its window.
#[derive(Clone, Debug, Default)]
pub(super) struct BoundWindow {
    partition: Vec<Expr>,
    order: Vec<SortKey>,
    call: Option<WindowCall>,
}

/// A window of the WINDOW clause, with the parts of the one it refines.
pub(super) struct NamedWindow {
    name: ast::Ident,
    spec: ast::WindowSpec,
    used: bool,
}

impl BoundWindow {
    /// A call over all rows, in no order.
    pub(super) fn of(call: WindowCall) -> Self {
        Self { call: Some(call), ..Self::default() }
    }

    /// Whether it numbers rows from this sequence.
    pub(super) fn numbers(&self, sequence: &Arc<Sequence>) -> bool {
        let function = self.call.as_ref().map(|call| &call.function);
        matches!(function, Some(WindowFunction::NextValue(known)) if Arc::ptr_eq(known, sequence))
    }

    /// The same call with other expressions.
    pub(super) fn map_exprs<E>(self, change: &mut impl FnMut(Expr) -> Result<Expr, E>) -> Result<Self, E> {
        Ok(Self {
            partition: self.partition.into_iter().map(&mut *change).collect::<Result<_, E>>()?,
            order: SortKey::map_all(self.order, change)?,
            call: self.call.map(|call| call.map_exprs(change)).transpose()?,
        })
    }

    fn same_window(&self, other: &Self) -> bool {
        self.partition.len() == other.partition.len()
            && self.partition.iter().zip(&other.partition).all(|(a, b)| a.same_as(b))
            && self.order.len() == other.order.len()
            && self
                .order
                .iter()
                .zip(&other.order)
                .all(|(a, b)| a.expr.same_as(&b.expr) && (a.direction, a.nulls) == (b.direction, b.nulls))
    }
}

impl Binder<'_> {
    /// A call with OVER.
    pub(super) fn window(&mut self, call: &Call, over: &Over, at: At<'_>, span: Span) -> Result<Expr> {
        let At { scope, clause } = at;
        if clause == Clause::Window || clause == Clause::Argument {
            let problem = Problem::NestedWindow { text: self.text(span).to_owned() };
            return Ok(self.report(&problem, span));
        }
        if !clause.allows_windows() {
            let rewritten = self.window_outside((self.text(span), "place"), clause);
            let problem = Problem::WindowMisplaced { text: self.text(span).to_owned(), clause, rewritten };
            return Ok(self.report(&problem, span));
        }
        let Some(spec) = self.window_spec(over)? else { return Ok(super::stand_in(span)) };
        let inside = At { scope, clause: Clause::Window };
        let partition = self.all(&spec.partition, inside)?;
        let partition = partition.into_iter().map(|expr| self.settled(expr)).collect();
        let mut order = Vec::new();
        for item in &spec.order {
            let expr = self.expr(&item.expr, At { scope, clause: Clause::Window })?;
            order.push(SortKey { expr: self.settled(expr), direction: item.direction, nulls: item.nulls });
        }
        let Some((function, arguments, sql_type)) = self.window_function(call, inside, span)? else {
            return Ok(super::stand_in(span));
        };
        let frame = self.frame(spec.frame.as_ref(), &function, (&order, inside), span)?;
        let needs_order = matches!(
            function,
            WindowFunction::Rank
                | WindowFunction::DenseRank
                | WindowFunction::PercentRank
                | WindowFunction::CumeDist
                | WindowFunction::Ntile
                | WindowFunction::Lead
                | WindowFunction::Lag
        );
        if matches!(function, WindowFunction::LastValue) && spec.frame.is_none() && !order.is_empty() {
            self.note_last_value(span);
        }
        if needs_order && order.is_empty() {
            return Ok(self.report(&Problem::WindowWithoutOrder { name: function.name() }, span));
        }
        let from_last = call.from == ast::FirstOrLast::Last;
        let ignore_nulls = call.nulls == Some(ast::NullTreatment::Ignore);
        let call = WindowCall { function, arguments, frame, from_last, ignore_nulls, span };
        let id = self.new_column(self.text(span), sql_type);
        self.level.windows.push((id, BoundWindow { partition, order, call: Some(call) }));
        Ok(Expr::column(id, sql_type, span))
    }

    /// The windows of WINDOW, each with the parts of the one before that it refines.
    pub(super) fn define_windows(&mut self, windows: &[(ast::Ident, ast::WindowSpec)]) -> Result<()> {
        for (name, spec) in windows {
            if self.level.definitions.iter().any(|known| name.matches(&known.name.text)) {
                self.report(&Problem::WindowTwice { name: name.text.clone() }, name.span);
                continue;
            }
            if let Some(spec) = self.refined(spec.clone())? {
                self.level.definitions.push(NamedWindow { name: name.clone(), spec, used: false });
            }
        }
        Ok(())
    }

    /// What is wrong with the windows of WINDOW that no call has named; the others are read where they are named.
    pub(super) fn check_unused_windows(&mut self, scope: &Scope) -> Result<()> {
        let unused = self.level.definitions.iter().filter(|window| !window.used).map(|window| window.spec.clone());
        for spec in unused.collect::<Vec<_>>() {
            self.all(&spec.partition, At { scope, clause: Clause::Window })?;
            let mut order = Vec::new();
            for item in &spec.order {
                let expr = self.expr(&item.expr, At { scope, clause: Clause::Window })?;
                order.push(SortKey { expr: self.settled(expr), direction: item.direction, nulls: item.nulls });
            }
            let function = WindowFunction::FirstValue;
            self.frame(spec.frame.as_ref(), &function, (&order, At { scope, clause: Clause::Window }), spec.span)?;
        }
        Ok(())
    }

    /// The window that OVER means: its own parts and those of the window it refines.
    fn window_spec(&mut self, over: &Over) -> Result<Option<ast::WindowSpec>> {
        match over {
            Over::Named(name) => self.named_window(name),
            Over::Spec(spec) => self.refined(spec.clone()),
        }
    }

    fn named_window(&mut self, name: &ast::Ident) -> Result<Option<ast::WindowSpec>> {
        if let Some(window) = self.level.definitions.iter_mut().find(|known| name.matches(&known.name.text)) {
            window.used = true;
            return Ok(Some(window.spec.clone()));
        }
        let known = self.level.definitions.iter().map(|window| window.name.text.clone()).collect();
        self.report(&Problem::NoSuchWindow { name: name.text.clone(), known }, name.span);
        Ok(None)
    }

    /// A window that names another takes its PARTITION BY and ORDER BY and may add an ORDER BY and a frame (clause 7.15).
    fn refined(&mut self, mut spec: ast::WindowSpec) -> Result<Option<ast::WindowSpec>> {
        let Some(name) = spec.base.take() else { return Ok(Some(spec)) };
        let Some(base) = self.named_window(&name)? else { return Ok(None) };
        let broken = if !spec.partition.is_empty() {
            Some("PARTITION BY: that of the named window holds")
        } else if !spec.order.is_empty() && !base.order.is_empty() {
            Some("ORDER BY: the named window has one")
        } else if base.frame.is_some() {
            Some("anything: the named window has a frame")
        } else {
            None
        };
        if let Some(what) = broken {
            self.report(&Problem::WindowRefined { name: name.text, what }, spec.span);
            return Ok(None);
        }
        spec.partition = base.partition;
        if spec.order.is_empty() {
            spec.order = base.order;
        }
        Ok(Some(spec))
    }

    /// The function with its arguments and type.
    fn window_function(
        &mut self,
        call: &Call,
        at: At<'_>,
        span: Span,
    ) -> Result<Option<(WindowFunction, Vec<Expr>, SqlType)>> {
        let Some(function) = WindowFunction::from_name(&call.name.text) else {
            let Some(function) = self.aggregate_function(&call.name.text) else {
                self.report(&Problem::NoWindowFunction { name: call.name.text.to_uppercase() }, call.name.span);
                return Ok(None);
            };
            let around = std::mem::replace(&mut self.rows, Rows::OfFrame);
            let aggregate = self.aggregate_parts(function, call, at, span);
            self.rows = around;
            let Some(aggregate) = aggregate? else { return Ok(None) };
            let sql_type = aggregate.sql_type;
            return Ok(Some((WindowFunction::Aggregate(Box::new(aggregate)), Vec::new(), sql_type)));
        };
        let name = function.name();
        use WindowFunction as W;
        let (least, most, expected) = match function {
            W::Lead | W::Lag => (1, 3, "one to three arguments"),
            W::FirstValue | W::LastValue | W::Ntile => (1, 1, "one argument"),
            W::NthValue => (2, 2, "two arguments"),
            W::RowNumber
            | W::Rank
            | W::DenseRank
            | W::PercentRank
            | W::CumeDist
            | W::Aggregate(_)
            | W::NextValue(_) => (0, 0, "no argument"),
        };
        if !(least..=most).contains(&call.args.len()) || call.star {
            self.report(&Problem::ArgumentCount { name, expected, found: call.args.len() }, span);
            return Ok(None);
        }
        for (present, what) in
            [(call.distinct, "DISTINCT"), (call.filter.is_some(), "FILTER"), (!call.order.is_empty(), "order")]
        {
            if present {
                self.report(&Problem::ArgumentForm { name: name.into(), what }, span);
                return Ok(None);
            }
        }
        let mut arguments = self.all(&call.args, at)?;
        let sql_type = match function {
            W::PercentRank | W::CumeDist => SqlType::Double,
            W::RowNumber | W::Rank | W::DenseRank => SqlType::BigInt,
            W::Ntile => {
                arguments = arguments.into_iter().map(|tiles| self.coerce(tiles, SqlType::BigInt)).collect();
                SqlType::BigInt
            }
            W::Lead | W::Lag | W::FirstValue | W::LastValue | W::NthValue | W::Aggregate(_) | W::NextValue(_) => {
                return Ok(Some(self.navigation(function, arguments, span)));
            }
        };
        Ok(Some((function, arguments, sql_type)))
    }

    /// A function of rows beside the one that is aggregated.
    pub(super) fn nested_function(&mut self, nested: &ast::NestedFunction, at: At<'_>, span: Span) -> Result<Expr> {
        if std::mem::take(&mut self.rows) == Rows::OfClause {
            return Ok(self.report(&Problem::NestedMisplaced { text: self.text(span).to_owned() }, span));
        }
        let bound = self.nested_parts(nested, at, span);
        self.rows = Rows::OfFrame;
        bound
    }

    fn nested_parts(&mut self, nested: &ast::NestedFunction, at: At<'_>, span: Span) -> Result<Expr> {
        let marker = nested.marker;
        let Some(ast::ValueAt { value, offset, default }) = &nested.value else {
            return Ok(Expr::new(ExprKind::Call(Function::RowNumberAt(marker), Vec::new()), SqlType::BigInt, span));
        };
        let value = self.expr(value, at)?;
        let value = self.settled(value);
        let args = match default {
            None => vec![value],
            Some(default) => {
                let default = self.expr(default, at)?;
                match self.unify_pair(value, default, span) {
                    Some((value, default)) => vec![value, default],
                    None => return Ok(super::stand_in(span)),
                }
            }
        };
        let sql_type = args[0].sql_type();
        Ok(Expr::new(ExprKind::Call(Function::ValueAt { marker, offset: *offset }, args), sql_type, span))
    }

    /// LEAD, LAG, `FIRST_VALUE`, `LAST_VALUE`, `NTH_VALUE`: the type is that of the value and of the default.
    fn navigation(
        &mut self,
        function: WindowFunction,
        mut arguments: Vec<Expr>,
        span: Span,
    ) -> (WindowFunction, Vec<Expr>, SqlType) {
        let value = arguments.remove(0);
        let value = self.settled(value);
        let mut done = Vec::new();
        if !arguments.is_empty() {
            let offset = arguments.remove(0);
            done.push(self.coerce(offset, SqlType::BigInt));
        }
        let mut sql_type = value.sql_type();
        if arguments.is_empty() {
            done.insert(0, value);
        } else if let Some((value, default)) = self.unify_pair(value, arguments.remove(0), span) {
            sql_type = value.sql_type();
            done.insert(0, value);
            done.push(default);
        }
        (function, done, sql_type)
    }

    fn frame(
        &mut self,
        spec: Option<&ast::FrameSpec>,
        function: &WindowFunction,
        (order, at): (&[SortKey], At<'_>),
        span: Span,
    ) -> Result<Frame> {
        let Some(spec) = spec else {
            // Without an order all rows are peers: the usual frame is the entire partition.
            return Ok(Frame::usual());
        };
        if !function.uses_frame() {
            self.report(&Problem::FrameUnused { name: function.name() }, spec.span);
        }
        let place = |bound: &FrameBound<Box<ast::Expr>>| match bound {
            FrameBound::UnboundedPreceding => 0,
            FrameBound::Preceding(_) => 1,
            FrameBound::CurrentRow => 2,
            FrameBound::Following(_) => 3,
            FrameBound::UnboundedFollowing => 4,
        };
        if place(&spec.start) > place(&spec.end) || place(&spec.start) == 4 || place(&spec.end) == 0 {
            self.report(&Problem::FrameBackwards, spec.span);
        }
        let measured = matches!(spec.start, FrameBound::Preceding(_) | FrameBound::Following(_))
            || matches!(spec.end, FrameBound::Preceding(_) | FrameBound::Following(_));
        if spec.unit == FrameUnit::Range && measured && order.len() != 1 {
            self.report(&Problem::RangeNeedsOneKey { found: order.len() }, spec.span);
        }
        if spec.unit == FrameUnit::Groups && order.is_empty() {
            self.report(&Problem::WindowWithoutOrder { name: "a frame of GROUPS" }, span);
        }
        let key = order.first().map_or(SqlType::Null, |key| key.expr.sql_type());
        let start = self.frame_bound(&spec.start, spec.unit, key, at)?;
        let end = self.frame_bound(&spec.end, spec.unit, key, at)?;
        let exclude: FrameExclusion = spec.exclude;
        Ok(Frame { unit: spec.unit, start, end, exclude })
    }

    /// A distance is a count of rows or groups, or for RANGE what is added to the key.
    fn frame_bound(
        &mut self,
        bound: &FrameBound<Box<ast::Expr>>,
        unit: FrameUnit,
        key: SqlType,
        at: At<'_>,
    ) -> Result<FrameBound<Expr>> {
        let mut distance = |expr: &ast::Expr| -> Result<Expr> {
            let bound = self.expr(expr, at)?;
            let target = match (unit, key) {
                (FrameUnit::Rows | FrameUnit::Groups, _) => SqlType::BigInt,
                (FrameUnit::Range, key) if key.is_number() => key,
                (FrameUnit::Range, key) if key.is_datetime() || key.is_interval() => {
                    let found = bound.sql_type();
                    let fits = if key.is_datetime() { found.is_interval() } else { found == key };
                    if !fits {
                        let problem =
                            Problem::WrongType { what: "the distance of RANGE".into(), expected: "an interval", found };
                        return Ok(self.report(&problem, expr.span));
                    }
                    return Ok(bound);
                }
                (FrameUnit::Range, found) => {
                    let expected = "a number, day or time to order by";
                    return Ok(self.report(
                        &Problem::WrongType { what: "the distance of RANGE".into(), expected, found },
                        expr.span,
                    ));
                }
            };
            if !bound.sql_type().is_number() && bound.sql_type() != SqlType::Null {
                let problem = Problem::WrongType {
                    what: "the distance of a frame".into(),
                    expected: "a number",
                    found: bound.sql_type(),
                };
                return Ok(self.report(&problem, expr.span));
            }
            let negative = matches!(bound.constant(), Some(Value::Integer(value)) if *value < 0)
                || matches!(bound.kind(), ExprKind::Negate(_));
            if negative {
                self.report(&Problem::NegativeDistance, expr.span);
            }
            // A distance beside a key of fewer digits keeps its own.
            let target = match (target, bound.sql_type()) {
                (key @ SqlType::Numeric { .. }, own) => key.common(own).unwrap_or(key),
                (key, own) if key.is_integer() && own.is_number() && unit == FrameUnit::Range => {
                    key.common(own).unwrap_or(key)
                }
                (key, _) => key,
            };
            Ok(if super::convert::is_unsettled(&bound) {
                self.coerce(bound, target)
            } else {
                self.convert(bound, target)
            })
        };
        Ok(match bound {
            FrameBound::UnboundedPreceding => FrameBound::UnboundedPreceding,
            FrameBound::Preceding(expr) => FrameBound::Preceding(distance(expr)?),
            FrameBound::CurrentRow => FrameBound::CurrentRow,
            FrameBound::Following(expr) => FrameBound::Following(distance(expr)?),
            FrameBound::UnboundedFollowing => FrameBound::UnboundedFollowing,
        })
    }

    /// One operator for each window; functions of the same window share it.
    pub(super) fn windows(&mut self, mut plan: LogicalPlan, windows: Vec<(ColumnId, BoundWindow)>) -> LogicalPlan {
        let mut groups: Vec<(BoundWindow, Vec<(ColumnId, WindowCall)>)> = Vec::new();
        for (id, mut window) in windows {
            let Some(call) = window.call.take() else { continue };
            match groups.iter_mut().find(|(known, _)| known.same_window(&window)) {
                Some((_, calls)) => calls.push((id, call)),
                None => groups.push((window, vec![(id, call)])),
            }
        }
        for (window, calls) in groups {
            // Queries inside the window's expressions are taken up by the rows below it.
            let mut input = Some(plan);
            let mut attach = |expr: Expr| {
                let (next, expr) = self.attach(input.take().unwrap_or(LogicalPlan::OneRow), expr);
                input = Some(next);
                Ok::<_, std::convert::Infallible>(expr)
            };
            let Ok(window) = window.map_exprs(&mut attach);
            let calls = calls.into_iter().map(|(id, call)| {
                let Ok(call) = call.map_exprs(&mut attach);
                (id, call)
            });
            let calls = calls.collect();
            let BoundWindow { partition, order, .. } = window;
            plan =
                LogicalPlan::Window { input: Box::new(input.unwrap_or(LogicalPlan::OneRow)), partition, order, calls };
        }
        plan
    }

    /// What the text of an expression of the SELECT list is computed from.
    pub(super) fn computed(&self, (expression, alias): (&str, &str), clause: Clause) -> Computed {
        let has = |wanted: &dyn Fn(&str) -> bool| crate::syntax::words(expression).iter().any(|word| wanted(word));
        if has(&|word| word.eq_ignore_ascii_case("OVER")) {
            return Computed::Window(self.window_outside((expression, alias), clause));
        }
        if has(&|word| self.aggregate_function(word).is_some()) { Computed::Group } else { Computed::Row }
    }

    /// The query that was probably meant by a window function in a condition: a step that computes it, filtered outside.
    fn window_outside(&self, (window, name): (&str, &str), clause: Clause) -> String {
        let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        let (from, window) = (flat(self.text(self.level.from)), flat(window));
        let condition =
            if clause == Clause::GroupBy { format!("GROUP BY {name}") } else { format!("WHERE {name} = …") };
        let inner = if self.level.from == Span::default() {
            // Without FROM there is no * either.
            format!("SELECT {window} AS {name}")
        } else {
            format!("SELECT *, {window} AS {name} {from}")
        };
        format!("WITH placed AS ({inner}) SELECT * FROM placed {condition}")
    }
}
