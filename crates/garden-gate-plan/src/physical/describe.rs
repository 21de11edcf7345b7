use super::identity::{fingerprint, fingerprint_above, shape};
use super::{
    IndexUse, JoinMethod, JoinSpec, KeyOrder, Measures, Node, NodeMeasure, Operator, OperatorName, PhysicalPlan, Plan,
    PlanNode, Predicate, PredicatePlace, Rewrite, Tally, Truth,
};
use crate::catalog::TableKind;
use crate::logical::{
    ColumnId, Columns, CompareOp, Expand, Expr, ExprKind, JoinKind, JoinKindName, Printer, RewriteNote, SetOp,
};
use crate::types::approximate;
use std::sync::atomic::Ordering;

/// One row put into a table or taken out, and once more for each thing that is checked of it.
const CHANGE_ROW: f64 = 20.0;

/// The plan as it is shown; with `measures`, also what each node did.
pub fn describe(
    (plan, output): (&PhysicalPlan, &[ColumnId]),
    columns: &Columns,
    rewrites: &[RewriteNote],
    measures: Option<&Measures>,
) -> Plan {
    let root = node(&plan.root, Printer::new(columns), columns, measures);
    Plan {
        fingerprint: fingerprint((&plan.root, output), columns),
        shape: shape(&root),
        generic: false,
        cost: plan.cost.0,
        workers: plan.workers,
        planning_ms: 0.0,
        root,
        built: measures.map_or_else(Vec::new, Measures::built),
        rewrites: rewrites
            .iter()
            .map(|note| Rewrite { rule: note.rule, change: note.change.clone(), why: note.why.into() })
            .collect(),
        considered: plan.considered.clone(),
        notes: Vec::new(),
    }
}

/// A change of a table as a plan: the query that finds the rows, and above it what is done with them.
pub fn above(plan: Plan, operator: OperatorName, target: &str, details: Vec<String>) -> Plan {
    let rows = plan.root.estimated_rows;
    let actual_rows = plan.root.actual_rows;
    let own_cost = rows * CHANGE_ROW * approximate(details.len() + 1);
    let root = PlanNode {
        operator,
        kind: None,
        null_aware: false,
        target: Some(target.to_owned()),
        index: None,
        alias: None,
        columns: Vec::new(),
        details,
        predicates: Vec::new(),
        estimated_rows: rows,
        own_cost,
        cost: plan.root.cost + own_cost,
        actual_rows,
        batches: plan.root.batches,
        rounds: None,
        elapsed_ms: None,
        passed_rows: None,
        held_bytes: None,
        spilled_bytes: None,
        ran: plan.root.ran,
        estimate_error: plan.root.estimate_error,
        truth: Vec::new(),
        children: vec![plan.root],
    };
    Plan {
        fingerprint: fingerprint_above(&plan.fingerprint, &root),
        shape: shape(&root),
        cost: plan.cost + own_cost,
        root,
        ..plan
    }
}

