use super::{ArithmeticOp, ColumnId, CompareOp, Function, ParameterName, Subquery, SubqueryTest, Test, TextFunction};
use crate::catalog::ProgramFunction;
use crate::diagnostic::Span;
use crate::types::{SqlType, Value};
use std::sync::Arc;

/// A typed expression.
#[derive(Clone, Debug)]
pub struct Expr {
    kind: ExprKind,
    sql_type: SqlType,
    can_raise: bool,
    /// Whether nobody wrote it: it follows from other conditions.
    implied: bool,
    span: Span,
}

#[derive(Clone, Debug)]
pub enum ExprKind {
    Column(ColumnId),
    /// A column by its place in the batch; only in expressions that are about to run.
    Slot(usize),
    Literal(Value),
    /// A parameter and its value, if it has one.
    Parameter(ParameterName, Option<Value>),
    And(Vec<Expr>),
    Or(Vec<Expr>),
    Not(Box<Expr>),
    Compare(CompareOp, Box<[Expr; 2]>),
    /// `IS NOT DISTINCT FROM`: equality in which NULL equals NULL.
    Same(Box<[Expr; 2]>),
    Is(Box<Expr>, Test),
    Arithmetic(ArithmeticOp, Box<[Expr; 2]>),
    Concat(Box<[Expr; 2]>),
    Negate(Box<Expr>),
    /// Operand, pattern, and the escape character's expression.
    Like(Box<[Expr; 2]>, Option<Box<Expr>>),
    /// Operand and list, all of one type.
    In(Box<Expr>, Vec<Expr>),
    Case(Vec<(Expr, Expr)>, Box<Expr>),
    Coalesce(Vec<Expr>),
    Cast(Box<Expr>),
    Call(Function, Vec<Expr>),
    /// A function of the program.
    ProgramCall(Arc<ProgramFunction>, Vec<Expr>),
    /// The elements of an array, all of one type.
    Array(Vec<Expr>),
    /// The fields of a row.
    Row(Vec<Expr>),
    /// A field of a row, by its place.
    Field(Box<Expr>, usize),
    /// The first operand, unless the second is TRUE: then a query instead of a value had more than one row.
    Only(Box<[Expr; 2]>),
    /// Gone once the plan around it has taken it up.
    Subquery(Box<Subquery>),
}

impl Expr {
    /// An expression; whether it can raise an error and which columns it uses are computed now, once.
    pub fn new(kind: ExprKind, sql_type: SqlType, span: Span) -> Self {
        let mut can_raise = match &kind {
            // A decimal result with room to spare cannot overflow.
            ExprKind::Arithmetic(op, _) if *op != ArithmeticOp::Divide => {
                !matches!(sql_type, SqlType::Numeric { precision, .. } if precision < 38)
            }
            ExprKind::Arithmetic(..) => true,
            ExprKind::Negate(_) => !matches!(sql_type, SqlType::Numeric { .. }),
            ExprKind::Like(parts, escape) => escape.is_some() || !parts[1].is_constant(),
            ExprKind::Cast(operand) => !widens(operand.sql_type, sql_type),
            ExprKind::Call(function, _) => !matches!(
                function,
                Function::Text(TextFunction::Upper | TextFunction::Lower)
                    | Function::Text(
                        TextFunction::CharacterLength | TextFunction::OctetLength | TextFunction::Position
                    )
            ),
            ExprKind::ProgramCall(..) | ExprKind::Only(_) | ExprKind::Subquery(_) => true,
            _ => false,
        };
        kind.for_each_child(|child| can_raise |= child.can_raise);
        Self { kind, sql_type, can_raise, implied: false, span }
    }

    /// A column.
    pub fn column(id: ColumnId, sql_type: SqlType, span: Span) -> Self {
        Self::new(ExprKind::Column(id), sql_type, span)
    }

    /// A constant.
    pub fn literal(value: Value, sql_type: SqlType, span: Span) -> Self {
        Self::new(ExprKind::Literal(value), sql_type, span)
    }

    /// TRUE or FALSE.
    pub fn truth(value: bool, span: Span) -> Self {
        Self::literal(Value::Boolean(value), SqlType::Boolean, span)
    }

    /// The conjunction of `terms`: flat, without TRUE; TRUE when there is no term.
    pub fn and(terms: impl IntoIterator<Item = Self>, span: Span) -> Self {
        let mut flat = Vec::new();
        for term in terms {
            match term.kind {
                ExprKind::And(inner) => flat.extend(inner),
                ExprKind::Literal(Value::Boolean(true)) => {}
                _ => flat.push(term),
            }
        }
        Self::join_terms(flat, ExprKind::And, true, span)
    }

