//! Aggregate functions (clause 10.9) over groups numbered from 0.
//!
//! All but `COUNT(*)` skip NULL. A sum is kept in 128 bits, so that its order does not matter and only a final result
//! that does not fit is an error.

mod bits;
mod count;
mod distinct;
mod extreme;
mod moments;
mod ordered;
mod program;
mod running;
mod small_sums;
mod sum;

pub use program::value_of_nothing;
pub use sum::share_state;

use super::{Batch, evaluate};
use crate::diagnostic::{Error, Result, SqlState};
use crate::logical::{Aggregate, AggregateFunction};
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef, UInt32Array, new_empty_array};
use std::any::Any;

/// To which group each row of a batch belongs.
#[derive(Clone, Copy, Debug)]
pub enum Groups<'a> {
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
    fn of(self, row: usize) -> usize {
        match self {
            Self::One { .. } => 0,
            Self::Each { ids, .. } => ids[row] as usize,
        }
    }

    fn count(self) -> usize {
        match self {
            Self::One { .. } => 1,
            Self::Each { groups, .. } => groups,
        }
    }
}

pub(crate) use running::of_frames;

/// Which groups, or rows, go to which groups of an accumulator: `from[i]` to `to[i]`.
#[derive(Clone, Copy, Debug)]
pub struct GroupMap<'a> {
    pub from: &'a [u32],
    pub to: &'a [u32],
}

/// The running state of one aggregate for all groups.
pub trait Accumulator: Send + Sync {
    /// Takes in a batch, given as [`aggregate_inputs`].
    ///
    /// # Errors
    /// 22003 when 128 bits do not hold a sum.
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()>;

    /// Takes in groups of another accumulator of the same function, as `pairs` says, which makes `groups` of them; others are omitted. Of one that is not [`Accumulator::is_mergeable`], a group at most once.
    ///
    /// # Errors
    /// As [`Accumulator::update`].
    fn merge(&mut self, other: &dyn Accumulator, pairs: GroupMap<'_>, groups: usize) -> Result<()>;

    /// A copy of the state that gives the results of another aggregate, where [`share_state`] says that they have one.
    fn finishing_as(&self, aggregate: &Aggregate) -> Option<Box<dyn Accumulator>> {
        let _ = aggregate;
        None
    }

    /// Whether a group may be merged into several others, at a cost that does not depend on its rows.
    fn is_mergeable(&self) -> bool {
        true
    }

    /// One value a group.
    ///
    /// # Errors
    /// 22003 when a result does not fit its type.
    fn finish(self: Box<Self>, groups: usize) -> Result<ArrayRef>;

    /// For [`Accumulator::merge`], which knows the type.
    fn as_any(&self) -> &dyn Any;

    /// Memory held, in bytes.
    fn bytes(&self) -> usize;
}

/// What an aggregate is computed from: its arguments, then what its rows are ordered by.
///
/// # Errors
/// What evaluating them raises.
pub fn aggregate_inputs(aggregate: &Aggregate, batch: &Batch) -> Result<Vec<ArrayRef>> {
    let exprs = aggregate.arguments.iter().chain(aggregate.order.iter().map(|key| &key.expr));
    // Without a row nothing is computed, constants that fail neither.
    if batch.rows == 0 {
        return Ok(exprs.map(|expr| new_empty_array(&expr.sql_type().arrow())).collect());
    }
    exprs.map(|expr| evaluate(expr, batch)?.into_array(batch.rows)).collect()
}

/// A fresh state for `aggregate`.
pub fn accumulator(aggregate: &Aggregate) -> Result<Box<dyn Accumulator>> {
    use AggregateFunction as A;
    let argument = aggregate.arguments.first().map_or(SqlType::Null, crate::logical::Expr::sql_type);
    let plain: Box<dyn Accumulator> = match aggregate.function {
        A::CountRows | A::Count => Box::new(count::Count::default()),
        A::Sum | A::Avg => sum::accumulator(aggregate, argument),
        A::Min | A::Max | A::AnyValue if !extreme::is_simple(argument) => Box::new(ordered::Ordered::new(aggregate)),
        A::Min | A::Every | A::AnyValue => extreme::accumulator(argument, extreme::Extremum::Least),
        A::Max | A::Any => extreme::accumulator(argument, extreme::Extremum::Greatest),
        A::BitAnd | A::BitOr => Box::new(bits::Bits::new(aggregate)),
        A::ListAgg | A::ArrayAgg | A::PercentileCont | A::PercentileDisc | A::Mode | A::Hypothetical(_) => {
            return Ok(Box::new(ordered::Ordered::new(aggregate)));
        }
        A::Program => match &aggregate.program {
            Some(program) => Box::new(program::Program::new(program)),
            None => return Err(Error::new(SqlState::GENERAL, "internal error: an aggregate without its function")),
        },
        A::Moment(function) => Box::new(moments::Moments::new(function)),
    };
    if aggregate.distinct && !aggregate.function.ignores_duplicates() {
        let types = aggregate.arguments.iter().map(|argument| argument.sql_type().arrow()).collect();
        return Ok(Box::new(distinct::Distinct::new(plain, types)?));
    }
    Ok(plain)
}

/// The concrete state after another accumulator; both were made for the same aggregate.
fn same<A: 'static>(other: &dyn Accumulator) -> Result<&A> {
    other.as_any().downcast_ref().ok_or_else(|| {
        Error::new(SqlState::GENERAL, "internal error: aggregates of different functions cannot be merged")
    })
}

/// For each row of groups of another accumulator the group it goes to, as [`Accumulator::merge`] has it; and which rows go to one.
fn moved(rows: impl Iterator<Item = usize>, GroupMap { from, to }: GroupMap<'_>) -> (Vec<u32>, UInt32Array) {
    let most = from.iter().max().map_or(0, |most| *most as usize + 1);
    let mut map: Vec<Option<u32>> = vec![None; most];
    from.iter().zip(to).for_each(|(from, to)| map[*from as usize] = Some(*to));
    let goes = rows.zip(0_u32..).filter_map(|(group, row)| Some((map.get(group).copied().flatten()?, row)));
    let (groups, rows): (Vec<u32>, Vec<u32>) = goes.unzip();
    (groups, UInt32Array::from(rows))
}

/// A group's NULL-free rows belong to it when none of its inputs is NULL.
fn present(inputs: &[ArrayRef], row: usize) -> bool {
    inputs.iter().all(|input| input.is_valid(row))
}
