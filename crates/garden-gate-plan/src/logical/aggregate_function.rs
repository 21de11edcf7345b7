use crate::types::SqlType;

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
    BitAnd,
    BitOr,
    ListAgg,
    ArrayAgg,
    PercentileCont,
    PercentileDisc,
    Mode,
    /// Computed from count, means and sums of products of deviations.
    Moment(MomentFunction),
    /// The place a row would have among those of the group.
    Hypothetical(HypotheticalFunction),
    /// One that the program added: [`Aggregate::program`](super::Aggregate::program).
    Program,
}

/// The functions of moments: of one number, and of pairs of a dependent and an independent one (clause 10.9).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum MomentFunction {
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
}

impl MomentFunction {
    /// Whether it takes two numbers: the dependent and the independent one.
    pub fn is_of_pairs(self) -> bool {
        match self {
            M::StddevPop | M::StddevSamp | M::VarPop | M::VarSamp => false,
            M::CovarPop
            | M::CovarSamp
            | M::Corr
            | M::RegrSlope
            | M::RegrIntercept
            | M::RegrCount
            | M::RegrR2
            | M::RegrAvgX
            | M::RegrAvgY
            | M::RegrSxx
            | M::RegrSyy
            | M::RegrSxy => true,
        }
    }
}

/// The hypothetical-set functions (clause 10.9).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum HypotheticalFunction {
    Rank,
    DenseRank,
    PercentRank,
    CumeDist,
}

const HYPOTHETICAL: [(&str, HypotheticalFunction); 4] = [
    ("RANK", HypotheticalFunction::Rank),
    ("DENSE_RANK", HypotheticalFunction::DenseRank),
    ("PERCENT_RANK", HypotheticalFunction::PercentRank),
    ("CUME_DIST", HypotheticalFunction::CumeDist),
];

use AggregateFunction as A;
use MomentFunction as M;

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
    ("STDDEV_POP", A::Moment(M::StddevPop)),
    ("STDDEV_SAMP", A::Moment(M::StddevSamp)),
    ("VAR_POP", A::Moment(M::VarPop)),
    ("VAR_SAMP", A::Moment(M::VarSamp)),
    ("COVAR_POP", A::Moment(M::CovarPop)),
    ("COVAR_SAMP", A::Moment(M::CovarSamp)),
    ("CORR", A::Moment(M::Corr)),
    ("REGR_SLOPE", A::Moment(M::RegrSlope)),
    ("REGR_INTERCEPT", A::Moment(M::RegrIntercept)),
    ("REGR_COUNT", A::Moment(M::RegrCount)),
    ("REGR_R2", A::Moment(M::RegrR2)),
    ("REGR_AVGX", A::Moment(M::RegrAvgX)),
    ("REGR_AVGY", A::Moment(M::RegrAvgY)),
    ("REGR_SXX", A::Moment(M::RegrSxx)),
    ("REGR_SYY", A::Moment(M::RegrSyy)),
    ("REGR_SXY", A::Moment(M::RegrSxy)),
    ("BIT_AND_AGG", A::BitAnd),
    ("BIT_OR_AGG", A::BitOr),
    ("LISTAGG", A::ListAgg),
    ("ARRAY_AGG", A::ArrayAgg),
    ("PERCENTILE_CONT", A::PercentileCont),
    ("PERCENTILE_DISC", A::PercentileDisc),
    ("MODE", A::Mode),
];

impl AggregateFunction {
    /// An aggregate function by its name; case does not matter.
    pub fn from_name(name: &str) -> Option<Self> {
        NAMED.iter().find(|(word, _)| name.eq_ignore_ascii_case(word)).map(|(_, function)| *function)
    }

    /// A hypothetical-set function; by their names alone these are window functions.
    pub fn hypothetical(name: &str) -> Option<Self> {
        let known = HYPOTHETICAL.iter().find(|(word, _)| name.eq_ignore_ascii_case(word));
        known.map(|(_, function)| Self::Hypothetical(*function))
    }

    /// The names of all, for completion and for errors that suggest one.
    pub fn names() -> impl Iterator<Item = &'static str> {
        NAMED.iter().map(|(name, _)| *name)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        let plain = || NAMED.iter().find(|(_, function)| *function == self).map(|(name, _)| *name);
        let hypothetical =
            || HYPOTHETICAL.iter().find(|(_, of)| Self::Hypothetical(*of) == self).map(|(name, _)| *name);
        if self == Self::CountRows { "COUNT" } else { plain().or_else(hypothetical).unwrap_or_default() }
    }

    /// Whether it takes two numbers: the dependent and the independent one.
    pub fn is_of_pairs(self) -> bool {
        if let Self::Moment(function) = self { function.is_of_pairs() } else { false }
    }

    /// Whether it needs WITHIN GROUP (ORDER BY …).
    pub fn is_ordered_set(self) -> bool {
        matches!(self, A::Hypothetical(_) | A::PercentileCont | A::PercentileDisc | A::Mode)
    }

    /// Whether the same value met again changes nothing.
    pub fn ignores_duplicates(self) -> bool {
        matches!(self, A::Min | A::Max | A::Every | A::Any | A::AnyValue | A::BitAnd | A::BitOr)
    }

    /// The result type for the type of its argument (of an ordered-set function: of what it orders by), or `None` when the function
    /// does not apply to it.
    pub fn result_type(self, argument: SqlType) -> Option<SqlType> {
        use HypotheticalFunction as H;
        let number = argument.is_number() || argument == SqlType::Null;
        match (self, argument) {
            (A::CountRows | A::Count | A::Moment(M::RegrCount) | A::Hypothetical(H::Rank | H::DenseRank), _) => {
                Some(SqlType::BigInt)
            }
            (A::Hypothetical(H::PercentRank | H::CumeDist), _) => Some(SqlType::Double),
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
            (A::Moment(_) | A::PercentileCont, _) => number.then_some(SqlType::Double),
        }
    }
}
