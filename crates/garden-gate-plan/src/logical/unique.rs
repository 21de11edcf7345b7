//! What is known of the rows of a plan: which columns no two rows have in common, and which conditions every row fulfils.

use super::{BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, JoinKind, LogicalPlan};

/// Sets of columns of which no two rows of the plan have the same values, and none has a NULL among them.
///
/// A set may have more columns than are needed; there are at most a few sets.
pub fn keys(plan: &LogicalPlan) -> Vec<Vec<ColumnId>> {
    const MOST: usize = 8;
    let mut found = match plan {
        LogicalPlan::OneRow => vec![Vec::new()],
        LogicalPlan::Scan(scan) => {
            let column = |at: &usize| scan.columns.iter().find(|(_, place)| place == at).map(|(id, _)| *id);
            scan.source.keys().iter().filter_map(|key| key.iter().map(column).collect()).collect()
        }
        LogicalPlan::Filter { input, conjuncts } => of_filter(input, conjuncts),
        LogicalPlan::Project { input, .. } | LogicalPlan::Sort { input, .. } | LogicalPlan::Window { input, .. } => {
            keys(input)
        }
        LogicalPlan::Limit { input, fetch, .. } => {
            let mut found = keys(input);
            if fetch.is_some_and(|fetch| fetch <= 1) {
                found.insert(0, Vec::new());
            }
            found
        }
        LogicalPlan::Aggregate { keys: grouped, .. } if grouped.is_empty() => vec![Vec::new()],
        LogicalPlan::Join(join) => of_side_join(join),
        LogicalPlan::InnerJoin { inputs, conjuncts } => of_join(inputs, conjuncts),
        LogicalPlan::Empty(_)
        | LogicalPlan::Values { .. }
        // A group may be that of NULL: no set without NULLs.
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Distinct { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_) => Vec::new(),
    };
    found.truncate(MOST);
    found
}

/// Sets of columns of which no two rows have the same values, NULL being the same as NULL: enough for DISTINCT.
pub fn distinct_sets(plan: &LogicalPlan) -> Vec<Vec<ColumnId>> {
    match plan {
        LogicalPlan::Aggregate { keys, .. } => vec![keys.iter().map(|(id, _)| *id).collect()],
        LogicalPlan::Distinct { columns, input } => {
            let mut found = distinct_sets(input);
            found.push(columns.clone());
            found
        }
        LogicalPlan::Filter { input, conjuncts } if matches!(**input, LogicalPlan::InnerJoin { .. }) => {
            of_filter(input, conjuncts)
        }
        LogicalPlan::Filter { input, .. }
        | LogicalPlan::Project { input, .. }
        | LogicalPlan::Sort { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Window { input, .. } => distinct_sets(input),
        LogicalPlan::Join(join)
            if matches!(join.kind, JoinKind::Semi | JoinKind::Anti | JoinKind::Mark | JoinKind::Single) =>
        {
            distinct_sets(&join.left)
        }
        other => keys(other),
    }
}

/// The columns of `plan` that equalities of `conjuncts` fix by columns of other plans, or by constants.
pub fn fixed(plan: &LogicalPlan, conjuncts: &[Expr]) -> Vec<ColumnId> {
    let own = plan.output();
    let is_own = |expr: &Expr| matches!(expr.kind(), ExprKind::Column(id) if own.contains(id));
    let outside = |expr: &Expr| expr.columns().iter().all(|id| !own.contains(id));
    let mut found = Vec::new();
    for term in conjuncts {
        let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { continue };
        for (one, other) in [(&sides[0], &sides[1]), (&sides[1], &sides[0])] {
            if let (true, true, ExprKind::Column(id)) = (is_own(one), outside(other), one.kind()) {
                found.push(*id);
            }
        }
    }
    found
}

/// Whether the plan has at most one row for each combination of values of the others.
pub fn at_most_one(plan: &LogicalPlan, conjuncts: &[Expr]) -> bool {
    let fixed = fixed(plan, conjuncts);
    keys(plan).iter().any(|key| key.iter().all(|id| fixed.contains(id)))
}

fn of_side_join(join: &BinaryJoin) -> Vec<Vec<ColumnId>> {
    match join.kind {
        JoinKind::Semi | JoinKind::Anti | JoinKind::Mark | JoinKind::Single => keys(&join.left),
        JoinKind::Left | JoinKind::Inner if at_most_one(&join.right, &join.on) && !join.dependent => keys(&join.left),
        JoinKind::Inner => pairs(&keys(&join.left), &keys(&join.right)),
        JoinKind::Left | JoinKind::Full => Vec::new(),
    }
}

/// Of rows that are filtered: the conditions may be those of the join below.
fn of_filter(input: &LogicalPlan, conjuncts: &[Expr]) -> Vec<Vec<ColumnId>> {
    match input {
        LogicalPlan::InnerJoin { inputs, conjuncts: known } => of_join(inputs, &[known.as_slice(), conjuncts].concat()),
        other => keys(other),
    }
}

/// A key of one input alone when all others have at most one row for it; else keys of all inputs together.
fn of_join(inputs: &[LogicalPlan], conjuncts: &[Expr]) -> Vec<Vec<ColumnId>> {
    let mut found = Vec::new();
    for (at, input) in inputs.iter().enumerate() {
        if decides_all(at, inputs, conjuncts) {
            found.extend(keys(input));
        }
    }
    if found.is_empty() {
        found = inputs.iter().map(keys).reduce(|a, b| pairs(&a, &b)).unwrap_or_default();
    }
    found
}

/// Whether a row of one input has at most one row of each other: equalities fix a key of it, by columns of inputs of which that is known.
fn decides_all(at: usize, inputs: &[LogicalPlan], conjuncts: &[Expr]) -> bool {
    let mut decided = inputs[at].output();
    let mut open: Vec<&LogicalPlan> =
        inputs.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, other)| other).collect();
    while !open.is_empty() {
        let before = open.len();
        open.retain(|other| {
            let fixed = fixed_by(other, &decided, conjuncts);
            let is_decided = keys(other).iter().any(|key| key.iter().all(|id| fixed.contains(id)));
            if is_decided {
                decided.extend(other.output());
            }
            !is_decided
        });
        if open.len() == before {
            return false;
        }
    }
    true
}

