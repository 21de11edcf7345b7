//! Right sides of outer, semi and anti joins in a search.

use super::super::non_inner_alternatives::{Input, NonInnerAlternative, NonInnerJoin, best_of};
use super::graph::Tables;
use super::input::JoinSide;
use super::{Best, JoinSearch};

impl JoinSearch<'_> {
    /// The number of a right side that is alone in a set.
    pub(in super::super) fn side_in(&self, tables: Tables) -> Option<usize> {
        let at = tables.trailing_zeros() as usize;
        (tables.is_power_of_two() && self.inputs[at].side.is_some()).then_some(at)
    }

    /// The left side and the number of the right one, whichever way they are given.
    pub(in super::super) fn as_sides(&self, (a, b): (Tables, Tables)) -> Option<(Tables, usize)> {
        match (self.side_in(a), self.side_in(b)) {
            (None, Some(at)) => Some((a, at)),
            (Some(at), None) => Some((b, at)),
            _ => None,
        }
    }

    /// Every way to do the join of a right side, where the tables that it needs are there.
    pub(super) fn for_each_side_way(&self, sets: (Tables, Tables), rows: f64, visit: &mut impl FnMut(Best)) {
        let Some((left, at)) = self.as_sides(sets) else { return };
        let Some((_, ways, violations)) = self.non_inner_alternatives((left, at)) else { return };
        for one in ways {
            let right: Tables = 1 << at;
            let split = Some(if one.mirrored { (right, left) } else { (left, right) });
            visit(Best { rows, cost: one.cost, violations: violations + one.violations, split, way: one.way });
        }
    }

    /// The join of a right side to these tables, the ways to do it, and the demands that its left side breaks.
    fn non_inner_alternatives(
        &self,
        (left, at): (Tables, usize),
    ) -> Option<(&NonInnerJoin, Vec<NonInnerAlternative>, usize)> {
        let JoinSide { join, needs } = self.inputs[at].side.as_ref()?;
        let best = self.best.get(&left).filter(|_| needs & !left == 0)?;
        let names = if self.guide.directives.is_empty() { Vec::new() } else { self.names_in(left) };
        Some((join, join.ways(&Input::found(best, names), (&self.factors, self.guide)), best.violations))
    }

    /// What [`JoinSearch::non_inner_alternatives`] come to, and the best of them.
    pub(in super::super) fn side_choice(
        &self,
        of: (Tables, usize),
    ) -> Option<(&NonInnerJoin, Vec<NonInnerAlternative>, NonInnerAlternative)> {
        let (shape, ways, _) = self.non_inner_alternatives(of)?;
        let best = best_of(&ways);
        Some((shape, ways, best))
    }
}
