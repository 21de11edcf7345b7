use super::super::key_shape::KeyShape;
use super::*;
use crate::diagnostic::Span;
use crate::logical::{ColumnId, ColumnInfo, Columns, CompareOp, Expr};
use crate::physical::JoinMethod;
use crate::types::SqlType;
use std::sync::LazyLock;

const ONE_KEY: KeyShape = KeyShape { count: 1, is_number: true };

/// A chain of tables with these row counts, each joined to the next by an equality that keeps one pair in `keep`.
fn chain(rows: &[f64], keep: f64) -> (JoinSearch<'static>, Vec<Vec<ColumnId>>) {
    static FREE: LazyLock<Guide> = LazyLock::new(Guide::default);
    let mut columns = Columns::default();
    let mut add = |name: String| columns.add(ColumnInfo::computed(name, SqlType::Integer));
    let owned: Vec<Vec<ColumnId>> = (0..rows.len()).map(|table| vec![add(format!("c{table}"))]).collect();
    let column = |table: usize| Expr::column(owned[table][0], SqlType::Integer, Span::default());
    let edges = (1..rows.len())
        .map(|table| Edge {
            condition: Expr::compare(CompareOp::Equal, column(table - 1), column(table), Span::default()),
            tables: 1 << (table - 1) | 1 << table,
            share: 1.0 / keep,
            bounds: None,
            sides: Some((1 << (table - 1), 1 << table)),
            of_result: false,
            class: None,
        })
        .collect();
    let input = |(table, rows): (usize, &f64)| JoinInput {
        name: format!("t{table}"),
        tables: Vec::new(),
        rows: *rows,
        cost: *rows,
        side: None,
        scan: None,
        indexes: Vec::new(),
        width: 0,
        ordered: Vec::new(),
    };
    let search = JoinSearch {
        inputs: rows.iter().enumerate().map(input).collect(),
        conditions: Conditions::of(edges, Vec::new(), rows.to_vec()),
        sampled: Vec::new(),
        best: HashMap::default(),
        found: Vec::new(),
        factors: cost::Factors::default(),
        recursive: 0,
        guide: &FREE,
    };
    (search, owned)
}

#[test]
fn the_search_finds_what_trying_every_tree_finds() {
    /// The least cost of joining a set of neighbours in the chain, straight from the definition.
    fn least(search: &JoinSearch<'_>, from: usize, to: usize) -> Best {
        if from + 1 == to {
            let way = JoinAlternative::of(JoinMethod::Hash);
            return Best {
                rows: search.inputs[from].rows,
                cost: search.inputs[from].cost,
                violations: 0,
                split: None,
                way,
            };
        }
        let set = |from: usize, to: usize| (from..to).fold(0, |set, table| set | 1 << table);
        let rows = search.rows_of(set(from, to));
        (from + 1..to)
            .flat_map(|cut| {
                let (a, b) = (least(search, from, cut), least(search, cut, to));
                let own = |method, a: &Best, b: &Best| search.own_cost(method, (a, b), rows, ONE_KEY) + a.cost + b.cost;
                let methods = [JoinMethod::Hash, JoinMethod::Merge, JoinMethod::NestedLoop];
                methods
                    .into_iter()
                    .flat_map(move |method| [own(method, &a, &b), own(method, &b, &a)])
                    .collect::<Vec<_>>()
            })
            .map(|cost| Best { rows, cost, violations: 0, split: None, way: JoinAlternative::of(JoinMethod::Hash) })
            .min_by(|a, b| a.cost.total_cmp(&b.cost))
            .unwrap()
    }
    for (rows, keep) in [
        (&[10.0, 1000.0, 5.0][..], 10.0),
        (&[1e6, 10.0, 1e6, 10.0, 1e5], 100.0),
        (&[7.0, 7.0, 7.0, 7.0, 7.0, 7.0], 7.0),
        (&[1.0, 1e7, 3.0, 1e4], 1e4),
    ] {
        let (mut search, _) = chain(rows, keep);
        let all = (1 << rows.len()) - 1;
        search.exhaustive(all).unwrap();
        let (found, expected) = (search.best[&all].cost, least(&search, 0, rows.len()).cost);
        assert!(found <= expected * (1.0 + 1e-9), "{rows:?}: {found} for {expected}");
        let (mut greedy, _) = chain(rows, keep);
        greedy.greedy(rows.len()).unwrap();
        assert!(greedy.best[&all].cost >= found * (1.0 - 1e-9), "greedy is never better: {rows:?}");
    }
}

#[test]
fn pairs_without_a_condition_come_last() {
    let (mut search, owned) = chain(&[100.0, 100.0, 100.0], 100.0);
    let edges = search.conditions.edges().to_vec();
    search.conditions = Conditions::of(edges[..1].to_vec(), Vec::new(), vec![100.0; 3]);
    search.exhaustive(0b111).unwrap();
    let best = &search.best[&0b111];
    assert!(best.split == Some((0b011, 0b100)) || best.split == Some((0b100, 0b011)), "{best:?}");
    assert_eq!(search.describe(0b011), "(t0 ⋈ t1)");
    assert!(key(&edges[0].condition, 0b010, 0b001, &owned).is_some(), "sides in either order");
    assert!(key(&edges[0].condition, 0b011, 0b100, &owned).is_none(), "both sides on one side are no key");
}
