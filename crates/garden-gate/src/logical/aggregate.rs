use super::Expr;
use crate::diagnostic::Span;
use crate::types::SqlType;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum AggregateFunction {
    /// `COUNT(*)`
    CountRows,
    Count,
    Sum,
    Avg,
    Min,
    Max,
}

impl AggregateFunction {
    pub(crate) fn from_name(name: &str) -> Option<Self> {
        let known =
            [("COUNT", Self::Count), ("SUM", Self::Sum), ("AVG", Self::Avg), ("MIN", Self::Min), ("MAX", Self::Max)];
        known.into_iter().find(|(word, _)| name.eq_ignore_ascii_case(word)).map(|(_, function)| function)
    }

    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::CountRows | Self::Count => "COUNT",
            Self::Sum => "SUM",
            Self::Avg => "AVG",
            Self::Min => "MIN",
            Self::Max => "MAX",
        }
    }

    /// The result type for an argument type, or `None` when the function does not apply to it.
    pub(crate) fn result_type(self, argument: SqlType) -> Option<SqlType> {
        match (self, argument) {
            (Self::CountRows | Self::Count, _) => Some(SqlType::BigInt),
            (Self::Min | Self::Max, other) => Some(other),
            (Self::Sum, other) if other.is_integer() => Some(SqlType::BigInt),
            (Self::Sum, SqlType::Numeric { scale, .. }) => Some(SqlType::numeric(38, scale)),
            (Self::Avg, other) if other.is_exact() => Some(SqlType::numeric(38, other.digits()?.1.max(6))),
            (Self::Sum | Self::Avg, other) if other.is_approximate() => Some(SqlType::Double),
            (Self::Sum | Self::Avg, other) if other.is_interval() => Some(other),
            (Self::Sum | Self::Avg, SqlType::Null) => Some(SqlType::BigInt),
            (Self::Sum | Self::Avg, _) => None,
        }
    }
}

/// One aggregate of a grouping.
#[derive(Clone, Debug)]
pub(crate) struct Aggregate {
    pub(crate) function: AggregateFunction,
    /// `None` only for `COUNT(*)`.
    pub(crate) argument: Option<Expr>,
    pub(crate) distinct: bool,
    pub(crate) sql_type: SqlType,
    pub(crate) span: Span,
}

impl Aggregate {
    pub(crate) fn same_as(&self, other: &Self) -> bool {
        self.function == other.function
            && self.distinct == other.distinct
            && match (&self.argument, &other.argument) {
                (Some(a), Some(b)) => a.same_as(b),
                (None, None) => true,
                _ => false,
            }
    }
}
