//! What is known of columns that no table has: those of UNION ALL, by the columns that they are made of, and constants.

use super::Estimator;
use super::values::{below, same};
use crate::catalog::{ColumnStatistics, CommonValue};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Expr};
use crate::types::{Estimate, Value};
use std::sync::Arc;

/// A column by others.
#[derive(Clone, Debug)]
pub(super) enum MadeColumn {
    /// Of a union: a column of each query, with its rows.
    Union(Vec<(ColumnId, Estimate)>),
    Constant(Value),
}

/// Bounds of the histogram of a union.
const MOST_BOUNDS: usize = 512;

impl Estimator<'_> {
    /// Takes note of a column of UNION ALL.
    pub fn union(&self, id: ColumnId, parts: Vec<(ColumnId, Estimate)>) {
        if let Some(behind) = self.behind {
            behind.made.borrow_mut().insert(id, MadeColumn::Union(parts));
        }
    }

    /// Takes note of computed columns that are constants.
    pub fn computed(&self, columns: &[(ColumnId, Expr)]) {
        let Some(behind) = self.behind else { return };
        let constants = columns.iter().filter_map(|(id, expr)| Some((*id, expr.constant()?.clone())));
        behind.made.borrow_mut().extend(constants.map(|(id, value)| (id, MadeColumn::Constant(value))));
    }

    /// What is known of a column that is made of others; `None` when it is none, or of one of them nothing is known.
    pub(super) fn made(&self, id: ColumnId) -> Result<Option<Arc<ColumnStatistics>>> {
        let made = self.behind.and_then(|behind| behind.made.borrow().get(&id).cloned());
        match made {
            Some(MadeColumn::Union(parts)) => {
                let mut known = Vec::new();
                for (part, rows) in parts.into_iter().filter(|(_, rows)| rows.0 > 0.0) {
                    let Some(found) = self.statistics(part)? else { return Ok(None) };
                    known.push((found, rows.0));
                }
                Ok((!known.is_empty()).then(|| Arc::new(union(&known))))
            }
            Some(MadeColumn::Constant(value)) => Ok(Some(Arc::new(constant(value)))),
            None => Ok(None),
        }
    }
}

fn constant(value: Value) -> ColumnStatistics {
    let is_null = value.is_null();
    let common = CommonValue { value: value.clone(), share: 1.0 };
    ColumnStatistics {
        nulls: u64::from(is_null),
        distinct: 1.0,
        min: value.clone(),
        max: value,
        most_common: if is_null { Vec::new() } else { vec![common] },
        histogram: Vec::new(),
        ..ColumnStatistics::unknown(1)
    }
}

/// The values of several columns, each with so many rows. Where their ranges meet, the values of one are taken to be among those of the
/// other, as in joins; else there are as many as both have.
fn union(parts: &[(Arc<ColumnStatistics>, f64)]) -> ColumnStatistics {
    let all: f64 = parts.iter().map(|(_, rows)| rows).sum::<f64>().max(1.0);
    let mut common: Vec<CommonValue> = Vec::new();
    let (mut nulls, mut distinct, mut histogram) = (0.0, 0.0_f64, Vec::new());
    let (mut min, mut max) = (Value::Null, Value::Null);
    for (known, rows) in parts {
        let weight = rows / all;
        nulls += known.null_share() * rows;
        for one in &known.most_common {
            match common.iter_mut().find(|other| same(&other.value, &one.value)) {
                Some(other) => other.share += one.share * weight,
                None => common.push(CommonValue { value: one.value.clone(), share: one.share * weight }),
            }
        }
        let is_apart = below(&max, &known.min) || below(&known.max, &min);
        distinct = if is_apart { distinct + known.distinct } else { distinct.max(known.distinct) };
        if min.is_null() || below(&known.min, &min) {
            min = known.min.clone();
        }
        if max.is_null() || below(&max, &known.max) {
            max = known.max.clone();
        }
        histogram.extend(known.histogram.iter().cloned());
    }
    common.sort_by(|a, b| b.share.total_cmp(&a.share));
    let order = |a: &Value, b: &Value| match (below(a, b), below(b, a)) {
        (true, _) => std::cmp::Ordering::Less,
        (_, true) => std::cmp::Ordering::Greater,
        _ => std::cmp::Ordering::Equal,
    };
    histogram.sort_by(order);
    let every = histogram.len().div_ceil(MOST_BOUNDS).max(1);
    let last = histogram.last().cloned();
    let mut histogram: Vec<Value> = histogram.into_iter().step_by(every).collect();
    histogram.extend(last.filter(|_| every > 1));
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate of rows")]
    let count = |rows: f64| rows.round() as u64;
    let distinct = distinct.max(crate::types::approximate(common.len())).max(1.0);
    let unknown = ColumnStatistics::unknown(count(all));
    ColumnStatistics { nulls: count(nulls), distinct, min, max, most_common: common, histogram, ..unknown }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_of_a_union_have_the_values_of_all_queries() {
        let column = |from: i64, to: i64, distinct: f64, common: &[(i64, f64)]| {
            let known =
                common.iter().map(|(value, share)| CommonValue { value: Value::Integer(*value), share: *share });
            Arc::new(ColumnStatistics {
                distinct,
                min: Value::Integer(from),
                max: Value::Integer(to),
                most_common: known.collect(),
                histogram: vec![Value::Integer(from), Value::Integer(to)],
                ..ColumnStatistics::unknown(100)
            })
        };
        let (a, b) = (column(1, 100, 100.0, &[(7, 0.5)]), column(50, 60, 10.0, &[(7, 0.1), (55, 0.3)]));
        let found = union(&[(Arc::clone(&a), 300.0), (b, 100.0)]);
        assert!((found.distinct - 100.0).abs() < 1e-9 && found.rows == 400);
        let shares: Vec<f64> = found.most_common.iter().map(|common| common.share).collect();
        assert!((shares[0] - 0.4).abs() < 1e-9 && (shares[1] - 0.075).abs() < 1e-9, "{shares:?}");
        let apart = union(&[(a, 100.0), (column(200, 300, 40.0, &[]), 100.0)]);
        assert!((apart.distinct - 140.0).abs() < 1e-9);
        assert!(matches!((&apart.min, &apart.max), (Value::Integer(1), Value::Integer(300))));
        assert!((constant(Value::Integer(3)).most_common[0].share - 1.0).abs() < 1e-9);
    }
}
