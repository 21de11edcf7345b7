//! Columns that equalities make the same: `a.x = b.x AND b.x = c.x` makes one class of three columns, and a join of a with c may lean on
//! `a.x = c.x`, which nobody wrote.

use super::build::Builder;
use super::join_order::{Edge, Tables, bits};
use crate::diagnostic::Result;
use crate::logical::{ColumnId, CompareOp, Expr, ExprKind};

/// The two columns that a condition makes the same: of one type, so that equality is the same for each pair of a class.
pub(super) fn same_columns(condition: &Expr) -> Option<[(ColumnId, &Expr); 2]> {
    let ExprKind::Compare(CompareOp::Equal, sides) = condition.kind() else { return None };
    match (sides[0].kind(), sides[1].kind()) {
        (ExprKind::Column(a), ExprKind::Column(b)) if sides[0].sql_type() == sides[1].sql_type() => {
            Some([(*a, &sides[0]), (*b, &sides[1])])
        }
        _ => None,
    }
}

/// Gives each equality of columns the number of its class, and adds the equalities that follow from the others.
///
/// # Errors
/// What reading statistics meets.
pub(super) fn close(edges: &mut Vec<Edge>, builder: &Builder<'_>, owned: &[Vec<ColumnId>]) -> Result<()> {
    let mut classes: Vec<Vec<(ColumnId, Expr)>> = Vec::new();
    for edge in edges.iter() {
        let Some(pair) = same_columns(&edge.condition) else { continue };
        let mut joined: Vec<(ColumnId, Expr)> = pair.iter().map(|(id, expr)| (*id, (*expr).clone())).collect();
        // Classes that the pair touches become one with it.
        classes.retain_mut(|class| {
            let touches = class.iter().any(|(known, _)| pair.iter().any(|(id, _)| id == known));
            if touches {
                joined.append(class);
            }
            !touches
        });
        joined.sort_by_key(|(id, _)| *id);
        joined.dedup_by_key(|(id, _)| *id);
        classes.push(joined);
    }
    let table = |id: ColumnId| owned.iter().position(|columns| columns.contains(&id));
    // Two columns of one table that are the same are a condition on that table, which no equality of a class may stand for.
    classes.retain(|class| {
        let mut tables: Vec<Option<usize>> = class.iter().map(|(id, _)| table(*id)).collect();
        tables.sort_unstable();
        tables.windows(2).all(|pair| pair[0] != pair[1])
    });
    for edge in edges.iter_mut() {
        let Some([(id, _), _]) = same_columns(&edge.condition) else { continue };
        edge.class = classes.iter().position(|class| class.iter().any(|(known, _)| *known == id));
    }
    for (number, class) in classes.iter().enumerate() {
        for (at, (a, left)) in class.iter().enumerate() {
            for (b, right) in &class[at + 1..] {
                let (Some(of_a), Some(of_b)) = (table(*a), table(*b)) else { continue };
                let (one, other): (Tables, Tables) = (1 << of_a, 1 << of_b);
                let known = |edge: &Edge| edge.class == Some(number) && edge.tables == one | other;
                if of_a == of_b || edges.iter().any(known) {
                    continue;
                }
                let condition = Expr::compare(CompareOp::Equal, left.clone(), right.clone(), left.span()).implied();
                let share = builder.estimator.join(&condition)?.share();
                let sides = Some((one, other));
                let of_result = builder.estimator.compares_result(&condition);
                let (tables, class) = (one | other, Some(number));
                edges.push(Edge { condition, tables, share, sides, bounds: None, of_result, class });
            }
        }
    }
    Ok(())
}

/// For two tables between which there are several equalities of columns that ANALYZE has looked at together, on one side or both: the share
/// of pairs for which all of them hold.
pub(super) fn joint_shares(edges: &[Edge], builder: &Builder<'_>) -> Vec<(Tables, f64)> {
    let mut found: Vec<(Tables, f64)> = Vec::new();
    for edge in edges.iter().filter(|edge| edge.tables.count_ones() == 2) {
        if found.iter().any(|(known, _)| *known == edge.tables) {
            continue;
        }
        let pairs = edges.iter().filter(|other| other.tables == edge.tables && !other.condition.is_implied());
        let columns: Vec<ColumnId> =
            pairs.filter_map(|other| same_columns(&other.condition)).flatten().map(|(id, _)| id).collect();
        let covered = builder.estimator.columns.groups().iter().filter(|group| {
            group.columns.len() * 2 == columns.len() && group.columns.iter().all(|id| columns.contains(id))
        });
        let most = covered.map(|group| group.statistics().distinct).reduce(f64::max);
        if let Some(distinct) = most.filter(|_| columns.len() > 2) {
            found.push((edge.tables, 1.0 / distinct.max(1.0)));
        }
    }
    found
}

