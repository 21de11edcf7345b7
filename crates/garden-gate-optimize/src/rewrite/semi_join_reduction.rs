//! `semi-join reduction`: groups that nothing meets are not computed (Bernstein & Chiu, JACM 1981; Mumick et al., SIGMOD 1990).
//!
//! ```text
//! join p.id = g.part                    join p.id = g.part
//!   scan part p  [brand = …]      →       scan part p  [brand = …]
//!   aggregate g: part, AVG(…)             aggregate g: part, AVG(…)
//!     scan line                             semi join line.part = p.id
//!                                             scan line
//!                                             scan part p  [brand = …]
//! ```
//! Condition: a grouping column equals a column of the other side, so that a group without such a row gives nothing; all rows of the others stay.
//! It pays where the other side has few rows beside the grouping's input. That side is read twice where it is a table with its conditions;
//! what takes more work is computed once for both.

use super::{Rule, RuleContext};
use crate::diagnostic::{Result, Span};
use crate::estimate::{Estimator, table_rows};
use crate::logical::{
    BinaryJoin, ColumnId, CompareOp, CteDefinition, CteId, CteReference, Expr, ExprKind, JoinKind, LogicalPlan,
    RewriteNote, RewriteRule, Scan,
};

pub(super) struct SemiJoinReduction;

/// The other side has at most this share of the rows that are grouped, and of the values that these have.
const FEW: f64 = 0.1;
/// Fewer rows are grouped at once.
const WORTHWHILE: f64 = 10_000.0;

impl Rule for SemiJoinReduction {
    fn name(&self) -> RewriteRule {
        RewriteRule::SemiJoinReduction
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
            return inner_join(inputs, conjuncts, context);
        }
        let is_plain = |join: &BinaryJoin| {
            matches!(join.kind, JoinKind::Left | JoinKind::Inner)
                && join.nearest.is_none()
                && join.guard.is_empty()
                && !join.dependent
        };
        match plan.into_join_if(is_plain) {
            Ok(join) => side_join(*join, context),
            Err(plan) => Ok(plan),
        }
    }
}

/// The groups of the right side by the rows of the left one.
fn side_join(mut join: BinaryJoin, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
    let left = join.left.output();
    let pairs = pairs(&join.right, &join.on, |id| left.contains(&id));
    let rows = rows(&join.left, context)?;
    if !is_worth(&join.right, &pairs, rows, context)? {
        return Ok(join.into_plan());
    }
    let reducer = Reducer::of(&mut join.left, context);
    join.right = reduced(join.right, &pairs, reducer, context);
    Ok(join.into_plan())
}

/// The groups among the inputs of a join by the rows of a table among the others.
fn inner_join(
    mut inputs: Vec<LogicalPlan>,
    conjuncts: Vec<Expr>,
    context: &mut RuleContext<'_>,
) -> Result<LogicalPlan> {
    for at in 0..inputs.len() {
        let mut best: Option<(f64, Vec<Pair>, usize)> = None;
        for other in (0..inputs.len()).filter(|other| *other != at) {
            let own = inputs[other].output();
            let pairs = pairs(&inputs[at], &conjuncts, |id| own.contains(&id));
            let Some(few) = rows(&inputs[other], context)?.filter(|_| !pairs.is_empty()) else { continue };
            let is_least = best.as_ref().is_none_or(|(known, ..)| few < *known);
            if is_least && is_worth(&inputs[at], &pairs, Some(few), context)? {
                best = Some((few, pairs, other));
            }
        }
        if let Some((_, pairs, other)) = best {
            let reducer = Reducer::of(&mut inputs[other], context);
            let groups = std::mem::replace(&mut inputs[at], LogicalPlan::OneRow);
            inputs[at] = reduced(groups, &pairs, reducer, context);
        }
    }
    Ok(LogicalPlan::InnerJoin { inputs, conjuncts })
}

/// A grouping column, by the column that is grouped, and the one of the other side that it equals.
struct Pair {
    grouped: ColumnId,
    outer: ColumnId,
}