/// The columns of `plan` that equalities fix by these columns of other plans alone.
fn fixed_by(plan: &LogicalPlan, by: &[ColumnId], conjuncts: &[Expr]) -> Vec<ColumnId> {
    let allowed = [plan.output().as_slice(), by].concat();
    let between = conjuncts.iter().filter(|term| term.columns().iter().all(|id| allowed.contains(id)));
    fixed(plan, &between.cloned().collect::<Vec<_>>())
}

fn pairs(a: &[Vec<ColumnId>], b: &[Vec<ColumnId>]) -> Vec<Vec<ColumnId>> {
    a.iter().flat_map(|a| b.iter().map(move |b| [a.as_slice(), b].concat())).collect()
}

/// The conditions over this one column that every row of the plan fulfils.
pub fn conditions_on(plan: &LogicalPlan, column: ColumnId) -> Vec<Expr> {
    let mut found = Vec::new();
    let mut add = |terms: &[Expr]| {
        found.extend(terms.iter().filter(|term| term.columns() == [column]).cloned());
    };
    match plan {
        LogicalPlan::Scan(scan) => add(&scan.filter),
        LogicalPlan::Filter { input, conjuncts } => {
            add(conjuncts);
            found.extend(conditions_on(input, column));
        }
        LogicalPlan::Project { input, .. }
        | LogicalPlan::Sort { input, .. }
        | LogicalPlan::Limit { input, .. }
        | LogicalPlan::Window { input, .. }
        | LogicalPlan::Distinct { input, .. } => found.extend(conditions_on(input, column)),
        LogicalPlan::InnerJoin { inputs, .. } => {
            found.extend(inputs.iter().flat_map(|input| conditions_on(input, column)));
        }
        LogicalPlan::Join(join) if join.kind != JoinKind::Full => {
            found.extend(conditions_on(&join.left, column));
        }
        _ => {}
    }
    found
}
