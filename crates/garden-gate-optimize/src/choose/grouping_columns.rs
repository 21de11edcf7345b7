//! Grouping columns that follow from others are not grouped by: of each group any value of theirs is the one.
//!
//! ```text
//! by o.id, o.day, c.id, c.name      →      by o.id: ANY_VALUE(o.day), ANY_VALUE(c.id), ANY_VALUE(c.name)
//! ```
//! Condition: o.id is a key of o, which `o.customer = c.id` leads to one row of c (Simmen, Shekita, Malkemus: SIGMOD 1996).

use crate::logical::dependencies::Dependencies;
use crate::logical::{Aggregate, AggregateFunction, ColumnId, Expr, ExprKind, LogicalPlan};
use crate::types::SqlType;

type Keys = Vec<(ColumnId, Expr)>;
type Aggregates = Vec<(ColumnId, Aggregate)>;

/// A grouping by the fewest columns that say the same, where there are fewer.
pub(super) fn reduced(input: &LogicalPlan, keys: &Keys, aggregates: &Aggregates) -> Option<(Keys, Aggregates)> {
    if keys.len() < 2 {
        return None;
    }
    let dependencies = Dependencies::of(input, &|_| None);
    let column = |(_, key): &(ColumnId, Expr)| if let ExprKind::Column(id) = key.kind() { Some(*id) } else { None };
    let mut kept: Vec<usize> = (0..keys.len()).collect();
    // What is dear to compare goes first.
    let mut tried: Vec<usize> = (0..keys.len()).filter(|at| may_go(keys[*at].1.sql_type())).collect();
    tried.sort_by_key(|at| keys[*at].1.sql_type().is_whole());
    for at in tried {
        let Some(own) = column(&keys[at]) else { continue };
        let others = kept.iter().filter(|other| **other != at).filter_map(|other| column(&keys[*other]));
        if kept.len() > 1 && dependencies.closure(others).contains(&own) {
            kept.retain(|other| *other != at);
        }
    }
    if kept.len() == keys.len() {
        return None;
    }
    let any = |(id, key): &(ColumnId, Expr)| {
        let (sql_type, span) = (key.sql_type(), key.span());
        (*id, Aggregate::plain(AggregateFunction::AnyValue, Some(key.clone()), sql_type, span))
    };
    let gone = (0..keys.len()).filter(|at| !kept.contains(at)).map(|at| any(&keys[at]));
    let aggregates = aggregates.iter().cloned().chain(gone).collect();
    Some((kept.iter().map(|at| keys[*at].clone()).collect(), aggregates))
}

/// Whether one value of many is found without work.
fn may_go(sql_type: SqlType) -> bool {
    !sql_type.is_binary()
        && !matches!(sql_type, SqlType::Array(_) | SqlType::Row(_) | SqlType::Uuid | SqlType::IpAddress)
}