/// The grouping that a plan is, but for what is computed from it.
fn grouping(plan: &LogicalPlan) -> Option<(&[(ColumnId, Expr)], &LogicalPlan)> {
    if let LogicalPlan::Project { input, .. } = plan {
        grouping(input)
    } else if let LogicalPlan::Aggregate { input, keys, .. } = plan {
        Some((keys, input))
    } else {
        None
    }
}

/// Grouping columns of a plan that equal columns of another, by equalities or by several that lead from one to the other.
fn pairs(plan: &LogicalPlan, conjuncts: &[Expr], is_outer: impl Fn(ColumnId) -> bool) -> Vec<Pair> {
    let Some((keys, _)) = grouping(plan) else { return Vec::new() };
    let equalities: Vec<(ColumnId, ColumnId)> = conjuncts.iter().filter_map(equality).collect();
    let pair = |(id, key): &(ColumnId, Expr)| {
        let ExprKind::Column(grouped) = key.kind() else { return None };
        let mut class = vec![*id];
        let mut at = 0;
        while let Some(known) = class.get(at).copied() {
            for (a, b) in &equalities {
                let other = if *a == known { *b } else { *a };
                if (*a == known || *b == known) && !class.contains(&other) {
                    class.push(other);
                }
            }
            at += 1;
        }
        class.into_iter().find(|id| is_outer(*id)).map(|outer| Pair { grouped: *grouped, outer })
    };
    keys.iter().filter_map(pair).collect()
}

fn equality(term: &Expr) -> Option<(ColumnId, ColumnId)> {
    let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() else { return None };
    match (sides[0].kind(), sides[1].kind()) {
        (ExprKind::Column(a), ExprKind::Column(b)) if sides[0].sql_type() == sides[1].sql_type() => Some((*a, *b)),
        _ => None,
    }
}

/// Whether so few rows meet so many that are grouped.
fn is_worth(plan: &LogicalPlan, pairs: &[Pair], outer: Option<f64>, context: &RuleContext<'_>) -> Result<bool> {
    let (Some((_, input)), Some(outer), false) = (grouping(plan), outer, pairs.is_empty()) else { return Ok(false) };
    let LogicalPlan::Scan(_) = input else { return Ok(false) };
    let Some(grouped) = rows(input, context)? else { return Ok(false) };
    let mut values = 0.0_f64;
    for pair in pairs {
        values = values.max(context.columns.statistics(pair.grouped)?.map_or(0.0, |known| known.distinct));
    }
    Ok(grouped >= WORTHWHILE && outer <= FEW * grouped && outer <= FEW * values)
}

/// A table with conditions of its own.
fn light(plan: &LogicalPlan) -> Option<&Scan> {
    if let LogicalPlan::Scan(scan) = plan
        && !scan.filter.is_empty()
        && !scan.filter.iter().any(Expr::has_subquery)
    {
        Some(scan)
    } else {
        None
    }
}

/// About how many rows a plan gives, where that is plain; a semi join leaves the share of rows that its other side has left.
fn rows(plan: &LogicalPlan, context: &RuleContext<'_>) -> Result<Option<f64>> {
    let estimator = Estimator { columns: context.columns, behind: None };
    Ok(match plan {
        LogicalPlan::Scan(scan) => Some(table_rows(scan.source.rows()).0 * estimator.scan(scan)?),
        LogicalPlan::Project { input, .. } => rows(input, context)?,
        LogicalPlan::Filter { input, conjuncts } => {
            let share = estimator.conjunction(conjuncts)?.share();
            rows(input, context)?.map(|rows| rows * share)
        }
        LogicalPlan::Join(join) if join.kind == JoinKind::Semi => match (rows(&join.left, context)?, &join.right) {
            (Some(left), LogicalPlan::Scan(scan)) => Some(left * estimator.scan(scan)?),
            _ => None,
        },
        LogicalPlan::OneRow
        | LogicalPlan::Empty(_)
        | LogicalPlan::Values { .. }
        | LogicalPlan::InnerJoin { .. }
        | LogicalPlan::Join(_)
        | LogicalPlan::Aggregate { .. }
        | LogicalPlan::Window { .. }
        | LogicalPlan::Distinct { .. }
        | LogicalPlan::Sort { .. }
        | LogicalPlan::Limit { .. }
        | LogicalPlan::SetOperation { .. }
        | LogicalPlan::Expand { .. }
        | LogicalPlan::CteReference(_)
        | LogicalPlan::Recursion(_)
        | LogicalPlan::RecursionInput(_) => None,
    })
}

