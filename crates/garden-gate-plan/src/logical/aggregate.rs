use super::{AggregateFunction, Expr, SortKey};
use crate::catalog::ProgramAggregate;
use crate::diagnostic::Span;
use crate::types::SqlType;
use std::sync::Arc;

/// What LISTAGG does with text past its limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Overflow {
    Error,
    Truncate { filler: String, with_count: bool },
}

/// One aggregate of a grouping.
#[derive(Clone, Debug)]
pub struct Aggregate {
    pub function: AggregateFunction,
    /// None for `COUNT(*)` and MODE, two for the functions of pairs.
    pub arguments: Vec<Expr>,
    pub distinct: bool,
    /// Rows for which it is not TRUE are omitted.
    pub filter: Option<Expr>,
    /// The order of the group's rows, where it matters.
    pub order: Vec<SortKey>,
    pub overflow: Overflow,
    /// The program's function, where it is one.
    pub program: Option<Arc<ProgramAggregate>>,
    pub sql_type: SqlType,
    pub span: Span,
}

impl Aggregate {
    /// An aggregate of at most one argument and nothing else.
    pub fn plain(function: AggregateFunction, argument: Option<Expr>, sql_type: SqlType, span: Span) -> Self {
        let (distinct, filter, order, overflow) = (false, None, Vec::new(), Overflow::Error);
        let (arguments, program) = (argument.into_iter().collect(), None);
        Self { function, arguments, distinct, filter, order, overflow, program, sql_type, span }
    }

    /// The name of its function.
    pub fn name(&self) -> &str {
        self.program.as_ref().map_or(self.function.name(), |program| &program.name)
    }

    /// Whether two aggregates give the same value of the same rows.
    pub fn same_as(&self, other: &Self) -> bool {
        let all = |a: &[Expr], b: &[Expr]| a.len() == b.len() && a.iter().zip(b).all(|(a, b)| a.same_as(b));
        let key =
            |(a, b): (&SortKey, &SortKey)| a.expr.same_as(&b.expr) && (a.direction, a.nulls) == (b.direction, b.nulls);
        self.function == other.function
            && self.name() == other.name()
            && self.distinct == other.distinct
            && self.overflow == other.overflow
            && all(&self.arguments, &other.arguments)
            && all(self.filter.as_slice(), other.filter.as_slice())
            && self.order.len() == other.order.len()
            && self.order.iter().zip(&other.order).all(key)
    }

    /// Every expression in it.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        self.arguments.iter().chain(&self.filter).chain(self.order.iter().map(|key| &key.expr))
    }

    /// The same aggregate with each expression changed.
    pub fn map_exprs<E>(mut self, change: &mut impl FnMut(Expr) -> Result<Expr, E>) -> Result<Self, E> {
        self.arguments = self.arguments.into_iter().map(&mut *change).collect::<Result<_, E>>()?;
        self.filter = self.filter.map(&mut *change).transpose()?;
        self.order = SortKey::map_all(self.order, change)?;
        Ok(self)
    }
}
