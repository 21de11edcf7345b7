//! The order and methods of inner joins: dynamic programming over connected sets of tables (Moerkotte & Neumann, VLDB 2006;
//! here every split of every set is tried), greedy past [`MOST_TABLES`].

use super::build::{Builder, make, with_columns};
use super::cost;
use super::side_join::equality;
use super::steps::is_recursive;
use crate::diagnostic::{Error, Result};
use crate::logical::{ColumnId, Expr, JoinKind, LogicalPlan, Printer};
use crate::physical::{Candidate, Considered, JoinKey, JoinSpec, Node, Operator};
use crate::types::{Cost, Estimate};

/// Up to here every order is tried: 3^12 splits take a few milliseconds.
const MOST_TABLES: usize = 12;
/// A set of tables is a word of 64 bits.
const LIMIT_TABLES: usize = 60;
/// How many orders `considered` shows.
const SHOWN_ORDERS: usize = 5;

/// A set of tables, one bit a table.
type Tables = u64;

/// A join condition with the tables it uses and the share of pairs that fulfil it.
struct Edge {
    condition: Expr,
    tables: Tables,
    share: f64,
}

/// The best way found to join a set of tables.
#[derive(Clone, Debug)]
struct Best {
    rows: f64,
    cost: f64,
    /// Probe or outer side, and build or inner side; `None` for a single table.
    split: Option<(Tables, Tables)>,
}

struct Search {
    names: Vec<String>,
    rows: Vec<f64>,
    costs: Vec<f64>,
    edges: Vec<Edge>,
    best: std::collections::HashMap<Tables, Best>,
    /// Tables with rows of a round of recursion: what is joined to them stays in memory for all rounds.
    recursive: Tables,
}

pub(super) fn build(
    builder: &mut Builder<'_>,
    inputs: Vec<LogicalPlan>,
    conjuncts: Vec<Expr>,
    required: &[ColumnId],
) -> Result<Node> {
    if inputs.len() > LIMIT_TABLES {
        return Err(Error::not_supported(&format!("a join of more than {LIMIT_TABLES} tables")));
    }
    let owned: Vec<Vec<ColumnId>> = inputs.iter().map(LogicalPlan::output).collect();
    let needed = with_columns(required, &conjuncts);
    let names = inputs.iter().map(name).collect();
    let nodes = inputs.into_iter().map(|input| builder.build(input, &needed)).collect::<Result<Vec<_>>>()?;
    let mut late = Vec::new();
    let mut edges = Vec::new();
    for condition in conjuncts {
        let tables = tables_of(&condition, &owned);
        // What can fail or concerns fewer than two tables is tested when all rows are joined; but an equality that can be a key of a
        // hash table is one even so: trying every pair would be worse than meeting a row that no pair needs.
        let is_key = bits(tables).any(|at| key(&condition, 1 << at, tables & !(1 << at), &owned).is_some());
        if (condition.can_raise() && !is_key) || tables.count_ones() < 2 {
            late.push(condition);
        } else {
            let share = builder.estimator.join(&condition)?.share();
            edges.push(Edge { condition, tables, share });
        }
    }
    let mut search = Search {
        names,
        rows: nodes.iter().map(|node| node.rows.0).collect(),
        costs: nodes.iter().map(|node| node.total.0).collect(),
        edges,
        best: std::collections::HashMap::new(),
        recursive: nodes
            .iter()
            .enumerate()
            .fold(0, |set, (at, node)| if is_recursive(node) { set | 1 << at } else { set }),
    };
    let all: Tables = (1 << nodes.len()) - 1;
    if nodes.len() <= MOST_TABLES {
        search.exhaustive(all, &owned)
    } else {
        search.greedy(nodes.len(), &owned)
    }
    search.report(all, &owned, builder);
    let above = with_columns(required, &late);
    let mut tree = Tree { search: &search, nodes: nodes.into_iter().map(Some).collect(), owned: &owned };
    let joined = tree.node(all, &above);
    if late.is_empty() { Ok(joined) } else { builder.filter_node(joined, late, required) }
}

fn name(input: &LogicalPlan) -> String {
    match input {
        LogicalPlan::Scan(scan) => scan.alias.clone(),
        LogicalPlan::Filter { input, .. } | LogicalPlan::Limit { input, .. } => name(input),
        LogicalPlan::Step(step) => step.name.clone(),
        LogicalPlan::RecursionInput(input) => input.name.clone(),
        LogicalPlan::SideJoin(join) => name(&join.left),
        _ => "step".into(),
    }
}