    /// The disjunction of `terms`: flat, without FALSE; FALSE when there is no term.
    pub fn or(terms: impl IntoIterator<Item = Self>, span: Span) -> Self {
        let mut flat = Vec::new();
        for term in terms {
            match term.kind {
                ExprKind::Or(inner) => flat.extend(inner),
                ExprKind::Literal(Value::Boolean(false)) => {}
                _ => flat.push(term),
            }
        }
        Self::join_terms(flat, ExprKind::Or, false, span)
    }

    fn join_terms(mut terms: Vec<Self>, make: fn(Vec<Self>) -> ExprKind, empty: bool, span: Span) -> Self {
        match terms.len() {
            0 => Self::truth(empty, span),
            1 => terms.remove(0),
            _ => Self::new(make(terms), SqlType::Boolean, span),
        }
    }

    /// `NOT self` where `negated`.
    pub fn negated(self, negated: bool) -> Self {
        if !negated {
            return self;
        }
        let span = self.span;
        Self::new(ExprKind::Not(Box::new(self)), SqlType::Boolean, span)
    }

    /// A comparison of two expressions of one type.
    pub fn compare(op: CompareOp, left: Self, right: Self, span: Span) -> Self {
        debug_assert_eq!(left.sql_type.arrow(), right.sql_type.arrow(), "keeps (2)");
        Self::new(ExprKind::Compare(op, Box::new([left, right])), SqlType::Boolean, span)
    }

    /// What it is.
    pub fn kind(&self) -> &ExprKind {
        &self.kind
    }

    /// Its type.
    pub fn sql_type(&self) -> SqlType {
        self.sql_type
    }

    /// Where it is written.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Whether evaluating it can fail for some row (overflow, division by zero, a cast of text).
    pub fn can_raise(&self) -> bool {
        self.can_raise
    }

    /// The same, marked as following from other conditions.
    pub fn implied(self) -> Self {
        Self { implied: true, ..self }
    }

    /// Whether it follows from other conditions.
    pub fn is_implied(&self) -> bool {
        self.implied
    }

    /// Whether it is a literal, or a parameter that has its value.
    pub fn is_constant(&self) -> bool {
        self.constant().is_some()
    }

    /// The value of a literal or of a parameter that has one.
    pub fn constant(&self) -> Option<&Value> {
        match &self.kind {
            ExprKind::Literal(value) | ExprKind::Parameter(_, Some(value)) => Some(value),
            _ => None,
        }
    }

    /// The terms of a conjunction; a single one when it is none.
    pub fn into_conjuncts(self) -> Vec<Self> {
        match self.kind {
            ExprKind::And(terms) => terms,
            ExprKind::Literal(Value::Boolean(true)) => Vec::new(),
            _ => vec![self],
        }
    }

    /// Calls `visit` for this node and all below it, parents first.
    pub fn walk(&self, visit: &mut impl FnMut(&Self)) {
        visit(self);
        self.kind.for_each_child(|child| child.walk(visit));
    }

    /// Every column used, once, in order of first use; of a query inside, those of the rows around it.
    pub fn columns(&self) -> Vec<ColumnId> {
        let mut found = Vec::new();
        let add = |found: &mut Vec<ColumnId>, id| {
            if !found.contains(&id) {
                found.push(id);
            }
        };
        self.walk(&mut |expr| match &expr.kind {
            ExprKind::Column(id) => add(&mut found, *id),
            ExprKind::Subquery(subquery) => subquery.plan.free().into_iter().for_each(|id| add(&mut found, id)),
            _ => {}
        });
        found
    }

    /// Whether a query appears anywhere in it.
    pub fn has_subquery(&self) -> bool {
        let mut found = false;
        self.walk(&mut |expr| found |= matches!(expr.kind, ExprKind::Subquery(_)));
        found
    }

