//! Equi-depth histograms of columns, and how the order of rows follows that of values.

use crate::diagnostic::Result;
use crate::kernel::value_at;
use crate::types::{SqlType, Value, approximate, index};
use arrow::array::{Array, ArrayRef, UInt32Array};
use arrow::compute;

/// Buckets of a histogram.
const BUCKETS: u64 = 100;
/// Different values that are sorted for one.
const MOST_VALUES: usize = 1 << 15;
/// Rows that are looked at for the correlation.
const MOST_ROWS: usize = 4096;

/// The bounds of a histogram over these values of `keys`, each with how often it appears. O(values · log values).
pub(super) fn bounds(keys: &ArrayRef, values: Vec<(usize, u64)>, sql_type: SqlType) -> Result<Vec<Value>> {
    if values.is_empty() || !has_order(sql_type) {
        return Ok(Vec::new());
    }
    // Values stand in order of appearance: every k-th of them is as good a sample as the first was.
    let every = values.len().div_ceil(MOST_VALUES);
    let sampled: Vec<(usize, u64)> = values.into_iter().step_by(every).collect();
    let places: UInt32Array = sampled.iter().map(|(group, _)| index(*group)).collect::<Vec<u32>>().into();
    let order = compute::sort_to_indices(&compute::take(keys, &places, None)?, None, None)?;
    let sorted: Vec<(usize, u64)> = order.values().iter().map(|at| sampled[*at as usize]).collect();
    let total: u64 = sorted.iter().map(|(_, count)| count).sum();
    let buckets = BUCKETS.min(total);
    let value = |group: usize| value_at(keys, sql_type, group);
    let mut found = vec![value(sorted[0].0)];
    let mut passed = 0;
    for (group, count) in &sorted {
        passed += count;
        // A value that fills several buckets is the bound of each.
        while found.len() as u64 <= buckets && passed * buckets >= found.len() as u64 * total {
            found.push(value(*group));
        }
    }
    Ok(found)
}

/// The correlation of the ranks of values with the places of their rows (Spearman), over rows spread evenly. O(sample · log sample).
pub(super) fn correlation(segments: &[ArrayRef], rows: usize, sql_type: SqlType) -> Result<f64> {
    if rows < 2 || !has_order(sql_type) {
        return Ok(0.0);
    }
    let every = rows.div_ceil(MOST_ROWS);
    let mut picked: Vec<ArrayRef> = Vec::new();
    for segment in segments {
        let places: UInt32Array = (0..index(segment.len()))
            .step_by(every)
            .filter(|at| segment.is_valid(*at as usize))
            .collect::<Vec<_>>()
            .into();
        picked.push(compute::take(segment, &places, None)?);
    }
    let parts: Vec<&dyn Array> = picked.iter().map(AsRef::as_ref).collect();
    let values = compute::concat(&parts)?;
    let order = compute::sort_to_indices(&values, None, None)?;
    let count = approximate(order.len());
    if order.len() < 2 {
        return Ok(0.0);
    }
    // The sort is stable for no type: equal values get the mean of their ranks.
    let mut ranks = vec![0.0; order.len()];
    let mut from = 0;
    let comparator = arrow::array::make_comparator(&values, &values, compute::SortOptions::default())?;
    while from < order.len() {
        let first = order.value(from) as usize;
        let same = |at: &usize| comparator(first, order.value(*at) as usize).is_eq();
        let to = from + (from..order.len()).take_while(same).count();
        let rank = approximate(from + to - 1) / 2.0;
        (from..to).for_each(|at| ranks[order.value(at) as usize] = rank);
        from = to;
    }
    let mean = (count - 1.0) / 2.0;
    let (mut together, mut of_ranks, mut of_places) = (0.0, 0.0, 0.0);
    for (place, rank) in ranks.iter().enumerate() {
        let (place, rank) = (approximate(place) - mean, rank - mean);
        together += place * rank;
        of_ranks += rank * rank;
        of_places += place * place;
    }
    Ok(if of_ranks > 0.0 { together / (of_ranks * of_places).sqrt() } else { 0.0 })
}

fn has_order(sql_type: SqlType) -> bool {
    !matches!(sql_type, SqlType::Array(_) | SqlType::Row(_) | SqlType::Null)
}