fn tables_of(condition: &Expr, owned: &[Vec<ColumnId>]) -> Tables {
    let used = condition.columns();
    let uses = |columns: &Vec<ColumnId>| used.iter().any(|id| columns.contains(id));
    owned.iter().enumerate().filter(|(_, columns)| uses(columns)).fold(0, |set, (at, _)| set | 1 << at)
}

/// The two sides of an equality whose sides lie in different sets, the one in `left` first.
fn key(condition: &Expr, left: Tables, right: Tables, owned: &[Vec<ColumnId>]) -> Option<JoinKey> {
    let within = |expr: &Expr, set: Tables| {
        let tables = tables_of(expr, owned);
        tables != 0 && tables & !set == 0
    };
    equality(condition, |expr| within(expr, left), |expr| within(expr, right))
}

impl Search {
    /// The conditions that become testable when `left` and `right` are joined.
    fn between(&self, left: Tables, right: Tables) -> impl Iterator<Item = &Edge> {
        let both = left | right;
        self.edges
            .iter()
            .filter(move |edge| edge.tables & !both == 0 && edge.tables & left != 0 && edge.tables & right != 0)
    }

    fn rows_of(&self, tables: Tables) -> f64 {
        let rows: f64 = bits(tables).map(|at| self.rows[at]).product();
        rows * self.edges.iter().filter(|edge| edge.tables & !tables == 0).map(|edge| edge.share).product::<f64>()
    }

    fn single(&mut self, at: usize) {
        let best = Best { rows: self.rows[at], cost: self.costs[at], split: None };
        self.best.insert(1 << at, best);
    }

    /// With `keys` equalities between the sides by hash table, without one by trying every pair.
    fn join_cost(&self, probe: &Best, build: &Best, rows: f64, keys: usize) -> f64 {
        let (probe_rows, build_rows, rows) = (Estimate(probe.rows), Estimate(build.rows), Estimate(rows));
        let own = if keys > 0 {
            cost::hash_join(probe_rows, build_rows, rows, keys)
        } else {
            cost::nested_loop_join(probe_rows, build_rows, rows)
        };
        probe.cost + build.cost + own.0
    }

    /// How many equalities there are between two sets.
    fn keys(&self, left: Tables, right: Tables, owned: &[Vec<ColumnId>]) -> usize {
        self.between(left, right).filter(|edge| key(&edge.condition, left, right, owned).is_some()).count()
    }

    /// The cheaper way round of joining two sets, which gives `rows` rows.
    fn join(&self, left: Tables, right: Tables, rows: f64, owned: &[Vec<ColumnId>]) -> Option<Best> {
        let (a, b) = (self.best.get(&left)?, self.best.get(&right)?);
        let keys = self.keys(left, right, owned);
        let (forward, backward) = (self.join_cost(a, b, rows, keys), self.join_cost(b, a, rows, keys));
        let first = if self.recursive & (left | right) == 0 { forward <= backward } else { self.recursive & left != 0 };
        Some(if first {
            Best { rows, cost: forward, split: Some((left, right)) }
        } else {
            Best { rows, cost: backward, split: Some((right, left)) }
        })
    }

    /// The best join for each way to split `tables` in two. Pairs without a condition are among them: their cost speaks for itself.
    fn splits(&self, tables: Tables, owned: &[Vec<ColumnId>]) -> Vec<Best> {
        let rows = self.rows_of(tables);
        let lowest = tables & tables.wrapping_neg();
        let mut found = Vec::new();
        let mut part = (tables - 1) & tables;
        while part != 0 {
            // Each split once: the side with the lowest table.
            if part & lowest != 0 {
                found.extend(self.join(part, tables & !part, rows, owned));
            }
            part = (part - 1) & tables;
        }
        found
    }

    fn exhaustive(&mut self, all: Tables, owned: &[Vec<ColumnId>]) {
        for tables in 1..=all {
            if tables.is_power_of_two() {
                self.single(tables.trailing_zeros() as usize);
                continue;
            }
            let best = self.splits(tables, owned).into_iter().min_by(|a, b| a.cost.total_cmp(&b.cost));
            if let Some(best) = best {
                self.best.insert(tables, best);
            }
        }
    }