/// The share of all combinations of rows of these tables that fulfil every condition among them.
///
/// Of the equalities of a class as many count as are needed to tie its tables together, those that keep most rows first: the others follow.
/// Several equalities between two tables are taken for a key of the smaller one at most: independent columns would leave hardly a pair.
///
/// `joint` has the shares of several equalities between two tables whose columns were looked at together.
pub(super) fn share_of(edges: &[Edge], tables: Tables, (sizes, joint): (&[f64], &[(Tables, f64)])) -> f64 {
    let mut within: Vec<&Edge> = edges.iter().filter(|edge| edge.tables & !tables == 0).collect();
    // Two tables that several classes tie are tied by all of these: together they may be a key.
    let several = |edge: &Edge| {
        let other = |other: &&Edge| other.tables == edge.tables && other.sides.is_some() && other.class != edge.class;
        edge.class.is_some() && edge.sides.is_some() && edges.iter().any(|known| other(&known))
    };
    within.sort_by(|a, b| several(b).cmp(&several(a)).then(b.share.total_cmp(&a.share)));
    // For each class the sets of its tables that are tied already.
    let mut tied: Vec<(usize, Tables)> = Vec::new();
    let mut share = 1.0;
    let mut pairs: Vec<(Tables, usize, f64)> = Vec::new();
    for edge in within {
        if let Some(class) = edge.class {
            let touching: Vec<Tables> =
                tied.iter().filter(|(of, set)| *of == class && set & edge.tables != 0).map(|(_, set)| *set).collect();
            if touching.iter().any(|set| edge.tables & !set == 0) {
                continue;
            }
            let joined = touching.iter().fold(edge.tables, |all, set| all | set);
            tied.retain(|(of, set)| *of != class || set & edge.tables == 0);
            tied.push((class, joined));
        }
        let is_pair = edge.sides.is_some() && edge.tables.count_ones() == 2 && !edge.of_result;
        match pairs.iter_mut().find(|(known, ..)| is_pair && *known == edge.tables) {
            Some((_, count, product)) => {
                *count += 1;
                *product *= edge.share;
            }
            None if is_pair => pairs.push((edge.tables, 1, edge.share)),
            None => share *= edge.share,
        }
    }
    for (pair, count, product) in pairs {
        let smaller = bits(pair).map(|at| sizes[at]).fold(f64::MAX, f64::min).max(1.0);
        let known = joint.iter().find(|(known, _)| *known == pair).map(|(_, share)| *share);
        share *= match (count, known) {
            (1, _) => product,
            (_, Some(known)) => known,
            (_, None) => product.max(1.0 / smaller),
        };
    }
    share
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnostic::Span;
    use crate::types::SqlType;

    fn edge(a: u32, b: u32, share: f64, class: Option<usize>) -> Edge {
        let column = |id| Expr::column(ColumnId(id), SqlType::Integer, Span::default());
        let condition = Expr::compare(CompareOp::Equal, column(a), column(b), Span::default());
        let tables = 1 << a | 1 << b;
        Edge { condition, tables, share, sides: Some((1 << a, 1 << b)), bounds: None, of_result: false, class }
    }

    #[test]
    fn equalities_that_follow_from_others_count_once() {
        let sizes = [100.0, 1_000.0, 10_000.0];
        let class = [edge(0, 1, 1e-3, Some(0)), edge(1, 2, 1e-4, Some(0)), edge(0, 2, 1e-4, Some(0))];
        assert!((share_of(&class, 0b111, (&sizes, &[])) - 1e-7).abs() < 1e-12);
        assert!(
            (share_of(&class, 0b101, (&sizes, &[])) - 1e-4).abs() < 1e-12,
            "two of the tables are tied by the third equality"
        );
        let apart = [edge(0, 1, 1e-3, Some(0)), edge(1, 2, 1e-4, Some(1)), edge(0, 2, 1e-1, None)];
        assert!((share_of(&apart, 0b111, (&sizes, &[])) - 1e-8).abs() < 1e-13, "these are independent");
        // Tables 1 and 2 share two columns, each of which another table has as well: those two are tied as by a key of the smaller one.
        let of = |a: u32, b: u32, share: f64, class: usize| edge(a, b, share, Some(class));
        let both = [
            of(0, 1, 1e-3, 0),
            of(0, 2, 1e-3, 0),
            of(1, 2, 1e-3, 0),
            of(1, 2, 1e-2, 1),
            of(1, 3, 1e-2, 1),
            of(2, 3, 1e-2, 1),
        ];
        let sizes = [1_000.0, 5_000.0, 50_000.0, 100.0];
        // Of 5,000 rows with each 50,000 one in 5,000; then one in 1,000 for the one, and one in 100 for the other table.
        let share = share_of(&both, 0b1111, (&sizes, &[]));
        assert!((share / (1.0 / 5_000.0 * 1e-3 * 1e-2) - 1.0).abs() < 1e-9, "{share}");
        let sizes = [100.0, 1_000.0, 10_000.0];
        // Two columns that make a key of the table of 100 rows: not one in 10,000 pairs, but one in 100.
        let key = [edge(0, 1, 1e-2, None), edge(0, 1, 1e-2, None)];
        assert!((share_of(&key, 0b11, (&sizes, &[])) - 1e-2).abs() < 1e-12);
    }
}