fn node(node: &Node, printer: Printer<'_>, columns: &Columns, measures: Option<&Measures>) -> PlanNode {
    let measure = measures.map(|measures| measures.of(node.id));
    let (operator, kind) = name(&node.operator);
    let mut shown = PlanNode {
        operator,
        kind,
        null_aware: matches!(&node.operator, Operator::Join(spec) if spec.null_aware().is_some()),
        target: None,
        index: None,
        alias: None,
        columns: Vec::new(),
        details: details(&node.operator, printer),
        predicates: predicates(node, printer),
        estimated_rows: node.rows.0,
        own_cost: node.own.0,
        cost: node.total.0,
        actual_rows: measure.map(|measure| measure.rows.load(Ordering::Relaxed)),
        batches: measure.map(|measure| measure.batches.load(Ordering::Relaxed)),
        rounds: measure.and_then(|measure| rounds(&node.operator, measure)),
        elapsed_ms: measure.map(|measure| approximate(measure.nanos.load(Ordering::Relaxed)) / 1e6),
        passed_rows: measure.map(|measure| measure.passed.load(Ordering::Relaxed)),
        held_bytes: measure.map(|measure| measure.held.load(Ordering::Relaxed)),
        spilled_bytes: measure.map(|measure| measure.spilled.load(Ordering::Relaxed)),
        ran: measure.map(NodeMeasure::ran),
        estimate_error: None,
        truth: measure.map_or_else(Vec::new, |measure| truth(node, measure, printer)),
        children: node.inputs.iter().map(|input| self::node(input, printer, columns, measures)).collect(),
    };
    let reading = match &node.operator {
        Operator::Scan { scan, read, access } => {
            Some((scan.as_ref(), read, access.as_ref().map(|access| access.index_use())))
        }
        Operator::IndexJoin(join) => Some((&join.scan, &join.read, Some(IndexUse::One(join.index.name.clone())))),
        _ => None,
    };
    if let Some((scan, read, index)) = reading {
        shown.index = index;
        shown.target = Some(scan.table.clone());
        shown.alias = (!scan.alias.eq_ignore_ascii_case(&scan.table)).then(|| scan.alias.clone());
        shown.columns = read.iter().map(|(id, _)| columns.get(*id).name.clone()).collect();
    }
    match &node.operator {
        Operator::SharedStep { name, .. } | Operator::RecursionInput { name, .. } => shown.target = Some(name.clone()),
        Operator::Recursion(spec) => shown.target = Some(spec.members[spec.result].name.clone()),
        _ => {}
    }
    shown.estimate_error = shown.actual_rows.filter(|_| shown.ran == Some(true)).map(|actual| {
        let runs = measure.map_or(1, |measure| measure.runs.load(Ordering::Relaxed).max(1));
        let (estimate, actual) = (shown.estimated_rows.max(1.0), (approximate(actual) / approximate(runs)).max(1.0));
        f64::max(estimate / actual, actual / estimate)
    });
    shown
}

/// The word of an operator in plans, and of a join its kind.
pub(super) fn name(operator: &Operator) -> (OperatorName, Option<JoinKindName>) {
    let name = match operator {
        Operator::OneRow | Operator::Empty | Operator::Values(_) => OperatorName::Values,
        Operator::Scan { scan, .. } if scan.kind == TableKind::File => OperatorName::FileScan,
        Operator::Scan { access: Some(access), .. } => access.operator(),
        Operator::Scan { .. } => OperatorName::TableScan,
        Operator::Filter(_) => OperatorName::Filter,
        Operator::Project(_) => OperatorName::Project,
        Operator::Join(spec) => return (spec.method.operator(), Some(kind(spec))),
        Operator::IndexJoin(join) => {
            return (JoinMethod::IndexNestedLoop.operator(), Some(join.kind.into()));
        }
        Operator::Window { .. } => OperatorName::Window,
        Operator::UnionAll(_) => OperatorName::UnionAll,
        Operator::Compare { op: SetOp::Except, .. } => OperatorName::Except,
        Operator::Compare { op: SetOp::Intersect | SetOp::Union, .. } => OperatorName::Intersect,
        Operator::Expand { .. } => OperatorName::Expand,
        Operator::SharedStep { .. } => OperatorName::SharedStep,
        Operator::Recursion(_) => OperatorName::Recursion,
        Operator::RecursionInput { .. } => OperatorName::RecursionInput,
        Operator::Aggregate { method, .. } => method.operator(),
        Operator::Distinct(_) => OperatorName::Distinct,
        Operator::Sort(_) => OperatorName::Sort,
        Operator::TopN { .. } => OperatorName::TopN,
        Operator::Limit { .. } => OperatorName::Limit,
    };
    (name, None)
}

fn kind(spec: &JoinSpec) -> JoinKindName {
    match spec.kind {
        JoinKind::Left if spec.mirrored => JoinKindName::Right,
        JoinKind::Inner if spec.keys.is_empty() && spec.ranges.is_empty() && spec.residual.is_empty() => {
            JoinKindName::Cross
        }
        kind => kind.into(),
    }
}

