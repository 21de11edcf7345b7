use super::{Expr, SortKey};
use crate::catalog::ProgramAggregate;
use crate::diagnostic::Span;
use crate::types::SqlType;
use std::sync::Arc;

/// An aggregate function (clause 10.9).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum AggregateFunction {
    /// `COUNT(*)`
    CountRows,
    Count,
    Sum,
    Avg,
    Min,
    Max,
    Every,
    Any,
    AnyValue,
    StddevPop,
    StddevSamp,
    VarPop,
    VarSamp,
    CovarPop,
    CovarSamp,
    Corr,
    RegrSlope,
    RegrIntercept,
    RegrCount,
    RegrR2,
    RegrAvgX,
    RegrAvgY,
    RegrSxx,
    RegrSyy,
    RegrSxy,
    BitAnd,
    BitOr,
    ListAgg,
    ArrayAgg,
    PercentileCont,
    PercentileDisc,
    Mode,
    /// Hypothetical-set functions: the place a row would have among those of the group.
    Rank,
    DenseRank,
    PercentRank,
    CumeDist,
    /// One that the program added: [`Aggregate::program`].
    Program,
}

use AggregateFunction as A;

const NAMED: &[(&str, AggregateFunction)] = &[
    ("COUNT", A::Count),
    ("SUM", A::Sum),
    ("AVG", A::Avg),
    ("MIN", A::Min),
    ("MAX", A::Max),
    ("EVERY", A::Every),
    ("ANY", A::Any),
    ("SOME", A::Any),
    ("ANY_VALUE", A::AnyValue),
    ("STDDEV_POP", A::StddevPop),
    ("STDDEV_SAMP", A::StddevSamp),
    ("VAR_POP", A::VarPop),
    ("VAR_SAMP", A::VarSamp),
    ("COVAR_POP", A::CovarPop),
    ("COVAR_SAMP", A::CovarSamp),
    ("CORR", A::Corr),
    ("REGR_SLOPE", A::RegrSlope),
    ("REGR_INTERCEPT", A::RegrIntercept),
    ("REGR_COUNT", A::RegrCount),
    ("REGR_R2", A::RegrR2),
    ("REGR_AVGX", A::RegrAvgX),
    ("REGR_AVGY", A::RegrAvgY),
    ("REGR_SXX", A::RegrSxx),
    ("REGR_SYY", A::RegrSyy),
    ("REGR_SXY", A::RegrSxy),
    ("BIT_AND_AGG", A::BitAnd),
    ("BIT_OR_AGG", A::BitOr),
    ("LISTAGG", A::ListAgg),
    ("ARRAY_AGG", A::ArrayAgg),
    ("PERCENTILE_CONT", A::PercentileCont),
    ("PERCENTILE_DISC", A::PercentileDisc),
    ("MODE", A::Mode),
];

impl AggregateFunction {
    pub fn from_name(name: &str) -> Option<Self> {
        NAMED.iter().find(|(word, _)| name.eq_ignore_ascii_case(word)).map(|(_, function)| *function)
    }

    /// A hypothetical-set function; by their names alone these are window functions.
    pub fn hypothetical(name: &str) -> Option<Self> {
        let known = [
            ("RANK", Self::Rank),
            ("DENSE_RANK", Self::DenseRank),
            ("PERCENT_RANK", Self::PercentRank),
            ("CUME_DIST", Self::CumeDist),
        ];
        known.into_iter().find(|(word, _)| name.eq_ignore_ascii_case(word)).map(|(_, function)| function)
    }

    pub fn names() -> impl Iterator<Item = &'static str> {
        NAMED.iter().map(|(name, _)| *name)
    }

    pub fn name(self) -> &'static str {
        match self {
            Self::CountRows => "COUNT",
            Self::Rank => "RANK",
            Self::DenseRank => "DENSE_RANK",
            Self::PercentRank => "PERCENT_RANK",
            Self::CumeDist => "CUME_DIST",
            _ => NAMED.iter().find(|(_, function)| *function == self).map_or("", |(name, _)| name),
        }
    }

    /// Whether it takes two numbers: the dependent and the independent one.
    pub fn is_binary(self) -> bool {
        matches!(
            self,
            A::CovarPop | A::CovarSamp | A::Corr | A::RegrSlope | A::RegrIntercept | A::RegrCount | A::RegrR2
        ) || matches!(self, A::RegrAvgX | A::RegrAvgY | A::RegrSxx | A::RegrSyy | A::RegrSxy)
    }

    pub fn is_hypothetical(self) -> bool {
        matches!(self, A::Rank | A::DenseRank | A::PercentRank | A::CumeDist)
    }

    /// Whether it needs WITHIN GROUP (ORDER BY …).
    pub fn is_ordered_set(self) -> bool {
        self.is_hypothetical() || matches!(self, A::PercentileCont | A::PercentileDisc | A::Mode)
    }

    /// Whether the same value met again changes nothing.
    pub fn ignores_duplicates(self) -> bool {
        matches!(self, A::Min | A::Max | A::Every | A::Any | A::AnyValue | A::BitAnd | A::BitOr)
    }

    /// The result type for the type of its argument (of an ordered-set function: of what it orders by), or `None` when the function
    /// does not apply to it.
    pub fn result_type(self, argument: SqlType) -> Option<SqlType> {
        let number = argument.is_number() || argument == SqlType::Null;
        match (self, argument) {
            (A::CountRows | A::Count | A::RegrCount | A::Rank | A::DenseRank, _) => Some(SqlType::BigInt),
            (A::PercentRank | A::CumeDist, _) => Some(SqlType::Double),
            (A::Min | A::Max, SqlType::Array(_) | SqlType::Row(_)) => None,
            (A::Min | A::Max | A::AnyValue | A::PercentileDisc | A::Mode, other) => Some(other),
            (A::Sum, other) if other.is_integer() => Some(SqlType::BigInt),
            (A::Sum, SqlType::Numeric { scale, .. }) => Some(SqlType::numeric(38, scale)),
            (A::Avg, other) if other.is_exact() => Some(SqlType::numeric(38, other.digits()?.1.max(6))),
            (A::Sum | A::Avg, other) if other.is_approximate() => Some(SqlType::Double),
            (A::Sum | A::Avg, other) if other.is_interval() => Some(other),
            (A::Sum | A::Avg, SqlType::Null) => Some(SqlType::BigInt),
            (A::Sum | A::Avg, _) => None,
            (A::Every | A::Any, SqlType::Boolean | SqlType::Null) => Some(SqlType::Boolean),
            (A::Every | A::Any, _) => None,
            (A::BitAnd | A::BitOr, other) => other.is_integer().then_some(other),
            // Its own says it.
            (A::Program, _) => None,
            (A::ListAgg, other) => (other.is_text() || other == SqlType::Null).then_some(SqlType::TEXT),
            (A::ArrayAgg, other) => Some(SqlType::array_of(if other == SqlType::Null { SqlType::TEXT } else { other })),
            (A::PercentileCont, other) if other.is_interval() => Some(other),
            _ => number.then_some(SqlType::Double),
        }
    }
}

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
