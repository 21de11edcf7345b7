use super::{Accumulator, GroupMap, Groups, same};
use crate::diagnostic::Result;
use arrow::array::{Array, ArrayRef, Int64Array};
use std::{any::Any, sync::Arc};

/// `COUNT(*)` and `COUNT(x)`: BIGINT, 0 for no rows.
#[derive(Debug, Default)]
pub(super) struct Count(Vec<i64>);

impl Accumulator for Count {
    fn update(&mut self, groups: Groups<'_>, inputs: &[ArrayRef]) -> Result<()> {
        self.0.resize(self.0.len().max(groups.count()), 0);
        let nulls = inputs.first().and_then(|argument| argument.nulls()).filter(|nulls| nulls.null_count() > 0);
        match groups {
            Groups::One { rows } => {
                let present = rows - nulls.map_or(0, arrow::buffer::NullBuffer::null_count);
                self.0[0] += i64::try_from(present).unwrap_or(i64::MAX);
            }
            Groups::Each { ids, .. } => match nulls {
                None => ids.iter().for_each(|id| self.0[*id as usize] += 1),
                Some(nulls) => {
                    ids.iter().zip(nulls).for_each(|(id, valid)| self.0[*id as usize] += i64::from(valid));
                }
            },
        }
        Ok(())
    }

    fn merge(&mut self, other: &dyn Accumulator, GroupMap { from, to }: GroupMap<'_>, groups: usize) -> Result<()> {
        let other = same::<Self>(other)?;
        self.0.resize(groups.max(self.0.len()), 0);
        for (from, to) in from.iter().zip(to) {
            self.0[*to as usize] += other.0.get(*from as usize).copied().unwrap_or(0);
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, groups: usize) -> Result<ArrayRef> {
        self.0.resize(groups, 0);
        Ok(Arc::new(Int64Array::from(self.0)))
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn bytes(&self) -> usize {
        self.0.capacity() * 8
    }
}
