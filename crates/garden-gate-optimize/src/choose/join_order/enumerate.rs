//! Sets of tables, and the ways to split each in two.

use super::super::join_alternatives::JoinAlternative;
use super::connections::Connections;
use super::graph::{Tables, bits};
use super::{Best, JoinSearch, MOST_TABLES};
use crate::collections::HashMap;
use crate::control::checkpoint;
use crate::diagnostic::Result;
use crate::physical::JoinMethod;

/// Sets that no condition holds together are joined where they have so few combinations of rows.
const MOST_CROSSED: f64 = 10_000.0;

impl JoinSearch<'_> {
    /// Finds the best way to join all tables.
    pub(super) fn run(&mut self, all: Tables) -> Result<()> {
        let count = all.count_ones() as usize;
        if count <= MOST_TABLES { self.exhaustive(all) } else { self.greedy(count) }
    }

    fn single(&mut self, at: usize) {
        let way = JoinAlternative::of(JoinMethod::Hash);
        let best = Best { rows: self.inputs[at].rows, cost: self.inputs[at].cost, violations: 0, split: None, way };
        self.best.insert(1 << at, best);
    }

    /// Whether no way to join two sets comes to less than `known`: what is below the join costs more already.
    fn is_worse_than(&self, known: Option<&Best>, left: Tables, right: Tables) -> bool {
        let Some(known) = known else { return false };
        let (Some(a), Some(b)) = (self.best.get(&left), self.best.get(&right)) else { return false };
        // An index looks up the rows of a single table, which is not read then, or is read in another order.
        let unread = |set: Tables| {
            set.is_power_of_two() && {
                let input = &self.inputs[set.trailing_zeros() as usize];
                input.scan.is_some() || input.side.is_some()
            }
        };
        let cost = |set: Tables, best: &Best| if unread(set) { 0.0 } else { best.cost };
        (a.violations + b.violations, cost(left, a) + cost(right, b)) >= known.rank()
    }

    /// The best way to join two sets, which gives `rows` rows.
    fn join(&self, left: Tables, right: Tables, rows: f64) -> Option<Best> {
        let mut best: Option<Best> = None;
        self.for_each_way((left, right), rows, &mut |found| {
            if best.as_ref().is_none_or(|best| found.is_better_than(best)) {
                best = Some(found);
            }
        });
        best
    }

    /// The best join for each way to split `tables` in two. Pairs without a condition are among them: their cost speaks for itself.
    pub(in super::super) fn splits(&self, tables: Tables, visit: &mut impl FnMut(Best)) {
        let rows = self.rows_of(tables);
        self.for_each_split(tables, |left, right| {
            if let Some(best) = self.join(left, right, rows) {
                visit(best);
            }
        });
    }

    /// The best of [`JoinSearch::splits`]. Most are not costed: what is below them costs more than the best so far.
    fn best_split(&self, tables: Tables) -> Option<Best> {
        let rows = self.rows_of(tables);
        let mut best: Option<Best> = None;
        self.for_each_split(tables, |left, right| {
            if self.is_worse_than(best.as_ref(), left, right) {
                return;
            }
            if let Some(found) = self.join(left, right, rows)
                && best.as_ref().is_none_or(|best| found.is_better_than(best))
            {
                best = Some(found);
            }
        });
        best
    }

    /// Each way to split `tables` in two sets for which there is a best way.
    fn for_each_split(&self, tables: Tables, mut visit: impl FnMut(Tables, Tables)) {
        let known = |set: Tables| match self.found.get(usize::try_from(set).unwrap_or(usize::MAX)) {
            Some(found) => *found,
            None => self.best.contains_key(&set),
        };
        let lowest = tables & tables.wrapping_neg();
        let mut part = (tables - 1) & tables;
        while part != 0 {
            // Each split once: the side with the lowest table.
            if part & lowest != 0 && known(part) && known(tables & !part) {
                visit(part, tables & !part);
            }
            part = (part - 1) & tables;
        }
    }

    /// # Errors
    /// HY008 and HYT00: many tables take a while.
    pub(in super::super) fn exhaustive(&mut self, all: Tables) -> Result<()> {
        let graph = Connections::of(self, all);
        self.found = vec![false; usize::try_from(all).unwrap_or(0) + 1];
        for tables in 1..=all {
            if tables.is_power_of_two() {
                self.single(tables.trailing_zeros() as usize);
                self.note_found(tables);
                continue;
            }
            let crossed = || bits(tables).map(|at| self.inputs[at].rows.max(1.0)).product::<f64>();
            if !graph.is_worthwhile(tables) && crossed() > MOST_CROSSED {
                continue;
            }
            checkpoint()?;
            if let Some(best) = self.best_split(tables) {
                self.best.insert(tables, best);
                self.note_found(tables);
            }
        }
        Ok(())
    }

    fn note_found(&mut self, tables: Tables) {
        if let Some(found) = self.found.get_mut(usize::try_from(tables).unwrap_or(usize::MAX)) {
            *found = true;
        }
    }

    /// Joins, again and again, the two sets that give the fewest rows.
    ///
    /// # Errors
    /// As [`JoinSearch::exhaustive`].
    pub(in super::super) fn greedy(&mut self, count: usize) -> Result<()> {
        let mut sets: Vec<Tables> = (0..count).map(|at| 1 << at).collect();
        (0..count).for_each(|at| self.single(at));
        // Two sets that stay as they are join as they did.
        let mut pairs: HashMap<(Tables, Tables), Option<(bool, Best)>> = HashMap::default();
        while sets.len() > 1 {
            let mut chosen: Option<(bool, Best, usize, usize)> = None;
            for a in 0..sets.len() {
                checkpoint()?;
                for b in a + 1..sets.len() {
                    let pair = pairs.entry((sets[a], sets[b])).or_insert_with(|| {
                        let crossed = self.between(sets[a], sets[b]).next().is_none();
                        Some((crossed, self.join(sets[a], sets[b], self.rows_of(sets[a] | sets[b]))?))
                    });
                    let Some((crossed, best)) = pair.clone() else { continue };
                    let better = chosen.as_ref().is_none_or(|(other_crossed, other, ..)| {
                        (best.violations, crossed, best.rows) < (other.violations, *other_crossed, other.rows)
                    });
                    if better {
                        chosen = Some((crossed, best, a, b));
                    }
                }
            }
            let Some((_, best, a, b)) = chosen else { return Ok(()) };
            let joined = sets[a] | sets[b];
            self.best.insert(joined, best);
            sets.remove(b);
            sets[a] = joined;
        }
        Ok(())
    }
}
