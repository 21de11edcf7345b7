use super::cost::START_WORKER;
use crate::physical::{Candidate, Considered, Node};
use crate::types::{Cost, approximate};

/// Rows that one worker takes at a time; a table with fewer keeps one worker busy.
const MORSEL_ROWS: f64 = 16_384.0;

/// Serial or parallel: what can be divided is divided by the workers, and each further worker costs its start.
pub(super) fn choose(
    root: &Node,
    (limit, guided): (usize, Option<usize>),
    considered: &mut Vec<Considered>,
) -> (usize, Cost) {
    let limit = guided.unwrap_or(limit).min(limit);
    let serial = root.total.0;
    let mut largest = 0.0_f64;
    root.walk(&mut |node| largest = largest.max(node.rows.0).max(node.own.0.min(node.rows.0 * 64.0)));
    let parallel = serial / approximate(limit) + START_WORKER * approximate(limit.saturating_sub(1));
    let divisible = limit > 1 && largest > MORSEL_ROWS;
    let chosen_parallel = guided.map_or(divisible && parallel < serial, |workers| workers > 1 && limit > 1);
    let mut candidates =
        vec![Candidate { choice: "1 worker".into(), cost: Some(serial), chosen: !chosen_parallel, reason: None }];
    if limit > 1 {
        candidates.push(Candidate {
            choice: format!("{limit} workers"),
            cost: divisible.then_some(parallel),
            chosen: chosen_parallel,
            reason: (!divisible).then(|| "no step has rows enough to divide".into()),
        });
    }
    candidates.sort_by(|a, b| a.cost.unwrap_or(f64::MAX).total_cmp(&b.cost.unwrap_or(f64::MAX)));
    considered.push(Considered { decision: "workers".into(), candidates });
    if chosen_parallel { (limit, Cost(parallel)) } else { (1, Cost(serial)) }
}