/// What a plan says of an operator besides its conditions.
pub(super) fn details(operator: &Operator, printer: Printer<'_>) -> Vec<String> {
    let bounds = |offset: u64, fetch: Option<u64>| {
        let fetch = fetch.map(|fetch| format!("fetch {fetch}"));
        let offset = (offset > 0).then(|| format!("offset {offset}"));
        fetch.into_iter().chain(offset).collect::<Vec<_>>()
    };
    match operator {
        Operator::OneRow => vec!["one row".into()],
        Operator::Empty => vec!["no rows".into()],
        Operator::Project(computed) => computed.iter().map(|(_, expr)| printer.expr(expr)).collect(),
        Operator::Aggregate { keys, aggregates, .. } => {
            let keys = keys.iter().map(|(_, key)| format!("by {}", printer.expr(key)));
            keys.chain(aggregates.iter().map(|(_, aggregate)| printer.aggregate(aggregate))).collect()
        }
        Operator::Sort(keys) => keys.iter().map(|key| printer.sort_key(key)).collect(),
        Operator::TopN { keys, offset, fetch } => {
            keys.iter().map(|key| printer.sort_key(key)).chain(bounds(*offset, Some(*fetch))).collect()
        }
        Operator::Limit { offset, fetch } => bounds(*offset, *fetch),
        Operator::Values(rows) => vec![format!("{} rows", rows.len())],
        Operator::Window { partition, order, calls, first } => {
            let mut details: Vec<String> = calls.iter().map(|(_, call)| printer.window_call(call)).collect();
            if !partition.is_empty() {
                details.push(format!("partition by {}", printer.exprs(partition)));
            }
            if !order.is_empty() {
                details.push(format!("order by {}", printer.sort_keys(order)));
            }
            if let Some(first) = first {
                details.push(format!("first {first} of each partition"));
            }
            details
        }
        Operator::Join(spec) => {
            let kept = spec.mirrored && matches!(spec.kind, JoinKind::Semi | JoinKind::Anti);
            let kept = kept.then(|| "rows of the build side are given".to_owned());
            let tried = tries_every_pair(spec)
                .then(|| "every pair is tried: no condition is an equality or inequality of the sides".to_owned());
            let first = spec.nearest.as_ref().map(|nearest| {
                format!("first {} of its matches by {}", nearest.fetch, printer.sort_keys(&nearest.order))
            });
            kept.into_iter().chain(first).chain(tried).collect()
        }
        Operator::Compare { all: true, .. } => vec!["all".into()],
        Operator::Expand { expand: Expand::Series(bounds), .. } => {
            let [from, to, step] = bounds.as_ref();
            vec![format!("series from {} to {} by {}", printer.expr(from), printer.expr(to), printer.expr(step))]
        }
        Operator::Expand { expand: Expand::Unnest(arrays), ordinality, .. } => {
            let with = if ordinality.is_some() { " with ordinality" } else { "" };
            vec![format!("unnest {}{with}", printer.exprs(arrays))]
        }
        Operator::Recursion(spec) => {
            let distinct = spec.members.iter().any(|member| member.distinct);
            if distinct { vec!["each row once".into()] } else { Vec::new() }
        }
        Operator::Scan { scan, access: Some(access), .. } => {
            let together = access.others.as_ref().map(|others| match others.all {
                true => "rows that all indexes lead to".to_owned(),
                false => "rows that one of the indexes leads to".to_owned(),
            });
            scan.versions.iter().cloned().chain(access.order.iter().map(in_order)).chain(together).collect()
        }
        Operator::Scan { scan, access: None, .. } => scan.versions.clone(),
        Operator::IndexJoin(join) => join.scan.versions.clone(),
        Operator::Filter(_)
        | Operator::UnionAll(_)
        | Operator::Compare { .. }
        | Operator::SharedStep { .. }
        | Operator::RecursionInput { .. }
        | Operator::Distinct(_) => Vec::new(),
    }
}

/// Whether a nested loop has conditions of which none could lead to the matches.
fn tries_every_pair(spec: &JoinSpec) -> bool {
    let leads = |term: &Expr| {
        matches!(term.kind(), ExprKind::Compare(op, _) if *op != CompareOp::NotEqual)
            || matches!(term.kind(), ExprKind::Same(_))
    };
    spec.method == JoinMethod::NestedLoop && !spec.residual.is_empty() && !spec.residual.iter().any(leads)
}

