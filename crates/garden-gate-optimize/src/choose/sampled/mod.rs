//! Joins tried on some rows of one table, which are looked up in indexes of the others, or in those that are small: what goes together
//! across tables no statistics say (Leis et al., CIDR 2017).
//!
//! ```text
//! seed: rows of c that pass its conditions     256 rows, each for 40 of c
//!   ⋈ b by its key                             251 rows pass the conditions of b: 10,040 rows of {c, b}
//!   ⋈ l by its index of l.chore                 94 rows:                           3,760 rows of {c, b, l}
//! ```

mod rows;

pub use rows::MatchedRows;

use super::build::Builder;
use super::index_join::{Inner, stored_scan};
use super::join_order::{IndexWay, JoinSearch, Tables, key};
use crate::control::checkpoint;
use crate::diagnostic::Result;
use crate::kernel::Batch;
use crate::logical::{ColumnId, Expr, LogicalPlan, Scan};
use crate::types::approximate;
use rows::matches_in;
pub(super) use rows::{SampledRows, used_columns};

/// Joins of a query that costs less, a third of a millisecond, are not tried: that may take longer (`cargo bench --bench planning`).
const WORTHWHILE: f64 = 100_000.0;
/// Rows of the table that is begun with: one for so much that the query costs, so that planning takes a small part of its time.
const COST_OF_SEED: f64 = 1_500.0;
const MOST_SEEDS: f64 = 192.0;
const FEWEST_SEEDS: usize = 16;
/// Tables that are begun with, one after the other, until all that can be reached were.
const MOST_SEEDED: usize = 3;
/// Rows that one join of the sample may come to.
const MOST_ROWS: usize = 1_024;
/// Rows of which the conditions of the first table are tried; tables of no more are looked up without an index.
const READ_ROWS: usize = 2_048;
/// From so many rows on a sample says more than a product of shares.
const ENOUGH: f64 = 24.0;
/// Tables that are joined with the sample.
const MOST_JOINS: usize = 8;

/// How much more or fewer rows a join of tables has than its conditions say one by one.
#[derive(Debug)]
pub(super) struct SampledJoin {
    pub(super) tables: Tables,
    /// The table that was begun with.
    seed: Tables,
    factor: f64,
}

/// What the joins of these tables that were tried say of them together.
pub(super) fn factor_of(sampled: &[SampledJoin], tables: Tables) -> f64 {
    let (mut factor, mut covered) = (1.0, 0);
    // The largest come first.
    for join in sampled.iter().filter(|join| join.tables & !tables == 0) {
        if join.tables & !join.seed & covered == 0 {
            covered |= join.tables & !join.seed;
            factor *= join.factor;
        }
    }
    factor
}

/// The tables of a search that can be read.
pub(super) struct Readable {
    scans: Vec<Option<Scan>>,
}

impl Readable {
    /// Those inputs that are tables as they are stored.
    pub(super) fn of(inputs: &[LogicalPlan], needed: &[ColumnId]) -> Self {
        Self { scans: inputs.iter().map(|input| stored_scan(input, needed).cloned()).collect() }
    }
}

/// Whom to ask for rows.
pub(super) struct Trial<'t, 'b> {
    pub(super) builder: &'t Builder<'b>,
    pub(super) readable: &'t Readable,
    pub(super) owned: &'t [Vec<ColumnId>],
}

impl Trial<'_, '_> {
    /// The joins of a search that were tried, the largest first; none for a query of so little `cost` that planning would take longer than
    /// it saves.
    ///
    /// Time is that of up to some thousand lookups in indexes.
    ///
    /// # Errors
    /// What reading the tables brings, HY008 and HYT00.
    pub(super) fn sampled(&self, search: &JoinSearch<'_>, cost: f64) -> Result<Vec<SampledJoin>> {
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a small number")]
        let wanted = (cost / COST_OF_SEED).clamp(0.0, MOST_SEEDS) as usize;
        if cost < WORTHWHILE || wanted < FEWEST_SEEDS || self.builder.guide.expects() {
            return Ok(Vec::new());
        }
        let trial = SearchTrial { of: self, search };
        let is_inner = |at: &usize| trial.scan(*at).is_some();
        let mut seeds: Vec<(usize, usize)> =
            (0..search.inputs.len()).filter(is_inner).map(|at| (at, trial.reach(at))).collect();
        seeds.retain(|(_, reach)| *reach > 0);
        let share = |at: usize| search.inputs[at].rows / search.conditions.size(at).max(1.0);
        seeds.sort_by(|(a, of_a), (b, of_b)| {
            let larger = || search.inputs[*b].rows.total_cmp(&search.inputs[*a].rows);
            of_b.cmp(of_a).then_with(|| share(*a).total_cmp(&share(*b))).then_with(larger)
        });
        let mut best: Vec<SampledJoin> = Vec::new();
        let largest = |found: &[SampledJoin]| found.first().map_or(0, |join| join.tables.count_ones());
        for (seed, reach) in seeds.into_iter().take(MOST_SEEDED) {
            if let Some(rows) = trial.seed(seed, wanted)? {
                let found = trial.joins(seed, &rows)?;
                if largest(&found) > largest(&best) {
                    best = found;
                }
            }
            if largest(&best) as usize > reach {
                break;
            }
        }
        Ok(best)
    }
}

