//! Joins of each probe row with the first of its matches in an order.

use super::build_side::resolve_all;
use super::filter::Filter;
use super::join::{BuildSide, Matching, Pairs, gather, keys};
use crate::diagnostic::Result;
use crate::kernel::{Batch, NearestTable, OrderColumn, evaluate, sort_options};
use crate::logical::ColumnId;
use crate::physical::JoinSpec;
use crate::types::index;
use arrow::array::ArrayRef;
use rayon::ThreadPool;

/// Which matches of a row count: the first so many of those that fulfil a condition.
pub(super) struct FirstMatches<'a> {
    pub(super) fetch: u64,
    pub(super) residual: Option<Filter<'a>>,
}

/// The table of a build side whose columns are `layout`.
pub(super) fn table(
    spec: &JoinSpec,
    layout: &[ColumnId],
    (batch, keys, null_same): (&Batch, &[ArrayRef], &[bool]),
    threads: Option<&ThreadPool>,
) -> Result<NearestTable> {
    let order = spec.nearest.iter().flat_map(|nearest| &nearest.order);
    let exprs = resolve_all(order.clone().map(|key| &key.expr), layout)?;
    let column = |(expr, key)| {
        let values = evaluate(expr, batch)?.into_array(batch.rows)?;
        Ok(OrderColumn { values, options: sort_options(key) })
    };
    let columns = exprs.iter().zip(order).map(column).collect::<Result<Vec<_>>>()?;
    let bound = spec.ranges.first().map(|range| range.op);
    NearestTable::build((keys, null_same), &columns, (bound, batch.rows), threads)
}

impl Matching<'_> {
    /// The pairs of each row of a batch with the first of its matches, rows in order, for each the nearest first. What is not a key is
    /// tested for as many candidates of each row as are still wanted, and for twice as many of those that are left in every round.
    pub(super) fn first_matches(&self, table: &NearestTable, build: &BuildSide, batch: &Batch) -> Result<Pairs> {
        let Some(first) = &self.nearest else { return Ok(Pairs::default()) };
        let bound = match &self.ranges {
            Some(ranges) => Some(evaluate(&ranges.first, batch)?.into_array(batch.rows)?),
            None => None,
        };
        let fetch = usize::try_from(first.fetch).unwrap_or(usize::MAX);
        let mut left = table.matches(&keys(&self.keys, batch)?, bound.as_ref(), batch.rows)?;
        let mut found: Vec<Vec<u32>> = vec![Vec::new(); batch.rows];
        let mut open: Vec<usize> = (0..batch.rows).filter(|row| !left[*row].is_empty()).collect();
        let mut factor = 1;
        while !open.is_empty() {
            self.control.check()?;
            let mut pairs = Pairs::default();
            for row in &open {
                // As many pairs as a batch or two have; the other rows have their turn in a later round.
                if pairs.probe.len() >= self.batch_rows {
                    break;
                }
                let wanted = (fetch - found[*row].len()).saturating_mul(factor).min(self.batch_rows);
                let part = left[*row].start..left[*row].start.saturating_add(wanted).min(left[*row].end);
                left[*row].start = part.end;
                for place in part {
                    pairs.probe.push(index(*row));
                    pairs.build.push(table.row(place));
                }
            }
            let kept = match &first.residual {
                Some(residual) => {
                    let mask = residual.mask(&gather(&self.pair, batch, &build.batch, &pairs)?)?;
                    mask.values().set_indices().collect()
                }
                None => (0..pairs.probe.len()).collect::<Vec<usize>>(),
            };
            for at in kept {
                let matches = &mut found[pairs.probe[at] as usize];
                if matches.len() < fetch {
                    matches.push(pairs.build[at]);
                }
            }
            open.retain(|row| found[*row].len() < fetch && !left[*row].is_empty());
            factor *= 2;
        }
        let mut pairs = Pairs::default();
        for (row, matches) in found.into_iter().enumerate() {
            pairs.probe.extend(std::iter::repeat_n(index(row), matches.len()));
            pairs.build.extend(matches);
        }
        Ok(pairs)
    }
}