fn in_order(order: &KeyOrder) -> String {
    let way = if order.backwards { "from the last key to the first" } else { "in the order of its keys" };
    order.first.map_or_else(|| way.to_owned(), |first| format!("{way}, {first} rows"))
}

/// The conditions of an operator, with the place where each is tested.
pub(super) fn predicates(node: &Node, printer: Printer<'_>) -> Vec<Predicate> {
    let mut shown = Vec::new();
    if let Operator::Scan { access: Some(access), .. } = &node.operator {
        let bound = |term: &Expr| Predicate {
            text: printer.expr(term),
            place: PredicatePlace::IndexBound,
            implied: term.is_implied(),
        };
        shown.extend(access.bounds.iter().map(bound));
    }
    if let Operator::IndexJoin(join) = &node.operator {
        let bound = |term: &Expr| Predicate {
            text: printer.expr(term),
            place: PredicatePlace::JoinKey,
            implied: term.is_implied(),
        };
        shown.extend(join.bounds.iter().map(bound));
    }
    if let Operator::Join(spec) = &node.operator {
        for key in &spec.keys {
            let op = if key.null_same { "IS NOT DISTINCT FROM" } else { "=" };
            let text = format!("{} {op} {}", printer.expr(&key.probe), printer.expr(&key.build));
            shown.push(Predicate { text, place: PredicatePlace::JoinKey, implied: key.implied });
        }
        for range in &spec.ranges {
            let text = format!("{} {} {}", printer.expr(&range.probe), range.op.symbol(), printer.expr(&range.build));
            shown.push(Predicate { text, place: PredicatePlace::JoinKey, implied: range.implied });
        }
        if let Some(any) = &spec.any {
            let pair = |(left, right): (&Expr, &Expr)| {
                format!("{} {} {}", printer.expr(left), any.op.symbol(), printer.expr(right))
            };
            let text = any.left.iter().zip(&any.right).map(pair).collect::<Vec<_>>().join(" AND ");
            let place = if any.op == CompareOp::Equal { PredicatePlace::JoinKey } else { PredicatePlace::Residual };
            shown.push(Predicate { text, place, implied: false });
        }
    }
    let joins = matches!(node.operator, Operator::Join(_) | Operator::IndexJoin(_));
    let place = if joins { PredicatePlace::Residual } else { PredicatePlace::Filter };
    let residual = |term: &Expr| Predicate { text: printer.expr(term), place, implied: term.is_implied() };
    shown.extend(node.conjuncts().iter().map(residual));
    shown
}

/// Of a recursion its rounds; of anything else how often it ran, when that is more than once.
fn rounds(operator: &Operator, measure: &NodeMeasure) -> Option<u64> {
    match operator {
        Operator::Recursion(_) => Some(measure.rounds.load(Ordering::Relaxed)),
        _ => Some(measure.runs.load(Ordering::Relaxed)).filter(|runs| *runs > 1),
    }
}

/// The membership test of an anti join, then its conditions: the whole one, and each AND part when there are several.
fn truth(node: &Node, measure: &NodeMeasure, printer: Printer<'_>) -> Vec<Truth> {
    let membership = match &node.operator {
        Operator::Join(spec) => spec.null_aware().map(|any| {
            let row = |parts: &[Expr]| match parts {
                [one] => printer.expr(one),
                several => format!("({})", printer.exprs(several)),
            };
            let text = format!("{} {} ALL ({})", row(&any.left), any.op.inverse().symbol(), printer.exprs(&any.right));
            count(text, &measure.membership)
        }),
        _ => None,
    };
    let conjuncts = node.conjuncts();
    let whole = (conjuncts.len() > 1).then(|| printer.conjunction(conjuncts));
    let parts = conjuncts.iter().map(|part: &Expr| printer.expr(part));
    let conditions = whole.into_iter().chain(parts).zip(&measure.tallies);
    membership.into_iter().chain(conditions.map(|(predicate, tally)| count(predicate, tally))).collect()
}

fn count(predicate: String, tally: &Tally) -> Truth {
    Truth {
        predicate,
        holds: tally.holds.load(Ordering::Relaxed),
        fails: tally.fails.load(Ordering::Relaxed),
        unknown: tally.unknown.load(Ordering::Relaxed),
    }
}
