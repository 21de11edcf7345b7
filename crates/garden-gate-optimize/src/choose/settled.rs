//! Decisions on how to read a table, as the entire plan settles them: a join may look its rows up, an order or a grouping may take them
//! from another index, and a plan that lost may have read a table that the one that won does not.

use super::access::name_of;
use crate::catalog::TableKind;
use crate::physical::{Candidate, Considered, Decision, JoinMethod, Node, Operator, OperatorName};

/// A way in which the plan reads a table.
struct Settled {
    alias: String,
    choice: String,
    cost: f64,
    reason: Option<&'static str>,
}

/// Marks as chosen what the plan does, adds it where it is not among the candidates, and omits tables that it does not read.
pub(super) fn reads(root: &Node, considered: &mut Vec<Considered>) {
    let mut settled = Vec::new();
    root.walk(&mut |node| settled.extend(reading(node)));
    let mut seen: Vec<String> = Vec::new();
    considered.retain_mut(|decision| {
        let Decision::Read(alias) = &decision.decision else { return true };
        let ways: Vec<&Settled> = settled.iter().filter(|way| way.alias == *alias).collect();
        let times = seen.iter().filter(|known| *known == alias).count();
        seen.push(alias.clone());
        if times >= ways.len() {
            return false;
        }
        let right = |candidate: &Candidate| candidate.chosen && ways.iter().any(|way| way.choice == candidate.choice);
        if !decision.candidates.iter().any(right) {
            settle(&mut decision.candidates, ways[times]);
        }
        true
    });
}

fn settle(candidates: &mut Vec<Candidate>, way: &Settled) {
    let reason = way.reason.map(str::to_owned);
    candidates.iter_mut().for_each(|candidate| candidate.chosen = false);
    match candidates.iter_mut().find(|candidate| candidate.choice == way.choice) {
        Some(known) => {
            known.chosen = true;
            known.reason = reason;
        }
        None => {
            let (choice, cost) = (way.choice.clone(), Some(way.cost));
            candidates.push(Candidate { choice, cost, chosen: true, reason });
        }
    }
    let rank = |candidate: &Candidate| candidate.cost.unwrap_or(f64::INFINITY);
    candidates.sort_by(|a, b| rank(a).total_cmp(&rank(b)));
}

fn reading(node: &Node) -> Option<Settled> {
    let (alias, choice, reason) = match &node.operator {
        Operator::Scan { scan, access: Some(access), .. } => {
            (&scan.alias, name_of(access), Some("the entire plan is cheaper with its order"))
        }
        Operator::Scan { scan, access: None, .. } if scan.kind == TableKind::File => {
            (&scan.alias, OperatorName::FileScan.name().to_owned(), None)
        }
        Operator::Scan { scan, .. } => (&scan.alias, OperatorName::TableScan.name().to_owned(), None),
        Operator::IndexJoin(join) => {
            let choice = format!("{} by {}", JoinMethod::IndexNestedLoop.name(), join.index.name);
            (&join.scan.alias, choice, Some("its rows are looked up by the join, not read separately"))
        }
        Operator::OneRow
        | Operator::Empty
        | Operator::Filter(_)
        | Operator::Project(_)
        | Operator::Join(_)
        | Operator::Values(_)
        | Operator::Window { .. }
        | Operator::UnionAll(_)
        | Operator::Compare { .. }
        | Operator::Expand { .. }
        | Operator::SharedStep { .. }
        | Operator::Recursion(_)
        | Operator::RecursionInput { .. }
        | Operator::Aggregate { .. }
        | Operator::Distinct(_)
        | Operator::Sort(_)
        | Operator::TopN { .. }
        | Operator::Limit { .. } => return None,
    };
    Some(Settled { alias: alias.clone(), choice, cost: node.own.0, reason })
}
