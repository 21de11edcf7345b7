//! The graph of a search: inputs, the conditions between them, and what indexes these can be looked up in.

use super::super::build::Builder;
use super::super::cost::LookupLocality;
use super::super::index_join::{Inner, fixed_keys};
use super::super::range_keys::{RangeKeys, inequality};
use super::super::side_join::equality;
use super::conditions::lies_between;
use crate::diagnostic::Result;
use crate::estimate::table_rows;
use crate::logical::{ColumnId, Expr, ExprKind, LogicalPlan, Scan};
use crate::physical::{JoinKey, JoinRange, Node, Operator};

/// A set of tables, one bit a table.
pub(in super::super) type Tables = u64;

/// A join condition with the tables it uses and the share of pairs that fulfil it.
#[derive(Clone)]
pub(in super::super) struct Edge {
    pub(in super::super) condition: Expr,
    pub(in super::super) tables: Tables,
    pub(in super::super) share: f64,
    /// Of an equality the tables of its two sides.
    pub(in super::super) sides: Option<(Tables, Tables)>,
    /// The same of an inequality.
    pub(in super::super) bounds: Option<(Tables, Tables)>,
    /// Whether it compares what a grouping computes, which a key beside it says nothing of.
    pub(in super::super) of_result: bool,
    /// Of an equality of columns the number of the class of columns that are the same.
    pub(in super::super) class: Option<usize>,
}

impl Edge {
    /// One side of a comparison.
    pub(super) fn compared(&self) -> &Expr {
        if let ExprKind::Compare(_, sides) = self.condition.kind() { &sides[0] } else { &self.condition }
    }

    /// Whether it is an equality between these two sets.
    pub(in super::super) fn is_key(&self, left: Tables, right: Tables) -> bool {
        lies_between(self.sides, left, right)
    }

    /// Whether it is an inequality between these two sets.
    pub(in super::super) fn is_bound(&self, left: Tables, right: Tables) -> bool {
        lies_between(self.bounds, left, right)
    }
}

/// An index of a table, and for each of its leading keys the conditions that fix it, with the tables these need.
pub(in super::super) struct IndexWay {
    pub(in super::super) number: usize,
    pub(in super::super) keys: Vec<Vec<(usize, Tables)>>,
    pub(super) locality: LookupLocality,
}

/// The conditions that join tables, and those that are tested when all rows are joined.
pub(super) fn edges_of(
    builder: &Builder<'_>,
    conjuncts: Vec<Expr>,
    owned: &[Vec<ColumnId>],
) -> Result<(Vec<Edge>, Vec<Expr>)> {
    let (mut late, mut edges) = (Vec::new(), Vec::new());
    // Of two inputs all rows are joined at once, so that what can fail is one of the conditions of their join, the last.
    let (safe, risky): (Vec<Expr>, Vec<Expr>) = conjuncts.into_iter().partition(|term| !term.can_raise());
    for condition in safe.into_iter().chain(risky) {
        let tables = tables_of(&condition, owned);
        // What can fail or concerns fewer than two tables is tested when all rows are joined; but an equality that can be a key of a
        // hash table is one even so: trying every pair would be worse than meeting a row that no pair needs.
        let sides = bits(tables).find_map(|at| {
            let pair = key(&condition, 1 << at, tables & !(1 << at), owned)?;
            Some((tables_of(&pair.probe, owned), tables_of(&pair.build, owned)))
        });
        let sides = sides.or_else(|| sides_of(&condition, tables, owned));
        let bounds = bounds_of(&condition, tables, owned);
        if (condition.can_raise() && sides.is_none() && owned.len() != 2) || tables.count_ones() < 2 {
            late.push(condition);
        } else {
            let share = builder.estimator.join(&condition)?.share();
            let of_result = builder.estimator.compares_result(&condition);
            edges.push(Edge { condition, tables, share, sides, bounds, of_result, class: None });
        }
    }
    take_together(&mut edges, builder, owned)?;
    Ok((edges, late))
}

/// Two inequalities between the same two tables are seldom independent: the second gets the share that the first leaves to both.
fn take_together(edges: &mut [Edge], builder: &Builder<'_>, owned: &[Vec<ColumnId>]) -> Result<()> {
    let mut done: Vec<Tables> = Vec::new();
    for first in 0..edges.len() {
        let tables = edges[first].tables;
        if edges[first].bounds.is_none() || tables.count_ones() != 2 || done.contains(&tables) {
            continue;
        }
        done.push(tables);
        let places: Vec<usize> =
            (first..edges.len()).filter(|at| edges[*at].tables == tables && edges[*at].bounds.is_some()).collect();
        let conditions: Vec<Expr> = places.iter().map(|at| edges[*at].condition.clone()).collect();
        let ranges = ranges_between(&conditions, (tables & tables.wrapping_neg(), tables & (tables - 1)), owned);
        let own = |range: &JoinRange| places.iter().copied().find(|at| range.is_of(&edges[*at].condition));
        if let [one, other] = ranges.ranges.as_slice()
            && let (Some(one), Some(other)) = (own(one), own(other))
        {
            let both = ranges.share(&builder.estimator)?;
            edges[other].share = (both / edges[one].share.max(f64::MIN_POSITIVE)).min(1.0);
        }
    }
    Ok(())
}