struct SearchTrial<'t, 'b, 's> {
    of: &'t Trial<'t, 'b>,
    search: &'t JoinSearch<'s>,
}

impl SearchTrial<'_, '_, '_> {
    fn scan(&self, at: usize) -> Option<&Scan> {
        self.of.readable.scans[at].as_ref().filter(|_| self.search.inputs[at].side.is_none())
    }

    fn is_small(&self, at: usize) -> bool {
        self.scan(at).is_some_and(|scan| scan.source.rows() <= READ_ROWS as u64)
    }

    /// How a table is looked up from others: by an index whose first key they fix.
    fn way(&self, from: Tables, at: usize) -> Option<&IndexWay> {
        let fixed = |way: &IndexWay| {
            way.keys.iter().take_while(|fixing| fixing.iter().any(|(_, tables)| tables & !from == 0)).count()
        };
        self.search.inputs[at].indexes.iter().filter(|way| fixed(way) > 0).max_by_key(|way| fixed(way))
    }

    fn can_look_up(&self, from: Tables, at: usize) -> bool {
        let is_joined = || self.search.between(from, 1 << at).any(|edge| edge.is_key(from, 1 << at));
        self.scan(at).is_some() && is_joined() && (self.is_small(at) || self.way(from, at).is_some())
    }

    /// How many tables can be reached from one.
    fn reach(&self, seed: usize) -> usize {
        let mut set: Tables = 1 << seed;
        while let Some(next) = (0..self.search.inputs.len()).find(|at| set & 1 << at == 0 && self.can_look_up(set, *at))
        {
            set |= 1 << next;
        }
        set.count_ones() as usize - 1
    }

    /// The columns that the conditions of the search and of a table use.
    fn used(&self, scan: &Scan) -> (Vec<ColumnId>, Vec<usize>) {
        let conditions = self.search.conditions.edges().iter().map(|edge| &edge.condition).chain(&scan.filter);
        let used: Vec<ColumnId> = conditions.flat_map(Expr::columns).collect();
        used_columns(scan, &used)
    }

    /// Rows of a table that pass its conditions; `None` where too few are at hand.
    fn seed(&self, at: usize, wanted: usize) -> Result<Option<SampledRows>> {
        let Some(scan) = self.scan(at) else { return Ok(None) };
        let (columns, places) = self.used(scan);
        let read = match self.of.builder.few_rows(scan, &places)? {
            Some(batch) => batch,
            None => match scan.source.sample(&places, READ_ROWS)? {
                Some(sample) if sample.rows > 0 => Batch::new(sample.columns, sample.rows),
                _ => return Ok(None),
            },
        };
        let all = SampledRows { columns, batch: read, weight: 1.0 };
        let Some(passing) = all.filtered(&scan.filter)? else { return Ok(None) };
        if passing.batch.rows < FEWEST_SEEDS {
            return Ok(None);
        }
        let weight = self.search.inputs[at].rows / approximate(passing.batch.rows);
        SampledRows { weight, ..passing }.thinned(wanted).map(Some)
    }

    /// From a table to those beside it, one by one, and then on to all that can be reached.
    fn joins(&self, seed: usize, rows: &SampledRows) -> Result<Vec<SampledJoin>> {
        let (own, count): (Tables, usize) = (1 << seed, self.search.inputs.len());
        let mut found: Vec<SampledJoin> = Vec::new();
        let mut pairs: Vec<(usize, SampledRows)> = Vec::new();
        for at in (0..count).filter(|at| *at != seed && self.can_look_up(own, *at)).take(MOST_JOINS) {
            if let Some(joined) = self.join(own, at, rows)? {
                found.extend(self.judged(own | 1 << at, own, &joined));
                pairs.push((at, joined));
            }
        }
        let fewest = pairs.into_iter().min_by(|(_, a), (_, b)| a.estimate().total_cmp(&b.estimate()));
        let Some((first, mut current)) = fewest else { return Ok(found) };
        let mut set = own | 1 << first;
        for _ in 1..MOST_JOINS {
            let fanout = |at: &usize| self.search.rows_of(set | 1 << at);
            let next = (0..count)
                .filter(|at| set & 1 << at == 0 && self.can_look_up(set, *at))
                .min_by(|a, b| fanout(a).total_cmp(&fanout(b)));
            let Some(next) = next.filter(|_| current.batch.rows > 0) else { break };
            let Some(joined) = self.join(set, next, &current)? else { break };
            set |= 1 << next;
            found.extend(self.judged(set, own, &joined));
            current = joined;
        }
        found.sort_by_key(|join| std::cmp::Reverse(join.tables.count_ones()));
        Ok(found)
    }

    /// The sample joined with one more table.
    fn join(&self, from: Tables, at: usize, rows: &SampledRows) -> Result<Option<SampledRows>> {
        checkpoint()?;
        let Some(scan) = self.scan(at) else { return Ok(None) };
        let conditions: Vec<Expr> = self.search.between(from, 1 << at).map(|edge| edge.condition.clone()).collect();
        let (columns, places) = self.used(scan);
        let found = if self.is_small(at) {
            self.in_small(scan, (from, at), &conditions, rows)?
        } else {
            let fanout = self.search.rows_of(from | 1 << at) / self.search.rows_of(from).max(1.0);
            let most = approximate(MOST_ROWS) / fanout.max(1.0);
            if most < approximate(FEWEST_SEEDS) {
                return Ok(None);
            }
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "at most as many rows as there are"
            )]
            let rows = rows.clone().thinned(most as usize)?;
            let found = self.by_index((from, at), &conditions, (&rows, &places))?;
            return self.tested(scan, found, (&rows, &columns), &conditions);
        };
        self.tested(scan, found, (rows, &columns), &conditions)
    }

    fn tested(
        &self,
        scan: &Scan,
        found: Option<MatchedRows>,
        (rows, columns): (&SampledRows, &[ColumnId]),
        conditions: &[Expr],
    ) -> Result<Option<SampledRows>> {
        let Some(found) = found else { return Ok(None) };
        let joined = rows.joined(found, columns)?.filtered(conditions.iter().chain(&scan.filter))?;
        joined.map(|joined| joined.thinned(MOST_ROWS)).transpose()
    }

    fn by_index(
        &self,
        (from, at): (Tables, usize),
        conditions: &[Expr],
        (rows, places): (&SampledRows, &[usize]),
    ) -> Result<Option<MatchedRows>> {
        let Some(way) = self.way(from, at) else { return Ok(None) };
        let Some((Inner { scan, index }, keys)) =
            self.search.index_keys((from, at), way.number, (conditions, self.of.owned))
        else {
            return Ok(None);
        };
        let Some(values) = keys.fixed.iter().map(|(_, expr)| rows.values(expr)).collect::<Option<Vec<_>>>() else {
            return Ok(None);
        };
        if values.is_empty() { Ok(None) } else { self.of.builder.matches(scan, index, &values, places) }
    }

    /// The matches in a table of so few rows that a sample has all of them.
    fn in_small(
        &self,
        scan: &Scan,
        (from, at): (Tables, usize),
        conditions: &[Expr],
        rows: &SampledRows,
    ) -> Result<Option<MatchedRows>> {
        let (columns, places) = self.used(scan);
        let Some(sample) = scan.source.sample(&places, READ_ROWS)? else { return Ok(None) };
        if sample.rows == 0 || sample.rows as u64 != scan.source.rows() {
            return Ok(None);
        }
        let table = SampledRows { columns, batch: Batch::new(sample.columns, sample.rows), weight: 1.0 };
        let keys = conditions.iter().filter_map(|condition| key(condition, from, 1 << at, self.of.owned));
        let (mut probe, mut build) = (Vec::new(), Vec::new());
        for key in keys.filter(|key| !key.null_same) {
            let (Some(own), Some(theirs)) = (rows.values(&key.probe), table.values(&key.build)) else { continue };
            probe.push(own);
            build.push(theirs);
        }
        if probe.is_empty() { Ok(None) } else { matches_in(&table.batch, &build, &probe) }
    }

    /// What a tried join says of the rows of its tables: all where many rows came, else between what they may lie.
    fn judged(&self, tables: Tables, seed: Tables, joined: &SampledRows) -> Option<SampledJoin> {
        let reckoned = self.search.rows_of(tables);
        let came = approximate(joined.batch.rows);
        let rows = if came >= ENOUGH || joined.weight <= 1.0 {
            joined.estimate()
        } else {
            // Two standard deviations of a count to either side, and one row more than was seen.
            let deviation = 2.0 * came.sqrt() + 1.0;
            let (low, high) = ((came - deviation).max(0.0), came + deviation);
            reckoned.clamp(low * joined.weight, high * joined.weight)
        };
        (reckoned > 0.0).then(|| SampledJoin { tables, seed, factor: rows / reckoned })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_tried_counts_once() {
        let join = |tables, factor| SampledJoin { tables, seed: 1, factor };
        let known = [join(0b111, 10.0), join(0b011, 4.0), join(0b101, 3.0), join(0b1001, 2.0)];
        for (tables, factor) in
            [(0b111, 10.0), (0b011, 4.0), (0b101, 3.0), (0b1111, 20.0), (0b1011, 8.0), (0b110, 1.0), (0b1, 1.0)]
        {
            assert!((factor_of(&known, tables) - factor).abs() < 1e-9, "{tables:b}");
        }
    }
}
