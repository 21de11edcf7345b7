//! Statistics → row counts: arithmetic over what is known of columns, and conditions tried on samples.

mod aggregates;
mod equalities;
mod join;
mod narrow;
mod ranges;
mod sample;
mod sampled_values;
mod truth;
mod unions;
mod values;

pub use equalities::Equality;
pub(crate) use sample::{can_try, in_slots};
pub use values::after_prefix;

use crate::catalog::{ColumnStatistics, TableSource};
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::logical::{ColumnId, Columns, CompareOp, Expr, ExprKind, Scan};
use crate::types::{Estimate, Selectivity, Value, approximate};
use aggregates::Grouping;
use arrow::array::ArrayRef;
use narrow::{Restriction, asked, met};
use std::cell::RefCell;
use std::sync::Arc;
use truth::Truth;
use unions::MadeColumn;

/// A column whose order the rows follow more closely than this lies together.
const IN_ORDER: f64 = 0.95;

/// What is known of columns after the conditions of their tables: computed when somebody asks, since it may mean to read a column.
#[derive(Debug, Default)]
pub struct FilteredStatistics {
    known: RefCell<HashMap<ColumnId, Arc<ColumnStatistics>>>,
    tables: RefCell<Vec<NarrowedTable>>,
    groupings: RefCell<Vec<Grouping>>,
    /// Columns of the right side of outer joins, with the share of rows in which they are NULL for want of a match.
    filled: RefCell<HashMap<ColumnId, f64>>,
    /// The values of columns in all rows that the conditions of their table leave, where these were read.
    seen: RefCell<HashMap<ColumnId, ArrayRef>>,
    /// Columns that are the same in the rows of joins.
    equal: RefCell<Vec<Equality>>,
    /// Columns of unions, and constants.
    made: RefCell<HashMap<ColumnId, MadeColumn>>,
    /// Columns that are being asked for.
    asked: RefCell<Vec<ColumnId>>,
    /// Columns of a use of a step, each with the column of the step that it is.
    of_steps: RefCell<HashMap<ColumnId, ColumnId>>,
}

/// The conditions of a table, and how many of its rows they leave.
#[derive(Debug)]
struct NarrowedTable {
    columns: Vec<ColumnId>,
    filter: Vec<Expr>,
    rows: Estimate,
    all: Estimate,
}

/// Answers how many rows pass, match or remain.
#[derive(Clone, Copy, Debug)]
pub struct Estimator<'a> {
    pub columns: &'a Columns,
    /// Behind the conditions of tables; `None` to ask about the tables themselves.
    pub behind: Option<&'a FilteredStatistics>,
}

