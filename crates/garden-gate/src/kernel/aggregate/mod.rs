//! Aggregate functions (clause 10.9) over groups numbered from 0.
//!
//! All but `COUNT(*)` pass over NULL. A sum is kept in 128 bits, so that its order does not matter and only a final result
//! that does not fit is an error.

mod count;
mod distinct;
mod extreme;
mod sum;

use crate::diagnostic::Result;
use crate::logical::{Aggregate, AggregateFunction};
use crate::types::SqlType;
use arrow::array::ArrayRef;
use std::any::Any;

/// To which group each row of a batch belongs.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Groups<'a> {
    /// All rows to group 0: an aggregate without GROUP BY.
    One {
        rows: usize,
    },
    Each {
        ids: &'a [u32],
        groups: usize,
    },
}

impl Groups<'_> {
    fn count(self) -> usize {
        match self {
            Self::One { .. } => 1,
            Self::Each { groups, .. } => groups,
        }
    }
}

/// The running state of one aggregate for all groups.
pub(crate) trait Accumulator: Send {
    /// Takes in a batch; `argument` is absent only for `COUNT(*)`.
    ///
    /// # Errors
    /// 22003 when 128 bits do not hold a sum.
    fn update(&mut self, groups: Groups<'_>, argument: Option<&ArrayRef>) -> Result<()>;

    /// Takes in the state of another accumulator of the same function; its group `i` is this one's group `map[i]` of `groups`.
    ///
    /// # Errors
    /// As [`Accumulator::update`].
    fn merge(&mut self, other: Box<dyn Accumulator>, map: &[u32], groups: usize) -> Result<()>;

    /// One value a group.
    ///
    /// # Errors
    /// 22003 when a result does not fit its type.
    fn finish(self: Box<Self>, groups: usize) -> Result<ArrayRef>;

    /// For [`Accumulator::merge`], which knows the type.
    fn into_any(self: Box<Self>) -> Box<dyn Any>;

    /// Memory held, in bytes.
    fn bytes(&self) -> usize;
}

/// A fresh state for `aggregate`.
pub(crate) fn accumulator(aggregate: &Aggregate) -> Result<Box<dyn Accumulator>> {
    let argument = aggregate.argument.as_ref().map_or(SqlType::Null, crate::logical::Expr::sql_type);
    let plain: Box<dyn Accumulator> = match aggregate.function {
        AggregateFunction::CountRows | AggregateFunction::Count => Box::new(count::Count::default()),
        AggregateFunction::Sum | AggregateFunction::Avg => sum::accumulator(aggregate, argument),
        AggregateFunction::Min => extreme::accumulator(argument, extreme::Keep::Least),
        AggregateFunction::Max => extreme::accumulator(argument, extreme::Keep::Greatest),
    };
    let ignores_duplicates = matches!(aggregate.function, AggregateFunction::Min | AggregateFunction::Max);
    if aggregate.distinct && !ignores_duplicates {
        return Ok(Box::new(distinct::Distinct::new(plain, &argument.arrow())?));
    }
    Ok(plain)
}

/// The concrete state behind another accumulator; both were made for the same aggregate.
fn same<A: 'static>(other: Box<dyn Accumulator>) -> Result<Box<A>> {
    other.into_any().downcast().map_err(|_| {
        let state = crate::diagnostic::SqlState::GENERAL;
        crate::diagnostic::Error::new(state, "internal error: aggregates of different functions cannot be merged")
    })
}
