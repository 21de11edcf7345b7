//! Whether two plans read the same rows.

use crate::collections::HashMap;
use crate::logical::{ColumnId, Expr, LogicalPlan};
use std::sync::Arc;

/// For each column of `plan` the one of `other` that is the same, where both read the same rows in the same way: a table with its
/// conditions, or a common table expression, and what is filtered and computed of it.
pub(super) fn same_rows(plan: &LogicalPlan, other: &LogicalPlan) -> Option<HashMap<ColumnId, ColumnId>> {
    match (plan, other) {
        (LogicalPlan::Scan(one), LogicalPlan::Scan(two)) => {
            let same = |(id, at): &(ColumnId, usize)| {
                two.columns.iter().find(|(_, place)| place == at).map(|(theirs, _)| (*id, *theirs))
            };
            let map: HashMap<ColumnId, ColumnId> = one.columns.iter().map(same).collect::<Option<_>>()?;
            let is_same = Arc::ptr_eq(&one.source, &two.source) && one.versions == two.versions;
            (is_same && all_same(&one.filter, &two.filter, &map)).then_some(map)
        }
        (LogicalPlan::CteReference(one), LogicalPlan::CteReference(two)) if one.id == two.id => {
            let same = |(id, there): &(ColumnId, ColumnId)| {
                two.columns.iter().find(|(_, known)| known == there).map(|(theirs, _)| (*id, *theirs))
            };
            one.columns.iter().map(same).collect()
        }
        (LogicalPlan::Filter { input, conjuncts }, LogicalPlan::Filter { input: of, conjuncts: theirs }) => {
            same_rows(input, of).filter(|map| all_same(conjuncts, theirs, map))
        }
        (LogicalPlan::Project { input, computed }, LogicalPlan::Project { input: of, computed: theirs }) => {
            let mut map = same_rows(input, of)?;
            if computed.len() != theirs.len() {
                return None;
            }
            for ((id, expr), (their, other)) in computed.iter().zip(theirs) {
                if !moved(expr, &map).same_as(other) {
                    return None;
                }
                map.insert(*id, *their);
            }
            Some(map)
        }
        _ => None,
    }
}

fn moved(expr: &Expr, map: &HashMap<ColumnId, ColumnId>) -> Expr {
    expr.clone().map_columns(&mut |id| map.get(&id).copied().unwrap_or(id))
}

fn all_same(own: &[Expr], theirs: &[Expr], map: &HashMap<ColumnId, ColumnId>) -> bool {
    own.len() == theirs.len() && own.iter().zip(theirs).all(|(own, other)| moved(own, map).same_as(other))
}