/// The rows that groups are reduced by, and under which numbers it has the columns of the other side.
struct Reducer {
    plan: LogicalPlan,
    columns: Vec<(ColumnId, ColumnId)>,
}

impl Reducer {
    /// By the rows of a plan: read once more where that is little work, or shared with it.
    fn of(plan: &mut LogicalPlan, context: &mut RuleContext<'_>) -> Self {
        if let Some(scan) = light(plan) {
            return Self::copy(&LogicalPlan::Scan(scan.clone()), context);
        }
        let (use_of_it, reducer) = Self::shared(plan, context);
        *plan = use_of_it;
        reducer
    }

    /// A plan that is computed once more.
    fn copy(plan: &LogicalPlan, context: &mut RuleContext<'_>) -> Self {
        let (plan, map) = plan.copy(context.columns);
        Self { plan, columns: map.into_iter().collect() }
    }

    /// A plan that is computed once: a use of it instead of it, and one that groups are reduced by.
    fn shared(plan: &LogicalPlan, context: &mut RuleContext<'_>) -> (LogicalPlan, Self) {
        let output = plan.output();
        let (plan, map) = plan.copy(context.columns);
        let inner = |id: ColumnId| map.get(&id).copied().unwrap_or(id);
        let (id, name) = (CteId(context.steps.len()), "rows that are joined".to_owned());
        let outer_use = output.iter().map(|id| (*id, inner(*id))).collect();
        let own: Vec<(ColumnId, ColumnId)> = output.iter().map(|id| (*id, context.columns.copy(*id))).collect();
        let reducing_use = own.iter().map(|(id, here)| (*here, inner(*id))).collect();
        let output = output.iter().map(|id| inner(*id)).collect();
        context.steps.push(CteDefinition { name: name.clone(), plan, output, uses: 2 });
        let reference = |columns| LogicalPlan::CteReference(CteReference { id, name: name.clone(), columns });
        (reference(outer_use), Self { plan: reference(reducing_use), columns: own })
    }
}

/// The grouping over those of its rows that some row of the reducer equals.
fn reduced(plan: LogicalPlan, pairs: &[Pair], reducer: Reducer, context: &mut RuleContext<'_>) -> LogicalPlan {
    if let LogicalPlan::Project { input, computed } = plan {
        LogicalPlan::Project { input: Box::new(reduced(*input, pairs, reducer, context)), computed }
    } else if let LogicalPlan::Aggregate { input, keys, aggregates } = plan {
        let column = |id: ColumnId| Expr::column(id, context.columns.get(id).sql_type, Span::default());
        let here = |id: ColumnId| reducer.columns.iter().find(|(known, _)| *known == id).map(|(_, here)| *here);
        let same = |pair: &Pair| {
            Some(Expr::compare(CompareOp::Equal, column(pair.grouped), column(here(pair.outer)?), Span::default()))
        };
        let on: Vec<Expr> = pairs.iter().filter_map(same).collect();
        context.log.push(RewriteNote {
            rule: RewriteRule::SemiJoinReduction,
            change: "only rows whose group is joined are grouped".into(),
            why: "a group that no row of the other side meets gives nothing",
        });
        let input = BinaryJoin::new(JoinKind::Semi, *input, reducer.plan, on).into_plan();
        LogicalPlan::Aggregate { input: Box::new(input), keys, aggregates }
    } else {
        plan
    }
}
