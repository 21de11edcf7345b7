//! The values of a column in the rows of a sample that pass conditions on other columns: these may be correlated with it.

use super::Estimator;
use super::sample::{can_try, passing};
use crate::catalog::{ColumnStatistics, CommonValue};
use crate::diagnostic::Result;
use crate::kernel::{GroupTable, value_at};
use crate::logical::{ColumnId, Expr};
use crate::types::approximate;
use arrow::array::{Array, ArrayRef};
use std::sync::Arc;

/// Rows that have to pass for a sample to say anything of their values.
const ENOUGH: f64 = 32.0;
/// From so many values that are seen twice on, these tell how many are not seen.
const FEWEST_TWICE: f64 = 5.0;
/// So many equal neighbours more than expected are chance.
const BESIDE_BY_CHANCE: f64 = 8.0;
/// A value in so many of them is a frequent one, and at most so many are kept.
const FREQUENT: usize = 4;
const MOST_COMMON: usize = 32;

/// Distinct values of all rows, where a sample has `seen`, of them some once and some twice: those seen once stand for those that were not
/// seen (Chao, Scandinavian Journal of Statistics 1984). `None` where a sample of values that are nearly all different says nothing.
fn distinct_values(seen: f64, once: f64, twice: f64) -> Option<f64> {
    let is_covered = once < seen / 2.0;
    (twice >= FEWEST_TWICE || is_covered).then(|| seen + once * once / (2.0 * twice.max(1.0)))
}

/// Whether equal values come beside one another oftener than by chance: then the runs of rows that a sample consists of say nothing of how
/// many there are.
fn lie_together(groups: &[u32], count: usize) -> bool {
    let mut counts = vec![0.0_f64; count];
    groups.iter().for_each(|group| counts[*group as usize] += 1.0);
    let rows = approximate(groups.len());
    let by_chance = counts.iter().map(|count| (count / rows).powi(2)).sum::<f64>() * rows;
    let beside = approximate(groups.windows(2).filter(|pair| pair[0] == pair[1]).count());
    beside > 2.0 * by_chance + BESIDE_BY_CHANCE
}

impl Estimator<'_> {
    /// Corrects what is known of a column among the rows that conditions leave: its distinct values and the most common ones.
    pub(super) fn correct_by_sample(&self, id: ColumnId, filter: &[Expr], known: &mut ColumnStatistics) -> Result<()> {
        let seen = self.behind.and_then(|behind| behind.seen.borrow().get(&id).cloned());
        let (values, is_all) = match seen {
            Some(values) => (values, true),
            None => match self.sampled_values(id, filter)? {
                Some(sampled) => sampled,
                None => return Ok(()),
            },
        };
        let count = approximate(values.len());
        if count < ENOUGH && !is_all || values.is_empty() {
            return Ok(());
        }
        let mut table = GroupTable::new(vec![values.data_type().clone()])?;
        let mut groups = Vec::new();
        table.assign(std::slice::from_ref(&values), values.len(), &mut groups)?;
        if !is_all && lie_together(&groups, table.len()) {
            return Ok(());
        }
        let mut counts = vec![0_usize; table.len()];
        groups.iter().for_each(|group| counts[*group as usize] += 1);
        let singles = approximate(counts.iter().filter(|count| **count == 1).count());
        let seen = approximate(counts.len());
        let twice = approximate(counts.iter().filter(|count| **count == 2).count());
        let distinct = if is_all { Some(seen) } else { distinct_values(seen, singles, twice) };
        known.distinct = distinct.map_or(known.distinct, |distinct| known.distinct.min(distinct)).max(1.0);
        let mut common: Vec<usize> = (0..counts.len()).filter(|group| counts[*group] >= FREQUENT).collect();
        common.sort_by_key(|group| std::cmp::Reverse(counts[*group]));
        common.truncate(MOST_COMMON);
        let keys = table.keys()?;
        let sql_type = self.columns.get(id).sql_type;
        let value = |group: usize| value_at(&keys[0], sql_type, group);
        let common = common.into_iter().map(|group| (value(group), approximate(counts[group]) / count));
        known.most_common =
            common.filter(|(value, _)| !value.is_null()).map(|(value, share)| CommonValue { value, share }).collect();
        Ok(())
    }

    /// The values of a column in the rows of a sample that pass conditions of which some are on other columns, and whether these are all rows.
    fn sampled_values(&self, id: ColumnId, filter: &[Expr]) -> Result<Option<(ArrayRef, bool)>> {
        let tried: Vec<&Expr> = filter.iter().filter(|term| can_try(term)).collect();
        if tried.iter().all(|term| term.columns() == [id]) {
            return Ok(None);
        }
        let Some((source, place)) = &self.columns.get(id).origin else { return Ok(None) };
        let mut columns = vec![(id, *place)];
        for used in tried.iter().flat_map(|term| term.columns()) {
            match &self.columns.get(used).origin {
                Some((own, place)) if Arc::ptr_eq(own, source) => columns.push((used, *place)),
                _ => return Ok(None),
            }
        }
        columns[1..].sort_unstable();
        columns.dedup();
        let passing = passing(source.as_ref(), &columns, &tried)?;
        Ok(passing.map(|passing| (ArrayRef::clone(&passing.batch.columns[0]), passing.is_all)))
    }
}
