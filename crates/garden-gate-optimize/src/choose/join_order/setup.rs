//! A search is made of the inputs of a join and their conditions, and its outcome becomes operators.

use super::super::build::{Builder, with_columns};
use super::super::equal_columns::{close, joint_shares, same_columns};
use super::super::index_join::{indexed_scan, width};
use super::super::join_alternatives::tables_of as names_of;
use super::super::join_inputs::{JoinInputs, Side};
use super::super::join_tree::Tree;
use super::super::large_joins;
use super::super::sampled::{Readable, Trial};
use super::super::steps::is_recursive;
use super::JoinSearch;
use super::conditions::Conditions;
use super::graph::{Edge, Tables, bits, edges_of, index_ways, name, stored_rows, unfiltered};
use super::input::{JoinInput, JoinSide};
use super::ordered::in_orders;
use crate::collections::HashMap;
use crate::diagnostic::Result;
use crate::estimate::Equality;
use crate::logical::{ColumnId, LogicalPlan, Scan};
use crate::physical::Node;

/// Up to here a search tells what a query costs, and so whether its joins are tried on some rows, and is done again if they are.
const MOST_SEARCHED_TWICE: usize = 8;
/// A set of tables is a word of 64 bits.
const LIMIT_TABLES: usize = 60;

/// Joins inputs in the best order that the search finds.
///
/// # Errors
/// What reading statistics and rows meets, HY008 and HYT00.
pub(in super::super) fn build(builder: &mut Builder<'_>, units: JoinInputs, required: &[ColumnId]) -> Result<Node> {
    let JoinInputs { mut inputs, mut conjuncts, sides } = units;
    if inputs.len() > LIMIT_TABLES {
        (inputs, conjuncts) = large_joins::folded(inputs, conjuncts, LIMIT_TABLES);
    }
    let owned: Vec<Vec<ColumnId>> = inputs.iter().map(LogicalPlan::output).collect();
    let of_sides = sides.iter().flatten().flat_map(|(side, _)| side.exprs());
    let needed = with_columns(required, conjuncts.iter().chain(of_sides));
    let readable = Readable::of(&inputs, &needed);
    let known: Vec<KnownInput> = inputs.iter().map(|input| KnownInput::of(input, &needed)).collect();
    let nodes = inputs.into_iter().map(|input| builder.build(input, &needed)).collect::<Result<Vec<_>>>()?;
    let (mut edges, late) = edges_of(builder, conjuncts, &owned)?;
    close(&mut edges, builder, &owned)?;
    let sizes = known.iter().zip(&nodes).map(|(known, node)| known.stored.unwrap_or(unfiltered(node))).collect();
    let scope = Scope { owned: &owned, needed: &needed, edges: &edges };
    let joined = scope.join_inputs(builder, known, sides, &nodes)?;
    let is_recursive = |set: Tables, (at, node): (usize, &Node)| if is_recursive(node) { set | 1 << at } else { set };
    let joint = joint_shares(&edges, builder);
    let mut search = JoinSearch {
        inputs: joined,
        conditions: Conditions::of(edges, joint, sizes),
        sampled: Vec::new(),
        best: HashMap::default(),
        found: Vec::new(),
        factors: builder.factors,
        recursive: nodes.iter().enumerate().fold(0, is_recursive),
        guide: builder.guide,
    };
    let all: Tables = (1 << nodes.len()) - 1;
    search.run_with_trials(all, &Trial { builder, readable: &readable, owned: &owned })?;
    search.note_equal(builder);
    search.report(all, builder);
    let above = with_columns(required, &late);
    let mut tree = Tree { builder, search: &search, nodes: nodes.into_iter().map(Some).collect(), owned: &owned };
    let joined = tree.node(all, &above)?;
    if late.is_empty() { Ok(joined) } else { builder.filter_node(joined, late, required) }
}

/// An input before it is planned.
struct KnownInput {
    name: String,
    /// Rows of the table that it is before its conditions.
    stored: Option<f64>,
    /// The table with indexes that it is, and the input as it was.
    scan: Option<Scan>,
    indexed: Option<LogicalPlan>,
}

impl KnownInput {
    fn of(input: &LogicalPlan, needed: &[ColumnId]) -> Self {
        let scan = indexed_scan(input, needed).cloned();
        let indexed = scan.as_ref().map(|_| input.clone());
        Self { name: name(input), stored: stored_rows(input), scan, indexed }
    }
}

/// What the inputs of a join are looked at for.
struct Scope<'s> {
    owned: &'s [Vec<ColumnId>],
    needed: &'s [ColumnId],
    edges: &'s [Edge],
}

impl Scope<'_> {
    fn join_inputs(
        &self,
        builder: &mut Builder<'_>,
        known: Vec<KnownInput>,
        sides: Vec<Option<(Side, Tables)>>,
        nodes: &[Node],
    ) -> Result<Vec<JoinInput>> {
        let mut inputs = Vec::with_capacity(known.len());
        for (at, ((known, side), node)) in known.into_iter().zip(sides).zip(nodes).enumerate() {
            let ordered = match &known.indexed {
                Some(input) => in_orders(builder, input, self.edges, self.needed)?,
                None => Vec::new(),
            };
            let indexes = index_ways(builder, (at, known.scan.as_ref()), self.edges, self.owned)?;
            let side = side.map(|side| self.side(builder, side, (node, known.scan.clone()))).transpose()?;
            inputs.push(JoinInput {
                name: known.name,
                tables: names_of(node, builder.estimator.columns),
                rows: node.rows.0,
                cost: node.total.0,
                side,
                width: known.scan.as_ref().map_or(0, |scan| width(scan, self.needed)),
                scan: known.scan,
                indexes,
                ordered,
            });
        }
        Ok(inputs)
    }

    fn side(
        &self,
        builder: &Builder<'_>,
        (side, needs): (Side, Tables),
        right: (&Node, Option<Scan>),
    ) -> Result<JoinSide> {
        let left: Vec<ColumnId> = bits(needs).flat_map(|at| self.owned[at].iter().copied()).collect();
        Ok(JoinSide { join: builder.side_shape(side, &left, right, self.needed)?, needs })
    }
}

impl JoinSearch<'_> {
    /// Searches, and where the query costs enough tries its joins on some rows: of few tables once a first search has told what it costs, of
    /// many, whose second search would take long, before the only one.
    fn run_with_trials(&mut self, all: Tables, trial: &Trial<'_, '_>) -> Result<()> {
        let is_searched_twice = self.inputs.len() <= MOST_SEARCHED_TWICE;
        if !is_searched_twice {
            self.sampled = trial.sampled(self, self.inputs.iter().map(|input| input.cost).sum())?;
        }
        self.run(all)?;
        if is_searched_twice && let Some(best) = self.best.get(&all) {
            self.sampled = trial.sampled(self, best.cost)?;
            if !self.sampled.is_empty() {
                self.best.clear();
                self.run(all)?;
            }
        }
        Ok(())
    }

    /// Columns that are the same have no more values than either.
    fn note_equal(&self, builder: &Builder<'_>) {
        let is_of_inner = |edge: &&Edge| bits(edge.tables).all(|at| self.inputs[at].side.is_none());
        for edge in self.conditions.edges().iter().filter(is_of_inner) {
            if let Some([(a, _), (b, _)]) = same_columns(&edge.condition) {
                let rows = bits(edge.tables).map(|at| self.inputs[at].rows).fold(f64::INFINITY, f64::min);
                builder.estimator.equal(Equality { columns: [a, b], rows });
            }
        }
    }
}