    /// Joins, again and again, the two sets that give the fewest rows.
    fn greedy(&mut self, count: usize, owned: &[Vec<ColumnId>]) {
        let mut sets: Vec<Tables> = (0..count).map(|at| 1 << at).collect();
        (0..count).for_each(|at| self.single(at));
        while sets.len() > 1 {
            let mut chosen: Option<(bool, Best, usize, usize)> = None;
            for a in 0..sets.len() {
                for b in a + 1..sets.len() {
                    let crossed = self.between(sets[a], sets[b]).next().is_none();
                    let rows = self.rows_of(sets[a] | sets[b]);
                    let Some(best) = self.join(sets[a], sets[b], rows, owned) else { continue };
                    let better = chosen
                        .as_ref()
                        .is_none_or(|(other_crossed, other, ..)| (crossed, best.rows) < (*other_crossed, other.rows));
                    if better {
                        chosen = Some((crossed, best, a, b));
                    }
                }
            }
            let Some((_, best, a, b)) = chosen else { return };
            let joined = sets[a] | sets[b];
            self.best.insert(joined, best);
            sets.remove(b);
            sets[a] = joined;
        }
    }

    fn describe(&self, tables: Tables) -> String {
        match self.best.get(&tables).and_then(|best| best.split) {
            None => bits(tables).map(|at| self.names[at].as_str()).collect::<Vec<_>>().join(", "),
            Some((left, right)) => format!("({} ⋈ {})", self.describe(left), self.describe(right)),
        }
    }

    /// Records the orders and methods of the last join that were thought of.
    fn report(&self, all: Tables, owned: &[Vec<ColumnId>], builder: &mut Builder<'_>) {
        let small = self.names.len() <= MOST_TABLES;
        let mut orders =
            if small { self.splits(all, owned) } else { self.best.get(&all).cloned().into_iter().collect() };
        orders.sort_by(|a, b| a.cost.total_cmp(&b.cost));
        let chosen = self.best.get(&all).and_then(|best| best.split);
        let candidates = orders.iter().take(SHOWN_ORDERS).filter_map(|order| {
            let (left, right) = order.split?;
            let choice = format!("{} ⋈ {}", self.describe(left), self.describe(right));
            Some(Candidate { choice, cost: Some(order.cost), chosen: order.split == chosen, reason: None })
        });
        builder.considered.push(Considered { decision: "join order".into(), candidates: candidates.collect() });
        self.report_methods(all, owned, builder);
    }

    fn report_methods(&self, tables: Tables, owned: &[Vec<ColumnId>], builder: &mut Builder<'_>) {
        let Some((left, right)) = self.best.get(&tables).and_then(|best| best.split) else { return };
        let (Some(a), Some(b)) = (self.best.get(&left), self.best.get(&right)) else { return };
        let rows = self.rows_of(tables);
        let keys = self.keys(left, right, owned);
        let hash = keys > 0;
        let printer = Printer::new(builder.estimator.columns);
        let conditions: Vec<String> = self.between(left, right).map(|edge| printer.expr(&edge.condition)).collect();
        let without = if conditions.is_empty() {
            "needs an equality between the two sides, there is no condition at all".to_owned()
        } else {
            format!("needs an equality between the two sides; {} is none", conditions.join(" AND "))
        };
        let nested = self.join_cost(a, b, rows, 0);
        let mut candidates = vec![
            Candidate {
                choice: "hash join".into(),
                cost: hash.then(|| self.join_cost(a, b, rows, keys)),
                chosen: hash,
                reason: (!hash).then_some(without),
            },
            Candidate { choice: "nested-loop join".into(), cost: Some(nested), chosen: !hash, reason: None },
        ];
        candidates.sort_by_key(|candidate| !candidate.chosen);
        let decision = format!("join {} with {}", self.describe(left), self.describe(right));
        builder.considered.push(Considered { decision, candidates });
        self.report_methods(left, owned, builder);
        self.report_methods(right, owned, builder);
    }
}

fn bits(tables: Tables) -> impl Iterator<Item = usize> {
    (0..64).filter(move |at| tables & (1 << at) != 0)
}

/// Builds the operators of the chosen order.
struct Tree<'a> {
    search: &'a Search,
    nodes: Vec<Option<Node>>,
    owned: &'a [Vec<ColumnId>],
}

