//! `aggregate join to window`: a table that is joined with groups of its own rows is read once (Zuzarte et al., SIGMOD 2003).
//!
//! ```text
//! join c.bed = m.bed AND c.hours = m.most     →   filter c.hours = most
//!   scan chore as c                                 window most := MAX(hours), partition by bed
//!   aggregate m: bed, most := MAX(hours)              scan chore
//!     scan chore
//! ```
//! Condition: both scans read the same rows (same table, versions and filters), and each grouping column is compared with itself. Every row
//! is one of its group, so it meets just the group that is its partition; one without a value is in none, and goes. A left join keeps it,
//! so there the columns must never be NULL.

use super::outer_to_anti_join::stored;
use super::{Rule, RuleContext};
use crate::diagnostic::{Result, Span};
use crate::logical::{
    Aggregate, BinaryJoin, ColumnId, CompareOp, Expr, ExprKind, Frame, JoinKind, LogicalPlan, RewriteNote, RewriteRule,
    Scan, Test, WindowCall, WindowFunction,
};
use crate::types::SqlType;
use std::convert::Infallible;
use std::sync::Arc;

pub(super) struct AggregateJoinToWindow;

impl Rule for AggregateJoinToWindow {
    fn name(&self) -> RewriteRule {
        RewriteRule::AggregateJoinToWindow
    }

    fn apply(&self, plan: LogicalPlan, context: &mut RuleContext<'_>) -> Result<LogicalPlan> {
        let plan = plan.map_inputs(&mut |input| self.apply(input, context))?;
        let window = if let LogicalPlan::InnerJoin { inputs, conjuncts } = &plan {
            match inputs.as_slice() {
                [LogicalPlan::Scan(rows), groups] | [groups, LogicalPlan::Scan(rows)] => {
                    SelfJoin::of(rows, groups, conjuncts).and_then(|found| found.window(JoinKind::Inner, context))
                }
                _ => None,
            }
        } else if let LogicalPlan::Join(join) = &plan {
            match join.as_ref() {
                BinaryJoin {
                    kind: JoinKind::Left, left: LogicalPlan::Scan(rows), right, on, nearest: None, ..
                } if join.guard.is_empty() && !join.dependent => {
                    SelfJoin::of(rows, right, on).and_then(|found| found.window(JoinKind::Left, context))
                }
                _ => None,
            }
        } else {
            None
        };
        let Some(window) = window else { return Ok(plan) };
        context.log.push(RewriteNote {
            rule: RewriteRule::AggregateJoinToWindow,
            change: "the join of a table with groups of its own rows became a window".into(),
            why: "the group that a row meets is the partition that it is in",
        });
        Ok(window)
    }
}

/// A table beside groups of its rows.
struct SelfJoin<'p> {
    rows: &'p Scan,
    grouped: &'p Scan,
    /// For each grouping column the table's own one.
    keys: Vec<GroupingColumn>,
    aggregates: &'p [(ColumnId, Aggregate)],
    /// What is computed from the groups, the innermost first.
    computed: Vec<&'p [(ColumnId, Expr)]>,
    /// The other conditions of the join.
    rest: Vec<Expr>,
}

struct GroupingColumn {
    of_group: ColumnId,
    of_rows: ColumnId,
    /// Compared by IS NOT DISTINCT FROM.
    joins_nulls: bool,
}

impl<'p> SelfJoin<'p> {
    fn of(rows: &'p Scan, mut groups: &'p LogicalPlan, conjuncts: &[Expr]) -> Option<Self> {
        let mut computed: Vec<&[(ColumnId, Expr)]> = Vec::new();
        while let LogicalPlan::Project { input, computed: more } = groups {
            computed.insert(0, more);
            groups = input;
        }
        let LogicalPlan::Aggregate { input, keys, aggregates } = groups else { return None };
        let LogicalPlan::Scan(grouped) = input.as_ref() else { return None };
        let fits = |(_, aggregate): &(ColumnId, Aggregate)| aggregate.order.is_empty();
        if keys.is_empty() || !aggregates.iter().all(fits) || !reads_the_same(rows, grouped) {
            return None;
        }
        let mut rest = conjuncts.to_vec();
        let mut columns = Vec::new();
        for (of_group, key) in keys {
            let ExprKind::Column(read) = key.kind() else { return None };
            let (_, place) = grouped.columns.iter().find(|(id, _)| id == read)?;
            let (of_rows, _) = *rows.columns.iter().find(|(_, at)| at == place)?;
            let compared = |term: &Expr| pair(term).filter(|(a, b, _)| is_pair((*a, *b), (of_rows, *of_group)));
            let (at, (.., joins_nulls)) = rest.iter().enumerate().find_map(|(at, term)| Some((at, compared(term)?)))?;
            rest.remove(at);
            columns.push(GroupingColumn { of_group: *of_group, of_rows, joins_nulls });
        }
        Some(Self { rows, grouped, keys: columns, aggregates, computed, rest })
    }