impl Estimator<'_> {
    /// The same over the tables as they are stored.
    pub fn stored(self) -> Self {
        Self { behind: None, ..self }
    }

    /// What is known of a column here.
    fn statistics(&self, id: ColumnId) -> Result<Option<Arc<ColumnStatistics>>> {
        let Some(behind) = self.behind else { return self.columns.statistics(id) };
        if let Some(known) = behind.known.borrow().get(&id) {
            return Ok(Some(Arc::clone(known)));
        }
        // Alternatives of one grouping may compute a column from another the one way and the other.
        if behind.asked.borrow().contains(&id) {
            return self.columns.statistics(id);
        }
        behind.asked.borrow_mut().push(id);
        let found = self.computed_statistics(id, behind);
        behind.asked.borrow_mut().pop();
        found
    }

    /// What is known of a column after conditions, by where it comes from.
    fn computed_statistics(&self, id: ColumnId, behind: &FilteredStatistics) -> Result<Option<Arc<ColumnStatistics>>> {
        let of_step = behind.of_steps.borrow().get(&id).copied();
        if let Some(there) = of_step
            && let Some(known) = self.statistics(there)?
        {
            return Ok(Some(known));
        }
        // The last time a table was looked at counts.
        let found = match behind.tables.borrow().iter().rev().find(|table| table.columns.contains(&id)) {
            Some(table) => self.narrowed(id, &table.filter, (table.rows, table.all))?,
            None => match self.of_grouping(id, &behind.groupings.borrow())? {
                Some(known) => Some(Arc::new(known)),
                None => self.made(id)?,
            },
        };
        let is_filled = behind.filled.borrow().contains_key(&id);
        let found = match found {
            None if is_filled => self.columns.statistics(id)?,
            found => found,
        };
        match found {
            Some(known) => {
                let known = self.filled_up(id, known);
                behind.known.borrow_mut().insert(id, Arc::clone(&known));
                Ok(Some(known))
            }
            None => self.columns.statistics(id),
        }
    }

    /// The share of rows that may fulfil a comparison with a constant outside of what was known when its column was last looked at.
    fn unseen(&self, id: ColumnId, op: CompareOp, value: &Value) -> Result<f64> {
        let Some((source, place)) = &self.columns.get(id).origin else { return Ok(0.0) };
        let changed = source.changed_since_statistics(*place);
        if changed == 0 {
            return Ok(0.0);
        }
        let since = (approximate(changed) / table_rows(source.rows()).0.max(1.0)).min(1.0);
        let known = self.columns.statistics(id)?;
        Ok(known.map_or(0.0, |known| values::beyond(&known, op, value, since)))
    }

    /// Takes note of what the conditions of a table leave: `rows` rows, with fewer values.
    pub fn narrow(&self, scan: &Scan, rows: Estimate) {
        let Some(behind) = self.behind.filter(|_| !scan.filter.is_empty()) else { return };
        let columns: Vec<ColumnId> = scan.columns.iter().map(|(id, _)| *id).collect();
        behind.known.borrow_mut().retain(|id, _| !columns.contains(id));
        let (filter, all) = (scan.filter.clone(), table_rows(scan.source.rows()));
        behind.tables.borrow_mut().push(NarrowedTable { columns, filter, rows, all });
    }

    /// Takes note that an outer join fills columns up with NULLs in this share of its rows.
    pub fn fill_up(&self, columns: &[ColumnId], share: f64) {
        let Some(behind) = self.behind else { return };
        behind.known.borrow_mut().retain(|id, _| !columns.contains(id));
        let mut filled = behind.filled.borrow_mut();
        for id in columns {
            let known = filled.entry(*id).or_default();
            *known = 1.0 - (1.0 - *known) * (1.0 - share);
        }
    }

    /// The same of a column that an outer join has filled up with NULLs in a share of its rows.
    fn filled_up(&self, id: ColumnId, known: Arc<ColumnStatistics>) -> Arc<ColumnStatistics> {
        let share = self.behind.and_then(|behind| behind.filled.borrow().get(&id).copied()).unwrap_or(0.0);
        if share <= 0.0 {
            return known;
        }
        let left = 1.0 - share;
        let mut found = ColumnStatistics::clone(&known);
        let nulls = table_rows(found.rows).0 * (share + known.null_share() * left);
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate of rows")]
        let count = nulls.round() as u64;
        found.nulls = count.min(found.rows);
        found.most_common.iter_mut().for_each(|common| common.share *= left);
        found.exact = false;
        Arc::new(found)
    }

    /// Takes note of the values of columns in all rows that the conditions of a table leave.
    pub fn saw(&self, columns: impl IntoIterator<Item = (ColumnId, ArrayRef)>) {
        if let Some(behind) = self.behind {
            behind.seen.borrow_mut().extend(columns);
        }
    }

    /// Takes note of the columns of a step under the names of one of its uses.
    pub fn used_step(&self, columns: &[(ColumnId, ColumnId)]) {
        if let Some(behind) = self.behind {
            behind.of_steps.borrow_mut().extend(columns.iter().copied());
        }
    }

    /// The share of rows for which all of `conjuncts` are TRUE: what several say of one column is taken together, columns of a group
    /// that was looked at as such together, everything else as independent.
    ///
    /// # Errors
    /// What reading the statistics of a column meets.
    pub fn conjunction(&self, conjuncts: &[Expr]) -> Result<Selectivity> {
        let mut share = Selectivity::ALL;
        let mut done = vec![false; conjuncts.len()];
        for group in self.columns.groups() {
            let equal = |id: &ColumnId| {
                let fits = |(at, term): (usize, &Expr)| match asked(term) {
                    Some((of, Restriction::Compare(CompareOp::Equal, value))) if of == *id && !done[at] => {
                        Some((at, value.clone()))
                    }
                    _ => None,
                };
                conjuncts.iter().enumerate().find_map(fits)
            };
            let Some(found) = group.columns.iter().map(equal).collect::<Option<Vec<_>>>() else { continue };
            let (places, values): (Vec<usize>, Vec<Value>) = found.into_iter().unzip();
            places.into_iter().for_each(|at| done[at] = true);
            let known = group.statistics();
            let common = known
                .most_common
                .iter()
                .find(|(common, _)| common.iter().zip(&values).all(|(a, b)| values::same(a, b)));
            let rest: f64 = 1.0 - known.most_common.iter().map(|(_, share)| share).sum::<f64>();
            let others = (known.distinct - approximate(known.most_common.len())).max(1.0);
            share = share.and(Selectivity::new(common.map_or(rest.max(0.0) / others, |(_, share)| *share)));
        }
        for at in 0..conjuncts.len() {
            if done[at] {
                continue;
            }
            done[at] = true;
            let together = match asked(&conjuncts[at]) {
                Some((id, ask)) => self.same_column(id, ask, (conjuncts, &mut done))?,
                None => None,
            };
            share = share.and(match together {
                Some(together) => Selectivity::new(together),
                None => Truth::of(&conjuncts[at], self)?.holds(),
            });
        }
        Ok(share)
    }

    /// The column that a condition bounds, where the rows stand in its order: those it is TRUE for lie together, and parts elsewhere are
    /// skipped.
    ///
    /// # Errors
    /// What reading the statistics of a column meets.
    pub fn together(&self, term: &Expr) -> Result<Option<ColumnId>> {
        let Some((id, Restriction::Compare(op, _))) = asked(term) else { return Ok(None) };
        let complete = self.statistics(id)?.is_some_and(|known| known.nulls == 0);
        let ordered = complete && self.is_in_order(id)?;
        Ok(Some(id).filter(|_| ordered && op != CompareOp::NotEqual))
    }

    /// Whether the rows of a table lie in the order of this column, or nearly so.
    pub fn is_in_order(&self, id: ColumnId) -> Result<bool> {
        Ok(self.statistics(id)?.is_some_and(|known| known.correlation.abs() > IN_ORDER))
    }

    /// The share of rows that fulfil what several conditions ask of one column; `None` when only one does.
    fn same_column(
        &self,
        id: ColumnId,
        first: Restriction<'_>,
        (conjuncts, done): (&[Expr], &mut [bool]),
    ) -> Result<Option<f64>> {
        let Some(known) = self.statistics(id)? else { return Ok(None) };
        let others: Vec<usize> = (0..conjuncts.len())
            .filter(|at| !done[*at] && asked(&conjuncts[*at]).is_some_and(|(of, _)| of == id))
            .collect();
        if others.is_empty() {
            return Ok(None);
        }
        others.iter().for_each(|at| done[*at] = true);
        let more = others.iter().filter_map(|at| asked(&conjuncts[*at]).map(|(_, ask)| ask));
        Ok(Some(self.all_asked(&known, std::iter::once(first).chain(more).collect())))
    }

    /// How many distinct values `expr` has among `rows` rows, at least one.
    pub fn distinct(&self, expr: &Expr, rows: Estimate) -> Result<f64> {
        let known = if let ExprKind::Column(id) = expr.kind() { self.distinct_of(*id, rows)? } else { None };
        // Of an expression nothing is known: as many values as its columns have together.
        let known = match known {
            Some(known) => known,
            None => {
                let mut product = 1.0;
                for id in expr.columns() {
                    product *= self.distinct_of(id, rows)?.unwrap_or(rows.0 / 10.0);
                }
                product
            }
        };
        Ok(known.clamp(1.0, rows.0.max(1.0)))
    }

    /// Groups that `keys` make of `rows` rows: each key's values, and never more than there are rows. Columns that were looked at
    /// together count together, and those of one use of a table make no more than it has rows.
    pub fn groups(&self, keys: &[&Expr], rows: Estimate) -> Result<Estimate> {
        let mut groups = 1.0;
        let mut left: Vec<&Expr> = keys.to_vec();
        for group in self.columns.groups() {
            let is_part = |key: &&Expr| matches!(key.kind(), ExprKind::Column(id) if group.columns.contains(id));
            if left.iter().filter(|key| is_part(key)).count() == group.columns.len() {
                left.retain(|key| !is_part(key));
                groups *= met(group.statistics().distinct, rows.0, table_rows(group.statistics().rows).0);
            }
        }
        let mut of_tables: Vec<(TableUse<'_>, f64)> = Vec::new();
        for key in left {
            let distinct = self.distinct(key, rows)?;
            match self.table_of(key) {
                Some(table) => match of_tables.iter_mut().find(|(known, _)| known.is_same(&table)) {
                    Some((_, product)) => *product = (*product * distinct).min(table.rows.max(1.0)),
                    None => of_tables.push((table, distinct)),
                },
                None => groups *= distinct,
            }
        }
        groups *= of_tables.into_iter().map(|(_, product)| product).product::<f64>();
        Ok(Estimate(f64::min(groups, rows.0).max(if keys.is_empty() { 1.0 } else { 0.0 })))
    }
}

