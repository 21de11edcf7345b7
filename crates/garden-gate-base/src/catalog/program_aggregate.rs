use super::Signature;
use crate::diagnostic::{Error, Result, SqlState};
use crate::types::Value;
use arrow::array::ArrayRef;
use std::any::Any;
use std::fmt;
use std::sync::Arc;

/// The state of a program's aggregate function for one group.
///
/// Rows come in any order, in batches, and on several threads: each thread has states of its own, which are merged. The default of the type
/// is the state before the first row.
///
/// ```
/// # mod garden_gate { pub mod source { pub use garden_gate_base::catalog::*; } pub use garden_gate_base::{catalog::Column, diagnostic::*, types::*}; pub use arrow; }
/// use garden_gate::arrow::array::{ArrayRef, AsArray};
/// use garden_gate::arrow::datatypes::Float64Type;
/// use garden_gate::{Result, Value, source::AggregateState};
///
/// /// The root of the mean of squares.
/// #[derive(Default)]
/// struct RootMeanSquare {
///     sum: f64,
///     count: u32,
/// }
///
/// impl AggregateState for RootMeanSquare {
///     fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
///         for number in arguments[0].as_primitive::<Float64Type>().values() {
///             self.sum += number * number;
///             self.count += 1;
///         }
///         Ok(())
///     }
///     fn merge(&mut self, other: &Self) -> Result<()> {
///         self.sum += other.sum;
///         self.count += other.count;
///         Ok(())
///     }
///     fn finish(&self) -> Result<Value> {
///         Ok(if self.count == 0 { Value::Null } else { Value::Double((self.sum / f64::from(self.count)).sqrt()) })
///     }
/// }
/// ```
pub trait AggregateState: Default + Send + Sync + 'static {
    /// Takes in rows of the group: one array for each argument, all of one length.
    ///
    /// # Errors
    /// What the code finds wrong with them; the statement ends with it.
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()>;

    /// Takes in all rows that another state has taken in. The other one may be merged into several.
    ///
    /// # Errors
    /// As [`AggregateState::update`].
    fn merge(&mut self, other: &Self) -> Result<()>;

    /// The aggregate of the rows taken in.
    ///
    /// # Errors
    /// As [`AggregateState::update`].
    fn finish(&self) -> Result<Value>;

    /// Memory that the state holds besides itself, in bytes: it counts for the memory limit.
    fn bytes(&self) -> usize {
        0
    }
}

/// [`AggregateState`] of a type that is not known.
pub trait AnyAggregateState: Send + Sync {
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()>;
    /// HY000 when the other is of another type.
    fn merge(&mut self, other: &dyn AnyAggregateState) -> Result<()>;
    fn finish(&self) -> Result<Value>;
    fn bytes(&self) -> usize;
    fn as_any(&self) -> &dyn Any;
}

impl<S: AggregateState> AnyAggregateState for S {
    fn update(&mut self, arguments: &[ArrayRef]) -> Result<()> {
        AggregateState::update(self, arguments)
    }

    fn merge(&mut self, other: &dyn AnyAggregateState) -> Result<()> {
        let other = other.as_any().downcast_ref::<S>().ok_or_else(|| {
            Error::new(SqlState::GENERAL, "internal error: states of different aggregates cannot be merged")
        })?;
        AggregateState::merge(self, other)
    }

    fn finish(&self) -> Result<Value> {
        AggregateState::finish(self)
    }

    fn bytes(&self) -> usize {
        size_of::<S>() + AggregateState::bytes(self)
    }

    fn as_any(&self) -> &dyn Any {
        self
    }
}

/// An aggregate function that a program adds to a database.
#[derive(Clone)]
pub struct ProgramAggregate {
    pub name: String,
    pub signature: Signature,
    /// The value over no rows.
    pub of_nothing: Value,
    pub start: Arc<dyn Fn() -> Box<dyn AnyAggregateState> + Send + Sync>,
}

impl fmt::Debug for ProgramAggregate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ProgramAggregate")
            .field("name", &self.name)
            .field("signature", &self.signature)
            .finish_non_exhaustive()
    }
}