impl Tree<'_> {
    fn node(&mut self, tables: Tables, required: &[ColumnId]) -> Node {
        let best = &self.search.best[&tables];
        let Some((left, right)) = best.split else {
            let single = self.nodes[tables.trailing_zeros() as usize].take();
            return single.unwrap_or_else(|| make(Operator::Empty, Vec::new(), Vec::new(), Estimate(0.0), Cost(0.0)));
        };
        let conditions: Vec<Expr> = self.search.between(left, right).map(|edge| edge.condition.clone()).collect();
        let below = with_columns(required, &conditions);
        let (probe, build) = (self.node(left, &below), self.node(right, &below));
        let mut keys = Vec::new();
        let mut residual = Vec::new();
        for condition in conditions {
            match key(&condition, left, right, self.owned) {
                Some(pair) => keys.push(pair),
                None => residual.push(condition),
            }
        }
        let output = probe.output.iter().chain(&build.output).copied().filter(|id| required.contains(id)).collect();
        let rows = Estimate(best.rows);
        let count = keys.len();
        let (kind, mirrored, any, mark) = (JoinKind::Inner, false, None, None);
        let spec = Box::new(JoinSpec { kind, mirrored, keys, residual, any, mark });
        let (operator, own) = if count == 0 {
            (Operator::NestedLoopJoin(spec), cost::nested_loop_join(probe.rows, build.rows, rows))
        } else {
            (Operator::HashJoin(spec), cost::hash_join(probe.rows, build.rows, rows, count))
        };
        make(operator, vec![probe, build], output, rows, own)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnostic::Span;
    use crate::logical::{ColumnInfo, Columns, CompareOp};
    use crate::types::SqlType;

    /// A chain of tables with these row counts, each joined to the next by an equality that keeps one pair in `keep`.
    fn chain(rows: &[f64], keep: f64) -> (Search, Vec<Vec<ColumnId>>) {
        let mut columns = Columns::default();
        let mut add =
            |name: String| columns.add(ColumnInfo { qualifier: None, name, sql_type: SqlType::Integer, origin: None });
        let owned: Vec<Vec<ColumnId>> = (0..rows.len()).map(|table| vec![add(format!("c{table}"))]).collect();
        let column = |table: usize| Expr::column(owned[table][0], SqlType::Integer, Span::default());
        let edges = (1..rows.len())
            .map(|table| Edge {
                condition: Expr::compare(CompareOp::Equal, column(table - 1), column(table), Span::default()),
                tables: 1 << (table - 1) | 1 << table,
                share: 1.0 / keep,
            })
            .collect();
        let search = Search {
            names: (0..rows.len()).map(|table| format!("t{table}")).collect(),
            rows: rows.to_vec(),
            costs: rows.to_vec(),
            edges,
            best: std::collections::HashMap::new(),
            recursive: 0,
        };
        (search, owned)
    }

    #[test]
    fn the_search_finds_what_trying_every_tree_finds() {
        /// The least cost of joining a set of neighbours in the chain, straight from the definition.
        fn least(search: &Search, from: usize, to: usize) -> Best {
            if from + 1 == to {
                return Best { rows: search.rows[from], cost: search.costs[from], split: None };
            }
            let set = |from: usize, to: usize| (from..to).fold(0, |set, table| set | 1 << table);
            let rows = search.rows_of(set(from, to));
            (from + 1..to)
                .flat_map(|cut| {
                    let (a, b) = (least(search, from, cut), least(search, cut, to));
                    [search.join_cost(&a, &b, rows, 1), search.join_cost(&b, &a, rows, 1)]
                })
                .map(|cost| Best { rows, cost, split: None })
                .min_by(|a, b| a.cost.total_cmp(&b.cost))
                .unwrap()
        }
        for (rows, keep) in [
            (&[10.0, 1000.0, 5.0][..], 10.0),
            (&[1e6, 10.0, 1e6, 10.0, 1e5], 100.0),
            (&[7.0, 7.0, 7.0, 7.0, 7.0, 7.0], 7.0),
            (&[1.0, 1e7, 3.0, 1e4], 1e4),
        ] {
            let (mut search, owned) = chain(rows, keep);
            let all = (1 << rows.len()) - 1;
            search.exhaustive(all, &owned);
            let (found, expected) = (search.best[&all].cost, least(&search, 0, rows.len()).cost);
            assert!(found <= expected * (1.0 + 1e-9), "{rows:?}: {found} for {expected}");
            let (mut greedy, owned) = chain(rows, keep);
            greedy.greedy(rows.len(), &owned);
            assert!(greedy.best[&all].cost >= found * (1.0 - 1e-9), "greedy is never better: {rows:?}");
        }
    }

    #[test]
    fn pairs_without_a_condition_come_last() {
        let (mut search, owned) = chain(&[100.0, 100.0, 100.0], 100.0);
        search.edges.pop();
        search.exhaustive(0b111, &owned);
        let best = &search.best[&0b111];
        assert!(best.split == Some((0b011, 0b100)) || best.split == Some((0b100, 0b011)), "{best:?}");
        assert_eq!(search.describe(0b011), "(t0 ⋈ t1)");
        assert!(key(&search.edges[0].condition, 0b010, 0b001, &owned).is_some(), "sides in either order");
        assert!(key(&search.edges[0].condition, 0b011, 0b100, &owned).is_none(), "both sides on one side are no key");
    }
}
