use super::scope::{At, Clause, Scope};
use super::{BareName, Binder, problem::Problem};
use crate::diagnostic::{Result, Span};
use crate::logical::{ArrayFunction, Expr, ExprKind, Function, RegexFunction, TextFunction, ZoneFunction};
use crate::syntax::ast::{self, Ident, Now};
use crate::types::{ExtractField, MICROS_PER_DAY, SqlType, Value};

/// The predicates that periods stand in.
const PERIOD_TESTS: &str = "OVERLAPS, EQUALS, CONTAINS, PRECEDES and SUCCEEDS";

impl Binder<'_> {
    /// Binds an expression.
    pub(super) fn expr(&mut self, expr: &ast::Expr, at: At<'_>) -> Result<Expr> {
        use ast::ExprKind as K;
        let span = expr.span;
        let bare_name = std::mem::take(&mut self.bare_name);
        Ok(match &expr.kind {
            K::Name(name) => self.name(name, bare_name, at, span),
            K::Literal(value, sql_type) => Expr::literal(value.clone(), *sql_type, span),
            K::Parameter(name) => self.parameter(name, span),
            K::Now(now) => self.now(*now, span),
            K::And(terms) => self.conjunction(terms, at, span)?,
            K::Or(terms) => self.disjunction(terms, at, span)?,
            K::Not(operand) => self.of(operand, at, |this, operand| this.condition(operand, "NOT").negated(true))?,
            K::Compare(op, operands) => self.comparison(*op, operands, at, span)?,
            K::Between { operands, negated, symmetric } => {
                self.between(operands, *symmetric, at, span)?.negated(*negated)
            }
            K::In { operand, list, negated } => {
                if *negated {
                    self.note_null_in_list(operand, list, span);
                }
                self.in_list(operand, list, at, span)?.negated(*negated)
            }
            K::Like { operands, escape, negated } => {
                self.like(operands, escape.as_deref(), at, span)?.negated(*negated)
            }
            K::Is { operand, test, negated } => self.is(operand, (*test, *negated), at, span)?,
            K::Distinct { operands, negated } => self.distinct_from(operands, at, span)?.negated(!*negated),
            K::Similar { operands, escape, negated } => {
                let operands = [Some(&operands.left), Some(&operands.right), escape.as_deref()];
                self.pattern(RegexFunction::Similar, operands, at, span)?.negated(*negated)
            }
            K::LikeRegex { operands, flag, negated } => {
                let operands = [Some(&operands.left), Some(&operands.right), flag.as_deref()];
                self.pattern(RegexFunction::LikeRegex, operands, at, span)?.negated(*negated)
            }
            K::Overlaps(parts) => self.overlaps(parts, at, span)?,
            K::PeriodTest(op, operands) => self.period_test(*op, operands, at, span)?,
            K::Period(_) => self.report(&Problem::PeriodAlone { ops: PERIOD_TESTS }, span),
            K::Exists(query) => self.exists(query, at, span)?,
            K::Unique(query, nulls_equal) => self.unique(query, *nulls_equal, at, span)?,
            K::InQuery { operand, query, negated } => {
                self.in_query(operand, (query, *negated), at, span)?.negated(*negated)
            }
            K::Quantified { op, operand, all, query } => self.quantified((*op, *all), operand, query, (at, span))?,
            K::Subquery(query) => {
                let is_operand = bare_name == BareName::PerhapsText;
                self.scalar_subquery((query, is_operand), at, span)?
            }
            K::ArrayQuery(query) => self.array_subquery(query, at, span)?,
            K::Arithmetic(op, operands) => self.arithmetic_of(*op, operands, at, span)?,
            K::Concat(operands) => self.concatenation(operands, at, span)?,
            K::Negate(operand) => self.of(operand, at, |this, operand| this.negate(operand, span))?,
            K::Case(case) => self.case(case, at, span)?,
            K::CaseOperand => self.case_operands.last().cloned().unwrap_or_else(|| super::stand_in(span)),
            K::Cast(operand, target, None) => self.cast_of(operand, *target, at, span)?,
            K::Cast(operand, target, Some(format)) => {
                self.of(operand, at, |this, operand| this.cast_by_format(operand, *target, format, span))?
            }
            K::CastToDomain(operand, domain) => {
                let operand = self.expr(operand, at)?;
                self.cast_to_domain(operand, domain, span)?
            }
            K::CastToFields(operand, fields) => self.cast_to_fields(operand, *fields, at, span)?,
            K::Difference(operand, target) => self.difference(operand, *target, at, span)?,
            K::Extract(field, operand) => self.extract(*field, operand, at, span)?,
            K::TruncateTo(unit, operand) => {
                self.of(operand, at, |this, operand| this.truncated(*unit, operand, span))?
            }
            K::AtZone(operand, zone) => self.zoned(operand, zone.as_deref(), at, span)?,
            K::Row(fields) => self.row(fields, at, span)?,
            K::Field(operand, name) => self.of(operand, at, |this, operand| this.field(operand, name, span))?,
            K::Array(elements) => self.array(elements, at, span)?,
            K::Element(operands) => {
                let args = vec![self.expr(&operands.left, at)?, self.expr(&operands.right, at)?];
                self.function(Function::Array(ArrayFunction::Element), args, span)
            }
            K::NextValue(name) => self.next_value(name, at.clause, span),
            K::Call(call) => self.call(call, at, span)?,
            K::Form(form, args) => self.form(*form, args, at, span)?,
            K::Nested(nested) => self.nested_function(nested, at, span)?,
        })
    }

    fn conjunction(&mut self, terms: &[ast::Expr], at: At<'_>, span: Span) -> Result<Expr> {
        self.note_contradiction(terms);
        Ok(Expr::and(self.conditions(terms, at)?, span))
    }

    fn disjunction(&mut self, terms: &[ast::Expr], at: At<'_>, span: Span) -> Result<Expr> {
        self.note_mixed_and_or(terms, span);
        Ok(Expr::or(self.conditions(terms, at)?, span))
    }

    /// What `make` makes of a bound operand.
    fn of(&mut self, operand: &ast::Expr, at: At<'_>, make: impl FnOnce(&mut Self, Expr) -> Expr) -> Result<Expr> {
        let operand = self.expr(operand, at)?;
        Ok(make(self, operand))
    }

    fn concatenation(&mut self, operands: &ast::Operands, at: At<'_>, span: Span) -> Result<Expr> {
        let (left, right) = (self.expr(&operands.left, at)?, self.expr(&operands.right, at)?);
        Ok(self.concat(left, right, span))
    }

    fn arithmetic_of(
        &mut self,
        op: ast::ArithmeticOp,
        operands: &ast::Operands,
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let (left, right) = (self.expr(&operands.left, at)?, self.expr(&operands.right, at)?);
        if !self.check_days(operands, (&left, &right), (at.scope, span)) {
            return Ok(super::stand_in(span));
        }
        Ok(self.arithmetic(op, left, right, span))
    }

    fn form(&mut self, form: ast::Form, args: &[ast::Expr], at: At<'_>, span: Span) -> Result<Expr> {
        let args = self.all(args, at)?;
        Ok(self.function(function_of(form), args, span))
    }

    /// SIMILAR and `LIKE_REGEX`, with the escape character or the flags where they are written.
    fn pattern(
        &mut self,
        function: RegexFunction,
        operands: [Option<&ast::Expr>; 3],
        at: At<'_>,
        span: Span,
    ) -> Result<Expr> {
        let args = operands.into_iter().flatten().map(|operand| self.expr(operand, at)).collect::<Result<_>>()?;
        Ok(self.function(Function::Regex(function), args, span))
    }

    fn cast_of(&mut self, written: &ast::Expr, target: SqlType, at: At<'_>, span: Span) -> Result<Expr> {
        let operand = self.expr(written, at)?;
        Ok(if operand.sql_type().is_interval() && target.is_exact() {
            self.number_of_interval((written, operand), target, (at.scope, span))
        } else {
            self.cast(operand, target, span)
        })
    }

    fn row(&mut self, fields: &[ast::Expr], at: At<'_>, span: Span) -> Result<Expr> {
        let fields = self.all(fields, at)?;
        let sql_type = SqlType::row_of_types(fields.iter().map(Expr::sql_type));
        Ok(Expr::new(ExprKind::Row(fields), sql_type, span))
    }

    fn array(&mut self, elements: &[ast::Expr], at: At<'_>, span: Span) -> Result<Expr> {
        let elements = self.all(elements, at)?;
        let (elements, element) = self.unify_all(elements, "ARRAY");
        let element = if element == SqlType::Null { SqlType::TEXT } else { element };
        let elements = elements.into_iter().map(|part| self.coerce(part, element)).collect();
        Ok(Expr::new(ExprKind::Array(elements), SqlType::array_of(element), span))
    }

    fn extract(&mut self, field: ExtractField, operand: &ast::Expr, at: At<'_>, span: Span) -> Result<Expr> {
        let operand = self.expr(operand, at)?;
        if matches!(field, ExtractField::TimezoneHour | ExtractField::TimezoneMinute) {
            return Ok(self.zone_field(field, operand, span));
        }
        let operand = self.local_time(operand);
        Ok(self.function(Function::Extract(field), vec![operand], span))
    }

    /// AT TIME ZONE, or AT LOCAL without one.
    fn zoned(&mut self, operand: &ast::Expr, zone: Option<&ast::Expr>, at: At<'_>, span: Span) -> Result<Expr> {
        let mut args = vec![self.expr(operand, at)?];
        let function = if let Some(zone) = zone {
            args.push(self.expr(zone, at)?);
            ZoneFunction::AtZone
        } else {
            ZoneFunction::AtLocal
        };
        Ok(self.function(Function::Zone(function), args, span))
    }

    /// Binds several expressions of one clause.
    pub(super) fn all(&mut self, exprs: &[ast::Expr], at: At<'_>) -> Result<Vec<Expr>> {
        exprs.iter().map(|expr| self.expr(expr, at)).collect()
    }

    /// A bare NULL or parameter whose place asks for no type is text.
    pub(super) fn settled(&mut self, expr: Expr) -> Expr {
        if expr.sql_type() == SqlType::Null { self.coerce(expr, SqlType::TEXT) } else { expr }
    }

    /// `(row).name`
    fn field(&mut self, operand: Expr, name: &Ident, span: Span) -> Expr {
        let SqlType::Row(fields) = operand.sql_type() else {
            let found = operand.sql_type();
            return self
                .report(&Problem::WrongType { what: format!(".{}", name.text), expected: "a row", found }, span);
        };
        match fields.iter().position(|field| name.matches(&field.name)) {
            Some(place) => Expr::new(ExprKind::Field(Box::new(operand), place), fields[place].sql_type, span),
            None => {
                let known = fields.iter().map(|field| field.name.clone()).collect();
                self.report(&Problem::NoSuchField { name: name.text.clone(), known }, name.span)
            }
        }
    }

    /// `(a, b) OVERLAPS (c, d)`: an end that is an interval counts from its start; the earlier of the two is the start (clause 8.14).
    fn overlaps(&mut self, parts: &[ast::Expr; 4], at: At<'_>, span: Span) -> Result<Expr> {
        use ast::CompareOp::{Equal, Greater, GreaterOrEqual};
        let mut periods = Vec::new();
        for pair in parts.chunks(2) {
            let (start, mut end) = (self.expr(&pair[0], at)?, self.expr(&pair[1], at)?);
            if end.sql_type().is_interval() {
                end = self.arithmetic(ast::ArithmeticOp::Add, start.clone(), end, span);
            }
            // The period runs from the earlier to the later; a NULL end makes it the one point known.
            let swap = self.compare(Greater, start.clone(), end.clone(), span);
            let missing = Expr::new(ExprKind::Is(Box::new(start.clone()), ast::Test::Null), SqlType::Boolean, span);
            let Some((start, end)) = self.unify_pair(start, end, span) else { return Ok(super::stand_in(span)) };
            let swap = Expr::or([missing, swap], span);
            let choose = |a: &Expr, b: &Expr| {
                Expr::new(ExprKind::Case(vec![(swap.clone(), b.clone())], Box::new(a.clone())), a.sql_type(), span)
            };
            periods.push((choose(&start, &end), choose(&end, &start)));
        }
        let [(s1, t1), (s2, t2)] = <[(Expr, Expr); 2]>::try_from(periods).unwrap_or_else(|_| {
            let nothing = || super::stand_in(span);
            [(nothing(), nothing()), (nothing(), nothing())]
        });
        let mut test = |op, a: &Expr, b: &Expr| self.compare(op, a.clone(), b.clone(), span);
        let within = |first: Expr, past_end: Expr, tail: Expr| {
            Expr::and([first, Expr::or([past_end.negated(true), tail], span)], span)
        };
        // (S1 > S2 AND NOT (S1 >= T2 AND T1 >= T2)) OR (S2 > S1 AND NOT (S2 >= T1 AND T2 >= T1)) OR (S1 = S2 AND (T1 <> T2 OR T1 = T2))
        let first = within(
            test(Greater, &s1, &s2),
            test(GreaterOrEqual, &s1, &t2),
            test(GreaterOrEqual, &t1, &t2).negated(true),
        );
        let second = within(
            test(Greater, &s2, &s1),
            test(GreaterOrEqual, &s2, &t1),
            test(GreaterOrEqual, &t2, &t1).negated(true),
        );
        let ends = Expr::or([test(Equal, &t1, &t2).negated(true), test(Equal, &t1, &t2)], span);
        let third = Expr::and([test(Equal, &s1, &s2), ends], span);
        Ok(Expr::or([first, second, third], span))
    }

    fn conditions(&mut self, terms: &[ast::Expr], at: At<'_>) -> Result<Vec<Expr>> {
        terms
            .iter()
            .map(|term| {
                let bound = self.expr(term, at)?;
                Ok(self.condition(bound, "AND, OR and NOT"))
            })
            .collect()
    }

    fn name(&mut self, name: &[Ident], bare_name: BareName, at: At<'_>, span: Span) -> Expr {
        let At { scope, clause } = at;
        if matches!(clause, Clause::Fetch | Clause::Value | Clause::SystemTime) {
            let text = name.last().map_or("", |ident| ident.text.as_str());
            let expects = self.report(&Problem::ColumnInConstant { clause }, span);
            if let Some(last) = self.problems.pop() {
                let help = format!("if text was meant, write it in single quotes: '{text}'");
                self.problems.push(last.with_help(help).with_replacement(format!("'{text}'")));
            }
            return expects;
        }
        match scope.resolve(name) {
            Ok(id) => {
                self.note_text_reason(id, span);
                self.column(id, span)
            }
            Err(problem) => {
                if let Some(id) = self.resolve_outside(name, &problem) {
                    return self.column(id, span);
                }
                if let Some((id, fields)) = self.row_column(name, scope) {
                    let column = self.column(id, span);
                    return fields.iter().fold(column, |row, field| self.field(row, field, span));
                }
                if self.find_period(name, scope).is_some() {
                    return self.report(&Problem::PeriodAlone { ops: PERIOD_TESTS }, span);
                }
                let problem = self.explain_missing(problem, name, bare_name, clause);
                self.problems.push(super::table::about_name(&problem, name, span));
                super::stand_in(span)
            }
        }
    }

    /// The column of rows that a name begins with, and the fields after it: `bed.place.x`.
    fn row_column<'n>(&self, name: &'n [Ident], scope: &Scope) -> Option<(crate::logical::ColumnId, &'n [Ident])> {
        (1..name.len()).rev().find_map(|at| {
            let (column, fields) = name.split_at(at);
            let outside = || self.outer.iter().rev().find_map(|outer| outer.scope.resolve(column).ok());
            let id = scope.resolve(column).ok().or_else(outside)?;
            matches!(self.columns.get(id).sql_type, SqlType::Row(_)).then_some((id, fields))
        })
    }

    /// What a name that the query itself does not know means to the queries around it, the innermost first.
    fn resolve_outside(&self, name: &[Ident], problem: &Problem) -> Option<crate::logical::ColumnId> {
        if !matches!(problem, Problem::NoSuchColumn { .. } | Problem::NoSuchCorrelation { .. }) {
            return None;
        }
        self.outer.iter().rev().find_map(|outer| outer.scope.resolve(name).ok())
    }

    /// Looks for what may have been meant by a name that is not a column.
    fn explain_missing(&self, problem: Problem, name: &[Ident], bare_name: BareName, clause: Clause) -> Problem {
        match (problem, name) {
            (Problem::NoSuchColumn { name: text, tables, near, .. }, [ident]) => {
                let alias = self.level.aliases.iter().find(|(alias, _)| ident.matches(&alias.text));
                if let Some((_, span)) = alias
                    && clause != Clause::Select
                {
                    let expression = self.text(*span).to_owned();
                    let computed = self.computed((&expression, &text), clause);
                    return Problem::AliasTooEarly { name: text, clause, expression, computed };
                }
                Problem::NoSuchColumn {
                    name: text,
                    tables,
                    near,
                    meant_text: bare_name == BareName::PerhapsText || ident.quoted,
                }
            }
            (problem, _) => problem,
        }
    }

    fn now(&self, now: Now, span: Span) -> Expr {
        let (micros, local) = (self.around.moment.micros, self.local_now());
        let (value, sql_type) = match now {
            Now::Date => {
                let days = i32::try_from(local.div_euclid(MICROS_PER_DAY)).unwrap_or(i32::MAX);
                (Value::Date(days), SqlType::Date)
            }
            Now::TimeTz => (Value::TimeTz(micros.rem_euclid(MICROS_PER_DAY)), SqlType::TimeTz),
            Now::Time => (Value::Time(local.rem_euclid(MICROS_PER_DAY)), SqlType::Time),
            Now::Timestamp => (Value::Instant(micros), SqlType::TimestampTz),
            Now::LocalTimestamp => (Value::Timestamp(local), SqlType::Timestamp),
            Now::User => (Value::Text(self.around.user.to_owned()), SqlType::TEXT),
            Now::Role => (Value::Null, SqlType::TEXT),
            Now::Schema => (Value::Text(self.around.schema.to_owned()), SqlType::TEXT),
            Now::Catalog => (Value::Text(super::information_schema::CATALOG.to_owned()), SqlType::TEXT),
        };
        Expr::literal(value, sql_type, span)
    }

    /// `CAST(operand AS target)`, where there is such a conversion (ISO/IEC 9075-2, 6.13).
    pub(super) fn cast(&mut self, operand: Expr, target: SqlType, span: Span) -> Expr {
        let keeps_zone = matches!(target, SqlType::TimestampTz | SqlType::TimeTz);
        let operand = if keeps_zone { operand } else { super::zone::local_of_zone(operand) };
        let from = operand.sql_type();
        if super::convert::is_unsettled(&operand) {
            return self.coerce(operand, target);
        }
        if from == SqlType::Null {
            return self.convert(operand, target);
        }
        if matches!(from, SqlType::Time | SqlType::TimeTz)
            && matches!(target, SqlType::Timestamp | SqlType::TimestampTz)
        {
            return self.time_of_today(operand, target, span);
        }
        if !castable(from, target) {
            return self.report(&Problem::NoCast { from, to: target }, span);
        }
        let zoned = self.across_zones(operand, target);
        if zoned.sql_type() == target && from != target {
            return zoned;
        }
        Expr::new(ExprKind::Cast(Box::new(zoned)), target, span)
    }
}

