//! Statistics → row counts. Pure arithmetic over column statistics; independence between columns is assumed.

mod selectivity;

use crate::diagnostic::Result;
use crate::logical::{ColumnId, Columns, CompareOp, Expr, ExprKind};
use crate::types::{Estimate, Selectivity, approximate};
use selectivity::Truth;

/// Answers how many rows pass, match or remain.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Estimator<'a> {
    pub(crate) columns: &'a Columns,
}

impl Estimator<'_> {
    /// The share of rows for which all of `conjuncts` are TRUE.
    ///
    /// # Errors
    /// What reading the statistics of a column meets.
    pub(crate) fn conjunction(&self, conjuncts: &[Expr]) -> Result<Selectivity> {
        let mut share = Selectivity::ALL;
        for conjunct in conjuncts {
            share = share.and(Truth::of(conjunct, self.columns)?.holds());
        }
        Ok(share)
    }

    /// How many different values `expr` has among `rows` rows, at least one.
    pub(crate) fn distinct(&self, expr: &Expr, rows: Estimate) -> Result<f64> {
        let known = match expr.kind() {
            ExprKind::Column(id) => self.distinct_of(*id)?,
            _ => None,
        };
        // Of an expression nothing is known: as many values as its columns have together.
        let known = match known {
            Some(known) => known,
            None => {
                let mut product = 1.0;
                for id in expr.columns() {
                    product *= self.distinct_of(id)?.unwrap_or(rows.0 / 10.0);
                }
                product
            }
        };
        Ok(known.clamp(1.0, rows.0.max(1.0)))
    }

    fn distinct_of(&self, id: ColumnId) -> Result<Option<f64>> {
        let statistics = self.columns.statistics(id)?;
        Ok(statistics.map(|statistics| statistics.distinct + if statistics.nulls > 0 { 1.0 } else { 0.0 }))
    }

    /// Groups that `keys` make of `rows` rows: each key's values, and never more than there are rows.
    pub(crate) fn groups(&self, keys: &[&Expr], rows: Estimate) -> Result<Estimate> {
        let mut groups = 1.0;
        for key in keys {
            groups *= self.distinct(key, rows)?;
        }
        Ok(Estimate(f64::min(groups, rows.0).max(if keys.is_empty() { 1.0 } else { 0.0 })))
    }

    /// The share of pairs of rows for which a join condition is TRUE.
    ///
    /// For an equality: the shares of values frequent on both sides are matched with each other, the rest by 1 / max of the
    /// distinct counts (Selinger et al., SIGMOD 1979).
    pub(crate) fn join(&self, condition: &Expr) -> Result<Selectivity> {
        let (ExprKind::Compare(CompareOp::Equal, sides) | ExprKind::Same(sides)) = condition.kind() else {
            return Ok(Truth::of(condition, self.columns)?.holds());
        };
        let (ExprKind::Column(a), ExprKind::Column(b)) = (sides[0].kind(), sides[1].kind()) else {
            return Ok(Selectivity::new(0.1));
        };
        let (Some(a), Some(b)) = (self.columns.statistics(*a)?, self.columns.statistics(*b)?) else {
            return Ok(Selectivity::new(0.1));
        };
        let mut matched = (0.0, 0.0, 0.0);
        for common in &a.most_common {
            if let Some(other) = b.most_common.iter().find(|other| other.value == common.value) {
                matched = (matched.0 + common.share * other.share, matched.1 + common.share, matched.2 + other.share);
            }
        }
        let rest_a = (1.0 - a.null_share() - matched.1).max(0.0);
        let rest_b = (1.0 - b.null_share() - matched.2).max(0.0);
        let distinct = a.distinct.max(b.distinct).max(1.0);
        Ok(Selectivity::new(matched.0 + rest_a * rest_b / distinct))
    }
}

/// Rows of a table.
pub(crate) fn table_rows(rows: u64) -> Estimate {
    Estimate(approximate(rows))
}