/// A table under one of its correlation names.
struct TableUse<'a> {
    source: &'a Arc<dyn TableSource>,
    name: Option<&'a str>,
    /// Rows that its conditions leave.
    rows: f64,
}

impl TableUse<'_> {
    fn is_same(&self, other: &Self) -> bool {
        Arc::ptr_eq(self.source, other.source) && self.name == other.name
    }
}

impl<'a> Estimator<'a> {
    /// The table whose columns an expression consists of.
    fn table_of(&self, expr: &Expr) -> Option<TableUse<'a>> {
        let mut found: Option<TableUse<'a>> = None;
        for id in expr.columns() {
            let info = self.columns.get(id);
            let (source, _) = info.origin.as_ref()?;
            let narrowed = self.behind.and_then(|behind| {
                behind.tables.borrow().iter().rev().find(|table| table.columns.contains(&id)).map(|table| table.rows.0)
            });
            let rows = narrowed.unwrap_or(table_rows(source.rows()).0);
            let table = TableUse { source, name: info.qualifier.as_deref(), rows };
            if found.as_ref().is_some_and(|known| !known.is_same(&table)) {
                return None;
            }
            found = Some(table);
        }
        found
    }
}

/// Rows of a table.
pub fn table_rows(rows: u64) -> Estimate {
    Estimate(approximate(rows))
}