    fn window(self, kind: JoinKind, context: &RuleContext<'_>) -> Option<LogicalPlan> {
        let columns = &context.columns;
        let column = |id: ColumnId| Expr::column(id, columns.get(id).sql_type, Span::default());
        let mut scan = self.rows.clone();
        let own: Vec<(ColumnId, ColumnId)> = self
            .grouped
            .columns
            .iter()
            .filter_map(|(id, place)| match scan.columns.iter().find(|(_, at)| at == place) {
                Some((known, _)) => Some((*id, *known)),
                None => {
                    scan.columns.push((*id, *place));
                    None
                }
            })
            .collect();
        let moved = |id: ColumnId| own.iter().find(|(from, _)| *from == id).map_or(id, |(_, to)| *to);
        let rows = LogicalPlan::Scan(scan);
        let never_null = |key: &&GroupingColumn| {
            key.joins_nulls || crate::logical::never_null::is_never_null(&rows, key.of_rows, &stored(columns))
        };
        let nullable: Vec<&GroupingColumn> = self.keys.iter().filter(|key| !never_null(key)).collect();
        if kind == JoinKind::Left && !(nullable.is_empty() && self.rest.is_empty()) {
            return None;
        }
        let not_null = |key: &&GroupingColumn| {
            let is_null = ExprKind::Is(Box::new(column(key.of_rows)), Test::Null);
            Expr::new(is_null, SqlType::Boolean, Span::default()).negated(true)
        };
        let known: Vec<Expr> = nullable.iter().map(not_null).collect();
        let call = |(id, aggregate): &(ColumnId, Aggregate)| {
            let span = aggregate.span;
            let own =
                aggregate.clone().map_exprs(&mut |expr| Ok::<_, Infallible>(expr.map_columns(&mut |id| moved(id))));
            let Ok(aggregate) = own;
            let function = WindowFunction::Aggregate(Box::new(aggregate));
            (*id, WindowCall { function, frame: Frame::usual(), ..WindowCall::row_number(span) })
        };
        let calls: Vec<(ColumnId, WindowCall)> = self.aggregates.iter().map(call).collect();
        let input = Box::new(rows.filter(known));
        let partition = self.keys.iter().map(|key| column(key.of_rows)).collect();
        let plan =
            if calls.is_empty() { *input } else { LogicalPlan::Window { input, partition, order: Vec::new(), calls } };
        let keys = self.keys.iter().map(|key| (key.of_group, column(key.of_rows))).collect();
        let plan = self.computed.iter().fold(plan.project(keys), |plan, computed| plan.project(computed.to_vec()));
        Some(plan.filter(self.rest))
    }
}

/// Whether two scans read the same rows.
fn reads_the_same(one: &Scan, other: &Scan) -> bool {
    let moved = |id: ColumnId| {
        let place = other.columns.iter().find(|(known, _)| *known == id).map(|(_, place)| place);
        one.columns.iter().find(|(_, at)| Some(at) == place).map_or(id, |(known, _)| *known)
    };
    let there = |term: &Expr| {
        let term = term.clone().map_columns(&mut |id| moved(id));
        one.filter.iter().any(|known| known.same_as(&term))
    };
    Arc::ptr_eq(&one.source, &other.source)
        && one.versions == other.versions
        && one.filter.len() == other.filter.len()
        && other.filter.iter().all(there)
}

/// The two columns of an equality, and whether it joins NULLs.
fn pair(term: &Expr) -> Option<(ColumnId, ColumnId, bool)> {
    let (sides, joins_nulls) = if let ExprKind::Compare(CompareOp::Equal, sides) = term.kind() {
        (sides, false)
    } else if let ExprKind::Same(sides) = term.kind() {
        (sides, true)
    } else {
        return None;
    };
    match (sides[0].kind(), sides[1].kind()) {
        (ExprKind::Column(a), ExprKind::Column(b)) => Some((*a, *b, joins_nulls)),
        _ => None,
    }
}

fn is_pair(found: (ColumnId, ColumnId), wanted: (ColumnId, ColumnId)) -> bool {
    found == wanted || (found.1, found.0) == wanted
}