    /// The same expression over other columns.
    pub fn map_columns(self, change: &mut impl FnMut(ColumnId) -> ColumnId) -> Self {
        match self.kind {
            ExprKind::Column(id) => Self::column(change(id), self.sql_type, self.span),
            ExprKind::Subquery(subquery) => {
                let plan = subquery.plan.map_columns(change);
                let test = match subquery.test {
                    SubqueryTest::Scalar(column) => SubqueryTest::Scalar(change(column)),
                    SubqueryTest::Exists => SubqueryTest::Exists,
                    SubqueryTest::Any { op, operands, columns } => SubqueryTest::Any {
                        op,
                        operands: operands.into_iter().map(|operand| operand.map_columns(change)).collect(),
                        columns: columns.into_iter().map(&mut *change).collect(),
                    },
                };
                let number = subquery.number;
                Self::new(ExprKind::Subquery(Box::new(Subquery { number, test, plan })), self.sql_type, self.span)
            }
            _ => {
                let Ok(mapped) =
                    self.map_children(&mut |child| Ok::<_, std::convert::Infallible>(child.map_columns(change)));
                mapped
            }
        }
    }

    /// The same expression with some columns replaced by expressions.
    pub fn replace_columns(self, with: &impl Fn(ColumnId) -> Option<Self>) -> Self {
        if let ExprKind::Column(id) = self.kind {
            return with(id).unwrap_or(self);
        }
        let Ok(mapped) = self.map_children(&mut |child| Ok::<_, std::convert::Infallible>(child.replace_columns(with)));
        mapped
    }

    /// The same node with each child replaced, rebuilt through the constructors.
    pub fn map_children<E>(self, change: &mut impl FnMut(Self) -> Result<Self, E>) -> Result<Self, E> {
        let mut pair = |parts: Box<[Self; 2]>| -> Result<Box<[Self; 2]>, E> {
            let [a, b] = *parts;
            Ok(Box::new([change(a)?, change(b)?]))
        };
        let kind = match self.kind {
            kind @ (ExprKind::Column(_) | ExprKind::Slot(_) | ExprKind::Literal(_) | ExprKind::Parameter(..)) => kind,
            ExprKind::And(terms) => {
                let terms: Vec<Self> = terms.into_iter().map(change).collect::<Result<_, E>>()?;
                return Ok(Self::and(terms, self.span));
            }
            ExprKind::Or(terms) => {
                let terms: Vec<Self> = terms.into_iter().map(change).collect::<Result<_, E>>()?;
                return Ok(Self::or(terms, self.span));
            }
            ExprKind::Not(operand) => ExprKind::Not(Box::new(change(*operand)?)),
            ExprKind::Compare(op, parts) => ExprKind::Compare(op, pair(parts)?),
            ExprKind::Same(parts) => ExprKind::Same(pair(parts)?),
            ExprKind::Is(operand, test) => ExprKind::Is(Box::new(change(*operand)?), test),
            ExprKind::Arithmetic(op, parts) => ExprKind::Arithmetic(op, pair(parts)?),
            ExprKind::Concat(parts) => ExprKind::Concat(pair(parts)?),
            ExprKind::Negate(operand) => ExprKind::Negate(Box::new(change(*operand)?)),
            ExprKind::Like(parts, escape) => {
                let parts = pair(parts)?;
                ExprKind::Like(parts, escape.map(|escape| change(*escape).map(Box::new)).transpose()?)
            }
            ExprKind::In(operand, list) => {
                let operand = Box::new(change(*operand)?);
                ExprKind::In(operand, list.into_iter().map(change).collect::<Result<_, E>>()?)
            }
            ExprKind::Case(branches, otherwise) => {
                let branches = branches
                    .into_iter()
                    .map(|(condition, value)| Ok((change(condition)?, change(value)?)))
                    .collect::<Result<_, E>>()?;
                ExprKind::Case(branches, Box::new(change(*otherwise)?))
            }
            ExprKind::Coalesce(terms) => ExprKind::Coalesce(terms.into_iter().map(change).collect::<Result<_, E>>()?),
            ExprKind::Cast(operand) => ExprKind::Cast(Box::new(change(*operand)?)),
            ExprKind::Call(function, terms) => {
                ExprKind::Call(function, terms.into_iter().map(change).collect::<Result<_, E>>()?)
            }
            ExprKind::ProgramCall(function, terms) => {
                ExprKind::ProgramCall(function, terms.into_iter().map(change).collect::<Result<_, E>>()?)
            }
            ExprKind::Array(terms) => ExprKind::Array(terms.into_iter().map(change).collect::<Result<_, E>>()?),
            ExprKind::Row(terms) => ExprKind::Row(terms.into_iter().map(change).collect::<Result<_, E>>()?),
            ExprKind::Field(operand, place) => ExprKind::Field(Box::new(change(*operand)?), place),
            ExprKind::Only(parts) => ExprKind::Only(pair(parts)?),
            ExprKind::Subquery(mut subquery) => {
                if let SubqueryTest::Any { operands, .. } = &mut subquery.test {
                    *operands = std::mem::take(operands).into_iter().map(change).collect::<Result<_, E>>()?;
                }
                ExprKind::Subquery(subquery)
            }
        };
        Ok(Self::new(kind, self.sql_type, self.span))
    }

