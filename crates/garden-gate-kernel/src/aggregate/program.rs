//! Aggregate functions of the program: a state a group, which is given its rows of a batch at once.
//!
//! The rows of a batch are brought into the order of their groups by counting, so that each argument is copied once and a group's rows are
//! a slice of it:
//!
//! ```text
//! ids   2 0 2 1 0      starts 0 2 3 5      rows   1 4 | 3 | 0 2
//! ```

use super::{Accumulator, GroupMap, Groups, present, same};
use crate::catalog::{AnyAggregateState, NullCall, ProgramAggregate};
use crate::constant::{array_of, value_at};
use crate::diagnostic::{Error, Result, SqlState, caught};
use crate::types::{Value, index};
use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute;
use std::any::Any;
use std::sync::Arc;

pub(super) struct Program {
    function: Arc<ProgramAggregate>,
    /// By group; none where no row has come.
    states: Vec<Option<Box<dyn AnyAggregateState>>>,
    bytes: usize,
}

impl Program {
    /// An aggregate whose code the program gave.
    pub(super) fn new(function: &Arc<ProgramAggregate>) -> Self {
        Self { function: Arc::clone(function), states: Vec::new(), bytes: 0 }
    }

    /// What the program's code gives; a panic of it is an error.
    fn called<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        caught(work).ok_or_else(|| broken(&self.function, "panicked"))?
    }

    /// Changes the state of a group, made when there is none yet.
    fn change(&mut self, group: usize, work: impl FnOnce(&mut dyn AnyAggregateState) -> Result<()>) -> Result<()> {
        if self.states.len() <= group {
            self.states.resize_with(group + 1, || None);
        }
        let (mut state, before) = match self.states[group].take() {
            Some(state) => self.called(|| Ok(state.bytes())).map(|bytes| (state, bytes))?,
            // What it holds is not counted yet.
            None => (self.called(|| Ok((self.function.start)()))?, 0),
        };
        let after = self.called(|| work(state.as_mut()).map(|()| state.bytes()))?;
        self.bytes = (self.bytes + after).saturating_sub(before);
        self.states[group] = Some(state);
        Ok(())
    }
}

fn broken(function: &ProgramAggregate, what: &str) -> Error {
    let message = format!("the program's aggregate function {} {what}", function.name);
    Error::new(SqlState::EXTERNAL_ROUTINE, message)
}

impl Accumulator for Program {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        let rows = inputs.first().map_or(0, |input| input.len());
        let sees_nulls = self.function.signature.null_call == NullCall::Called;
        let taken: Vec<usize> = (0..rows).filter(|row| sees_nulls || present(inputs, *row)).collect();
        let mut starts = vec![0_u32; groups.count() + 1];
        for row in &taken {
            starts[groups.of(*row) + 1] += 1;
        }
        for group in 1..starts.len() {
            starts[group] += starts[group - 1];
        }
        let mut next = starts.clone();
        let mut order = vec![0_u32; taken.len()];
        for row in taken {
            let place = &mut next[groups.of(row)];
            order[*place as usize] = index(row);
            *place += 1;
        }
        let order = UInt32Array::from(order);
        let sorted = inputs.iter().map(|input| compute::take(input, &order, None)).collect::<Result<Vec<_>, _>>()?;
        for (group, ends) in starts.windows(2).enumerate() {
            let (from, length) = (ends[0] as usize, (ends[1] - ends[0]) as usize);
            if length > 0 {
                let arguments: Vec<ArrayRef> = sorted.iter().map(|array| array.slice(from, length)).collect();
                self.change(group, |state| state.update(&arguments))?;
            }
        }
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, _: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        for (from, to) in from.iter().zip(to) {
            if let Some(Some(state)) = other.states.get(*from as usize) {
                self.change(*to as usize, |own| own.merge(state.as_ref()))?;
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        let mut parts = Vec::with_capacity(groups);
        for group in 0..groups {
            let value = match self.states.get(group) {
                Some(Some(state)) => self.called(|| state.finish())?,
                _ => self.function.of_nothing.clone(),
            };
            parts.push(result_of(&self.function, &value)?);
        }
        let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
        if parts.is_empty() {
            return Ok(arrow::array::new_empty_array(&self.function.signature.result.arrow()));
        }
        Ok(compute::concat(&parts)?)
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.bytes + self.states.capacity() * size_of::<Option<Box<dyn AnyAggregateState>>>()
    }
}

/// The value of a program's aggregate function over no rows, as its type has it.
///
/// # Errors
/// That of its code; 38000 when it panics, or for a value of another type than promised.
pub fn value_of_nothing(function: &ProgramAggregate) -> Result<Value> {
    let value = caught(|| (function.start)().finish()).ok_or_else(|| broken(function, "panicked"))??;
    Ok(value_at(&result_of(function, &value)?, function.signature.result, 0))
}

/// A result of a program's aggregate function as an array of one value.
///
/// # Errors
/// 38000 for a value of another type than promised, 22xxx for one that its type forbids.
fn result_of(function: &ProgramAggregate, value: &Value) -> Result<ArrayRef> {
    array_of(value, function.signature.result).map_err(|error| {
        let what = format!("gave {value}, {} was promised", function.signature.result);
        broken(function, &what).caused_by(error)
    })
}
