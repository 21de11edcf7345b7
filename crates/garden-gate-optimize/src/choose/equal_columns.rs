//! Columns that equalities make the same: `a.x = b.x AND b.x = c.x` makes one class of three columns, and a join of a with c may lean on
//! `a.x = c.x`, which nobody wrote.

use super::build::Builder;
use super::join_order::{Edge, JointShare, Tables};
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
pub(super) fn joint_shares(edges: &[Edge], builder: &Builder<'_>) -> Vec<JointShare> {
    let mut found: Vec<JointShare> = Vec::new();
    for edge in edges.iter().filter(|edge| edge.tables.count_ones() == 2) {
        if found.iter().any(|known| known.tables == edge.tables) {
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
            found.push(JointShare { tables: edge.tables, share: 1.0 / distinct.max(1.0) });
        }
    }
    found
}
