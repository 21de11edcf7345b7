//! Several indexes of one table read together: for conditions that are each bound by another index the rows that all of them lead to, for
//! an OR the rows that one of them leads to.

use super::access::{Path, bounded, read_columns};
use super::build::Builder;
use super::cost;
use crate::diagnostic::Result;
use crate::estimate::table_rows;
use crate::logical::{ColumnId, Expr, ExprKind, Scan};
use crate::physical::{IndexAccess, Probe, SecondaryIndexes};
use crate::types::{Cost, Estimate};

/// An index with the rows that it leads to.
struct IndexCandidate {
    access: IndexAccess,
    rest: Vec<Expr>,
    rows: Estimate,
}

impl Builder<'_> {
    /// The cheapest pair of indexes that conditions bound, and for each OR whose every part an index bounds the cheapest of these.
    pub(super) fn by_several(&self, scan: &Scan, required: &[ColumnId]) -> Result<Vec<Path>> {
        if scan.indexes.len() < 2 {
            return Ok(Vec::new());
        }
        let mut paths = self.by_two(scan, required)?.into_iter().collect::<Vec<_>>();
        for term in &scan.filter {
            if let ExprKind::Or(parts) = term.kind() {
                paths.extend(self.by_parts(scan, (term, parts), required)?);
            }
        }
        Ok(paths)
    }

    fn by_two(&self, scan: &Scan, required: &[ColumnId]) -> Result<Option<Path>> {
        let found = self.bounded_by_each(scan)?;
        let mut best: Option<Path> = None;
        for (at, one) in found.iter().enumerate() {
            for other in &found[at + 1..] {
                let shared = |term: &Expr| other.access.bounds.iter().any(|known| known.same_as(term));
                if one.access.bounds.iter().any(shared) {
                    continue;
                }
                let bounds = [one.access.bounds.as_slice(), &other.access.bounds].concat();
                let left = |term: &&Expr| other.rest.iter().any(|known| known.same_as(term));
                let rest: Vec<Expr> = one.rest.iter().filter(left).cloned().collect();
                let path = self.together(scan, (true, &[one, other]), (bounds, rest), required)?;
                if best.as_ref().is_none_or(|best| path.own.0 < best.own.0) {
                    best = Some(path);
                }
            }
        }
        Ok(best)
    }

    fn by_parts(&self, scan: &Scan, (term, parts): (&Expr, &[Expr]), required: &[ColumnId]) -> Result<Option<Path>> {
        let mut chosen = Vec::new();
        for part in parts {
            let filter = if let ExprKind::And(terms) = part.kind() { terms.clone() } else { vec![part.clone()] };
            let found = self.bounded_by_each(&Scan { filter, ..scan.clone() })?;
            let Some(least) = found.into_iter().min_by(|a, b| a.rows.0.total_cmp(&b.rows.0)) else { return Ok(None) };
            chosen.push(least);
        }
        let chosen: Vec<&IndexCandidate> = chosen.iter().collect();
        // The entire condition is tested again: an index may lead to more than its part asks for.
        let rest = scan.filter.clone();
        self.together(scan, (false, &chosen), (vec![term.clone()], rest), required).map(Some)
    }

    /// Each index that the conditions of a scan bound.
    fn bounded_by_each(&self, scan: &Scan) -> Result<Vec<IndexCandidate>> {
        let all = table_rows(scan.source.rows());
        let mut found = Vec::new();
        for index in &scan.indexes {
            let (access, rest) = bounded(scan, index);
            if access.bounds.is_empty() {
                continue;
            }
            let share = self.estimator.stored().conjunction(&access.bounds)?.share();
            found.push(IndexCandidate { access, rest, rows: Estimate(all.0 * share) });
        }
        Ok(found)
    }

    fn together(
        &self,
        scan: &Scan,
        (all, found): (bool, &[&IndexCandidate]),
        (bounds, rest): (Vec<Expr>, Vec<Expr>),
        required: &[ColumnId],
    ) -> Result<Path> {
        let rows = table_rows(scan.source.rows());
        let columns = read_columns(scan, required, &rest);
        let read = Estimate(rows.0 * self.estimator.stored().conjunction(&bounds)?.share());
        let read = self.expected_of(scan, read)?;
        let mut own = cost::index_fetch(read, columns.len());
        for one in found {
            let lookups: usize = one.access.equal.iter().map(Probe::values).product();
            own = own + cost::index_numbers(rows, lookups, one.rows);
        }
        let own = Cost(own.0 * self.factors.index) + cost::work(read, &rest);
        let mut of = found.iter().map(|one| one.access.clone());
        let access = of.next().map(|first| {
            let others = Some(SecondaryIndexes { all, of: of.collect() });
            IndexAccess { bounds, others, ..first }
        });
        Ok(Path { access, rest, columns, read, is_counted: false, own })
    }
}
