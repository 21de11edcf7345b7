//! Which rows of a table an index leads to from the rows of another input.

use super::build::{Builder, make, only, with_columns};
use super::cost::{self, LookupLocality};
use super::side_join::equality;
use crate::diagnostic::Result;
use crate::estimate::table_rows;
use crate::logical::{ColumnId, Expr, ExprKind, JoinKind, LogicalPlan, Scan, ScanIndex};
use crate::physical::{IndexJoin, JoinKey, Node, Operator};
use crate::types::{Cost, Estimate, SqlType};

/// The leading keys of an index, each with the conditions that fix it for a row of the other input.
#[derive(Clone, Debug)]
pub(super) struct Keys {
    /// For each condition its number, and the expression over the other input.
    pub(super) fixed: Vec<(usize, Expr)>,
}

/// For the leading keys of an index the first condition each that fixes it; empty when there is none for the first.
///
/// `pairs` are equalities between the other input (`probe`) and the table (`build`), with the numbers of their conditions.
pub(super) fn fixed_keys(scan: &Scan, index: &ScanIndex, pairs: &[(usize, JoinKey)]) -> Keys {
    let mut fixed = Vec::new();
    for key in index.keys_over(&scan.columns) {
        let Some(key) = key else { break };
        let fits = |(_, pair): &&(usize, JoinKey)| {
            !pair.null_same && pair.build.same_as(&key.expr) && same_bytes(pair.probe.sql_type(), key.expr.sql_type())
        };
        let Some((number, pair)) = pairs.iter().find(fits) else { break };
        fixed.push((*number, pair.probe.clone()));
    }
    Keys { fixed }
}

/// Whether values of two types that are equal are the same bytes.
fn same_bytes(a: SqlType, b: SqlType) -> bool {
    a == b || matches!((a, b), (SqlType::Varchar(_), SqlType::Varchar(_)))
}

/// What the cost of looking up rows in an index depends on, besides how many they are.
#[derive(Clone, Copy, Debug)]
pub(super) struct Lookup {
    /// The share of the table that each row finds.
    pub(super) share: f64,
    pub(super) locality: LookupLocality,
    /// Columns that are read of what is found, and conditions that are tested.
    pub(super) columns: usize,
    pub(super) conditions: usize,
}

/// An inner side that can be looked up in an index.
pub(super) struct Inner<'a> {
    pub(super) scan: &'a Scan,
    pub(super) index: &'a ScanIndex,
}

impl Builder<'_> {
    /// Where the rows lie that an index leads to when its first key is looked up for the values of `probe`.
    pub(super) fn locality(&self, inner: &Inner<'_>, probe: Option<&Expr>) -> Result<LookupLocality> {
        if !self.lie_together(inner.scan, inner.index)? {
            return Ok(LookupLocality::Anywhere);
        }
        let in_order = match probe.map(Expr::kind) {
            Some(ExprKind::Column(id)) => self.estimator.stored().is_in_order(*id)?,
            _ => false,
        };
        Ok(if in_order { LookupLocality::InOrder } else { LookupLocality::Together })
    }

    /// Joins by looking up each row of the outer side. `on` are all conditions of the join; those that fix keys are not tested again.
    pub(super) fn index_join_node(
        &self,
        (kind, outer): (JoinKind, Node),
        (inner, keys): (&Inner<'_>, &Keys),
        on: Vec<Expr>,
        (rows, required): (Estimate, &[ColumnId]),
    ) -> Result<Node> {
        let fixed = &keys.fixed;
        let mut bounds = Vec::new();
        let mut residual = inner.scan.filter.clone();
        for (number, condition) in on.into_iter().enumerate() {
            if fixed.iter().any(|(known, _)| *known == number) {
                bounds.push(condition);
            } else {
                residual.push(condition);
            }
        }
        let needed = with_columns(required, &residual);
        let read: Vec<_> = inner.scan.columns.iter().copied().filter(|(id, _)| needed.contains(id)).collect();
        let mut share = 1.0;
        for bound in &bounds {
            share *= self.estimator.join(bound)?.share();
        }
        let locality = self.locality(inner, fixed.first().map(|(_, expr)| expr))?;
        let lookup = Lookup { share, locality, columns: read.len(), conditions: residual.len() };
        let own = lookup_cost(inner.scan, outer.rows, lookup, rows);
        let own = Cost(own.0 * self.factors.index);
        let gives_inner = matches!(kind, JoinKind::Inner | JoinKind::Left);
        let from_inner = read.iter().map(|(id, _)| *id).filter(|_| gives_inner);
        let output = only(outer.output.iter().copied().chain(from_inner), required);
        let scan = Scan { filter: Vec::new(), ..inner.scan.clone() };
        let keys = fixed.iter().map(|(_, expr)| expr.clone()).collect();
        let index = inner.index.clone();
        let join = Box::new(IndexJoin { kind, scan, index, keys, bounds, residual, read });
        Ok(make(Operator::IndexJoin(join), vec![outer], output, rows, own))
    }
}

/// The table with indexes that an input is, apart from computed columns that nobody needs.
pub(super) fn indexed_scan<'p>(input: &'p LogicalPlan, needed: &[ColumnId]) -> Option<&'p Scan> {
    stored_scan(input, needed).filter(|scan| !scan.indexes.is_empty())
}

/// The table that an input is, apart from computed columns that nobody needs.
pub(super) fn stored_scan<'p>(input: &'p LogicalPlan, needed: &[ColumnId]) -> Option<&'p Scan> {
    if let LogicalPlan::Scan(scan) = input {
        Some(scan)
    } else if let LogicalPlan::Project { input, computed } = input
        && !computed.iter().any(|(id, _)| needed.contains(id))
    {
        stored_scan(input, needed)
    } else {
        None
    }
}

/// How many columns of a table are read: those needed, and those of its own conditions.
pub(super) fn width(scan: &Scan, needed: &[ColumnId]) -> usize {
    let needed = with_columns(needed, &scan.filter);
    scan.columns.iter().filter(|(id, _)| needed.contains(id)).count()
}

/// What it costs to look up so many rows.
pub(super) fn lookup_cost(scan: &Scan, outer: Estimate, lookup: Lookup, output: Estimate) -> Cost {
    let all = table_rows(scan.source.rows());
    let found = Estimate(outer.0 * all.0 * lookup.share);
    let own = cost::index_join(outer, (all, lookup.locality), found, lookup.columns);
    own + cost::evaluate(found, lookup.conditions) + cost::emit(output)
}

/// The equalities among conditions, by their numbers, with the side in the table as the build side.
pub(super) fn pairs_of(conditions: &[Expr], outer: &[ColumnId], table: &[ColumnId]) -> Vec<(usize, JoinKey)> {
    let within = |expr: &Expr, columns: &[ColumnId]| {
        let used = expr.columns();
        !used.is_empty() && used.iter().all(|id| columns.contains(id))
    };
    let pair = |(number, condition): (usize, &Expr)| {
        Some((number, equality(condition, |expr| within(expr, outer), |expr| within(expr, table))?))
    };
    conditions.iter().enumerate().filter_map(pair).collect()
}
