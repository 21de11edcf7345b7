use super::cost::START_WORKER;
use crate::estimate::table_rows;
use crate::physical::{Candidate, Considered, Node, Operator};
use crate::types::{Cost, approximate};

/// Rows that one worker takes at a time; what is fed fewer keeps one worker busy.
const MORSEL_ROWS: f64 = 16_384.0;

/// Serial or parallel: what is fed rows enough is divided by the workers, the rest is not, and each further worker costs its start.
pub(super) fn choose(
    root: &Node,
    (limit, guided): (usize, Option<usize>),
    considered: &mut Vec<Considered>,
) -> (usize, Cost) {
    let limit = guided.unwrap_or(limit).min(limit);
    let serial = root.total.0;
    let mut saved = 0.0_f64;
    root.walk(&mut |node| {
        if is_divided(node) {
            saved += node.own.0 * (1.0 - 1.0 / approximate(limit.max(1)));
        }
    });
    let parallel = serial - saved + START_WORKER * approximate(limit.saturating_sub(1));
    let divisible = limit > 1 && saved > 0.0;
    let chosen_parallel = guided.map_or(divisible && parallel < serial, |workers| workers > 1 && limit > 1);
    let mut candidates =
        vec![Candidate { choice: "1 worker".into(), cost: Some(serial), chosen: !chosen_parallel, reason: None }];
    if limit > 1 {
        candidates.push(Candidate {
            choice: format!("{limit} workers"),
            cost: divisible.then_some(parallel),
            chosen: chosen_parallel,
            reason: (!divisible).then(|| "no step is fed rows enough to divide".into()),
        });
    }
    candidates.sort_by(|a, b| a.cost.unwrap_or(f64::MAX).total_cmp(&b.cost.unwrap_or(f64::MAX)));
    considered.push(Considered { decision: "workers".into(), candidates });
    if chosen_parallel { (limit, Cost(parallel)) } else { (1, Cost(serial)) }
}

/// Whether the rows that a node works on are more than one worker takes at a time. What an index leads to is found by one worker.
fn is_divided(node: &Node) -> bool {
    let fed = match &node.operator {
        Operator::Scan { access: Some(_), .. } => 0.0,
        Operator::Scan { .. } => given(node),
        _ => node.inputs.iter().map(given).fold(0.0, f64::max),
    };
    fed > MORSEL_ROWS
}

/// Rows of the source of the pipeline that a node gives its rows to: it is the source that is divided.
fn given(node: &Node) -> f64 {
    match (&node.operator, node.inputs.first()) {
        (Operator::Scan { scan, access: None, .. }, _) => table_rows(scan.source.rows()).0,
        (Operator::Filter(_) | Operator::Project(_) | Operator::Expand { .. }, Some(input)) => given(input),
        // The first input goes through; the second is kept.
        (Operator::Join(_) | Operator::IndexJoin(_), Some(input)) => given(input),
        _ => node.rows.0,
    }
}