/// The table of clause 6.13, syntax rule 6, for the types there are.
pub fn castable(from: SqlType, to: SqlType) -> bool {
    use SqlType as T;
    match (from, to) {
        (a, b) if a == b => true,
        (T::Null, _) => true,
        (T::Array(a), T::Array(b)) => castable(*a, *b),
        (T::Row(a), T::Row(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| castable(a.sql_type, b.sql_type)),
        (T::Array(_) | T::Row(_), _) | (_, T::Array(_) | T::Row(_)) => false,
        (a, b) if a.is_binary() && b.is_binary() => true,
        (T::Uuid | T::IpAddress, b) if b.is_binary() => true,
        (a, T::Uuid | T::IpAddress) if a.is_binary() => true,
        (a, b) if a.is_binary() || b.is_binary() => false,
        (a, b) if a.is_text() || b.is_text() => true,
        (a, b) if a.is_number() && b.is_number() => true,
        (T::YearMonth | T::DayTime, b) if b.is_exact() => false,
        (T::Date, T::Timestamp | T::TimestampTz) => true,
        (T::Timestamp | T::TimestampTz, T::Date | T::Time | T::TimeTz | T::Timestamp | T::TimestampTz) => true,
        (T::Time | T::TimeTz, T::Time | T::TimeTz) => true,
        _ => false,
    }
}

/// The function that a form is.
fn function_of(form: ast::Form) -> Function {
    use ast::Form as F;
    match form {
        F::Substring => Function::Text(TextFunction::Substring),
        F::Position => Function::Text(TextFunction::Position),
        F::Overlay => Function::Text(TextFunction::Overlay),
        F::Trim(side) => Function::Text(TextFunction::Trim(side)),
        F::Translate => Function::Text(TextFunction::Translate),
        F::Normalize => Function::Text(TextFunction::Normalize),
        F::IsNormalized => Function::Text(TextFunction::IsNormalized),
        F::SubstringSimilar => Function::Regex(RegexFunction::SubstringSimilar),
        F::OccurrencesRegex => Function::Regex(RegexFunction::OccurrencesRegex),
        F::PositionRegex => Function::Regex(RegexFunction::PositionRegex),
        F::PositionRegexAfter => Function::Regex(RegexFunction::PositionRegexAfter),
        F::SubstringRegex => Function::Regex(RegexFunction::SubstringRegex),
        F::TranslateRegex => Function::Regex(RegexFunction::TranslateRegex),
        F::Greatest => Function::Greatest,
        F::Least => Function::Least,
        F::SecondDigits => Function::SecondDigits,
        F::ArrayLimit => Function::Array(ArrayFunction::ArrayLimit),
    }
}