/// The inequalities among conditions that a range join of two sets of tables goes by, with the rest.
pub(in super::super) fn ranges_between(
    conditions: &[Expr],
    (left, right): (Tables, Tables),
    owned: &[Vec<ColumnId>],
) -> RangeKeys {
    let within = |expr: &Expr, set: Tables| {
        let tables = tables_of(expr, owned);
        tables != 0 && tables & !set == 0
    };
    RangeKeys::of(conditions, |expr| within(expr, left), |expr| within(expr, right))
}

/// The tables of the two sides of an inequality, where no table is on both.
fn bounds_of(condition: &Expr, tables: Tables, owned: &[Vec<ColumnId>]) -> Option<(Tables, Tables)> {
    let pair = inequality(condition, |_| true, |_| true)?;
    apart((tables_of(&pair.probe, owned), tables_of(&pair.build, owned)), tables)
}

/// The tables of two sides, where they are all and no table is on both.
fn apart((a, b): (Tables, Tables), all: Tables) -> Option<(Tables, Tables)> {
    (a != 0 && b != 0 && a & b == 0 && a | b == all).then_some((a, b))
}

/// The tables of the two sides of an equality, where no table is on both.
fn sides_of(condition: &Expr, tables: Tables, owned: &[Vec<ColumnId>]) -> Option<(Tables, Tables)> {
    let pair = equality(condition, |_| true, |_| true)?;
    apart((tables_of(&pair.probe, owned), tables_of(&pair.build, owned)), tables)
}

/// What the indexes of a table can be looked up for.
pub(super) fn index_ways(
    builder: &Builder<'_>,
    (at, scan): (usize, Option<&Scan>),
    edges: &[Edge],
    owned: &[Vec<ColumnId>],
) -> Result<Vec<IndexWay>> {
    let Some(scan) = scan else { return Ok(Vec::new()) };
    let own: Tables = 1 << at;
    let pair = |(number, edge): (usize, &Edge)| {
        let others = edge.tables & !own;
        Some((number, key(&edge.condition, others, own, owned)?))
    };
    let pairs: Vec<(usize, JoinKey)> = edges.iter().enumerate().filter_map(pair).collect();
    let way = |(number, index)| -> Result<Option<IndexWay>> {
        let (mut rest, mut locality) = (pairs.clone(), None);
        let mut keys: Vec<Vec<(usize, Tables)>> = Vec::new();
        // Each key may be fixed by one of several conditions, whose other tables differ.
        loop {
            let fixed = fixed_keys(scan, index, &rest).fixed;
            for (place, (edge, _)) in fixed.iter().enumerate() {
                if keys.len() <= place {
                    keys.push(Vec::new());
                }
                keys[place].push((*edge, edges[*edge].tables & !own));
            }
            let Some((last, probe)) = fixed.first() else { break };
            locality.get_or_insert(builder.locality(&Inner { scan, index }, Some(probe))?);
            let used = *last;
            rest.retain(|(edge, _)| *edge != used);
        }
        keys.iter_mut().for_each(|found| {
            found.sort_unstable();
            found.dedup();
        });
        Ok(locality.map(|locality| IndexWay { number, keys, locality }))
    };
    scan.indexes.iter().enumerate().filter_map(|index| way(index).transpose()).collect()
}

/// The rows of a table before its conditions.
pub(super) fn stored_rows(input: &LogicalPlan) -> Option<f64> {
    if let LogicalPlan::Scan(scan) = input {
        Some(table_rows(scan.source.rows()).0)
    } else if let LogicalPlan::Filter { input, .. } | LogicalPlan::Project { input, .. } = input {
        stored_rows(input)
    } else {
        None
    }
}

/// The rows of an input that is no table before its conditions.
pub(super) fn unfiltered(node: &Node) -> f64 {
    match (&node.operator, node.inputs.first()) {
        (Operator::Filter(_) | Operator::Project(_), Some(input)) => unfiltered(input),
        _ => node.rows.0,
    }
}

/// What an input is called where orders are shown.
pub(super) fn name(input: &LogicalPlan) -> String {
    match input {
        LogicalPlan::Scan(scan) => scan.alias.clone(),
        LogicalPlan::Filter { input, .. }
        | LogicalPlan::Project { input, .. }
        | LogicalPlan::Distinct { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Aggregate { input, .. } => name(input),
        LogicalPlan::CteReference(step) => step.name.clone(),
        LogicalPlan::RecursionInput(input) => input.name.clone(),
        LogicalPlan::Join(join) => name(&join.left),
        LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::InnerJoin { .. }
        | LogicalPlan::Window { .. }
        | LogicalPlan::Sort { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::Recursion(_) => "step".into(),
    }
}

/// The tables whose columns a condition uses.
pub(super) fn tables_of(condition: &Expr, owned: &[Vec<ColumnId>]) -> Tables {
    let used = condition.columns();
    let uses = |columns: &Vec<ColumnId>| used.iter().any(|id| columns.contains(id));
    owned.iter().enumerate().filter(|(_, columns)| uses(columns)).fold(0, |set, (at, _)| set | 1 << at)
}

/// The two sides of an equality whose sides lie in different sets, the one in `left` first.
pub(in super::super) fn key(condition: &Expr, left: Tables, right: Tables, owned: &[Vec<ColumnId>]) -> Option<JoinKey> {
    let within = |expr: &Expr, set: Tables| {
        let tables = tables_of(expr, owned);
        tables != 0 && tables & !set == 0
    };
    equality(condition, |expr| within(expr, left), |expr| within(expr, right))
}

/// The numbers of the tables in a set.
pub(in super::super) fn bits(tables: Tables) -> impl Iterator<Item = usize> {
    (0..64).filter(move |at| tables & (1 << at) != 0)
}
