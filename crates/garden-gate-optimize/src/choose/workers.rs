use super::cost::START_WORKER;
use crate::physical::{Candidate, Considered, Decision, Node, Operator, WORTH_A_WORKER};
use crate::types::{Cost, approximate};

/// Rows that one worker takes at a time when each is little work.
const MORSEL_ROWS: f64 = 16_384.0;

/// Serial or parallel: the work of pipelines that can be divided is divided by the workers, and each further worker costs its start.
pub(super) fn choose(
    root: &Node,
    (limit, guided): (usize, Option<usize>),
    considered: &mut Vec<Considered>,
) -> (usize, Cost) {
    let limit = guided.unwrap_or(limit).min(limit);
    let serial = root.total.0;
    let mut pipelines = Pipelines::default();
    pipelines.through(root);
    let divided: f64 = pipelines.0.iter().filter(|pipeline| pipeline.is_divided()).map(|pipeline| pipeline.work).sum();
    let parallel =
        serial - divided + divided / approximate(limit.max(1)) + START_WORKER * approximate(limit.saturating_sub(1));
    let divisible = limit > 1 && divided > 0.0;
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
    considered.push(Considered { decision: Decision::Workers, candidates });
    if chosen_parallel { (limit, Cost(parallel)) } else { (1, Cost(serial)) }
}

/// Rows of a source that go through some steps into a sink: what is divided among the workers are the rows of the source.
struct Pipeline {
    rows: f64,
    /// The cost of the steps, and with that of the sink and of reading.
    steps: f64,
    work: f64,
}

impl Pipeline {
    fn is_divided(&self) -> bool {
        self.rows > MORSEL_ROWS || (self.rows >= 2.0 && self.steps > 2.0 * WORTH_A_WORKER)
    }
}

/// The pipelines of a plan.
#[derive(Default)]
struct Pipelines(Vec<Pipeline>);

impl Pipelines {
    /// The number of the pipeline in which the rows of a node go on.
    fn through(&mut self, node: &Node) -> usize {
        let inputs: Vec<usize> = node.inputs.iter().map(|input| self.through(input)).collect();
        let own = node.own.0;
        match (&node.operator, inputs.first()) {
            (Operator::Scan { scan, access: None, .. }, _) => self.add(approximate(scan.source.rows()), own),
            // What an index leads to is found by one worker.
            (Operator::Scan { .. }, _) => self.add(node.rows.0, 0.0),
            (
                Operator::Filter(_) | Operator::Project(_) | Operator::Expand { .. } | Operator::IndexJoin(_),
                Some(input),
            ) => self.step(*input, own),
            // The first input goes through; the second is gathered before it does.
            (Operator::Join(_), Some(probe)) => {
                match self.longest(&inputs) {
                    Some(build) if build != *probe => self.0[build].work += own,
                    _ => drop(self.step(*probe, own)),
                }
                *probe
            }
            _ => {
                if let Some(input) = self.longest(&inputs) {
                    self.0[input].work += own;
                }
                self.add(node.rows.0, 0.0)
            }
        }
    }

    fn longest(&self, inputs: &[usize]) -> Option<usize> {
        inputs.iter().copied().max_by(|a, b| self.0[*a].rows.total_cmp(&self.0[*b].rows))
    }

    fn add(&mut self, rows: f64, work: f64) -> usize {
        self.0.push(Pipeline { rows, steps: work, work });
        self.0.len() - 1
    }

    fn step(&mut self, at: usize, own: f64) -> usize {
        self.0[at].steps += own;
        self.0[at].work += own;
        at
    }
}