    /// Whether both say the same, wherever they were written (used for GROUP BY, clause 7.12).
    pub fn same_as(&self, other: &Self) -> bool {
        use ExprKind as K;
        let all = |a: &[Self], b: &[Self]| a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.same_as(b));
        self.sql_type == other.sql_type
            && match (&self.kind, &other.kind) {
                (K::Column(a), K::Column(b)) => a == b,
                (K::Slot(a), K::Slot(b)) => a == b,
                (K::Literal(a), K::Literal(b)) => a == b,
                (K::Parameter(a, _), K::Parameter(b, _)) => a == b,
                (K::And(a), K::And(b)) | (K::Or(a), K::Or(b)) | (K::Coalesce(a), K::Coalesce(b)) => all(a, b),
                (K::Not(a), K::Not(b)) | (K::Negate(a), K::Negate(b)) | (K::Cast(a), K::Cast(b)) => a.same_as(b),
                (K::Compare(op, a), K::Compare(other, b)) => op == other && all(a.as_slice(), b.as_slice()),
                (K::Arithmetic(op, a), K::Arithmetic(other, b)) => op == other && all(a.as_slice(), b.as_slice()),
                (K::Call(f, a), K::Call(g, b)) => f == g && all(a, b),
                (K::ProgramCall(f, a), K::ProgramCall(g, b)) => Arc::ptr_eq(f, g) && all(a, b),
                (K::Array(a), K::Array(b)) | (K::Row(a), K::Row(b)) => all(a, b),
                (K::Field(a, i), K::Field(b, j)) => i == j && a.same_as(b),
                (K::Only(a), K::Only(b)) => all(a.as_slice(), b.as_slice()),
                (K::Same(a), K::Same(b)) | (K::Concat(a), K::Concat(b)) => all(a.as_slice(), b.as_slice()),
                (K::Is(a, test), K::Is(b, other)) => test == other && a.same_as(b),
                (K::Like(a, x), K::Like(b, y)) => {
                    all(a.as_slice(), b.as_slice())
                        && x.is_some() == y.is_some()
                        && x.iter().zip(y).all(|(x, y)| x.same_as(y))
                }
                (K::In(a, list), K::In(b, other)) => a.same_as(b) && all(list, other),
                (K::Case(a, x), K::Case(b, y)) => {
                    x.same_as(y)
                        && a.len() == b.len()
                        && a.iter().zip(b).all(|(a, b)| a.0.same_as(&b.0) && a.1.same_as(&b.1))
                }
                _ => false,
            }
    }
}

impl ExprKind {
    /// Visits the operands in the order in which they are written.
    pub fn for_each_child(&self, mut visit: impl FnMut(&Expr)) {
        match self {
            Self::Column(_) | Self::Slot(_) | Self::Literal(_) | Self::Parameter(..) => {}
            Self::And(terms)
            | Self::Or(terms)
            | Self::Coalesce(terms)
            | Self::Call(_, terms)
            | Self::ProgramCall(_, terms)
            | Self::Array(terms)
            | Self::Row(terms) => terms.iter().for_each(visit),
            Self::Subquery(subquery) => subquery.operands().iter().for_each(visit),
            Self::Field(operand, _) => visit(operand),
            Self::Not(operand) | Self::Negate(operand) | Self::Cast(operand) | Self::Is(operand, _) => visit(operand),
            Self::Compare(_, parts)
            | Self::Same(parts)
            | Self::Arithmetic(_, parts)
            | Self::Concat(parts)
            | Self::Only(parts) => {
                parts.iter().for_each(visit);
            }
            Self::Like(parts, escape) => {
                parts.iter().for_each(&mut visit);
                escape.iter().for_each(|escape| visit(escape));
            }
            Self::In(operand, list) => {
                visit(operand);
                list.iter().for_each(visit);
            }
            Self::Case(branches, otherwise) => {
                for (condition, value) in branches {
                    visit(condition);
                    visit(value);
                }
                visit(otherwise);
            }
        }
    }
}

/// Whether every value of `from` is a value of `to`, so that the cast cannot fail.
fn widens(from: SqlType, to: SqlType) -> bool {
    from == SqlType::Null || to == SqlType::TEXT || from.common(to) == Some(to) && to.digits() < Some((38, 0))
}
