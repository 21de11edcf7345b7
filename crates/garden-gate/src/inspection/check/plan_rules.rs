//! What a check asks of a plan.

use super::spec::PlanSpec;
use super::{Failure, failure};
use crate::physical::{Plan, PlanNode};

/// Everything that the plan does not fulfil.
pub(super) fn broken(plan: &Plan, rules: &PlanSpec) -> Vec<Failure> {
    let nodes = plan.nodes();
    let mut found = Vec::new();
    let is = |name: Option<&String>, wanted: &str| name.is_some_and(|name| name.eq_ignore_ascii_case(wanted));
    for index in &rules.uses_index {
        if !nodes.iter().any(|node| node.uses_index(index)) {
            found.push(failure("uses_index", format!("the plan does not use the index {index}; {}", readings(&nodes))));
        }
    }
    for table in &rules.no_table_scan {
        let scanned = nodes.iter().any(|node| {
            node.operator.is_full_scan() && (is(node.target.as_ref(), table) || is(node.alias.as_ref(), table))
        });
        if scanned {
            found.push(failure("no_table_scan", format!("{table} is read from one end to the other")));
        }
    }
    if let Some(methods) = &rules.join_methods {
        for node in nodes.iter().filter(|node| node.operator.join_method().is_some()) {
            if !methods.iter().any(|method| method.eq_ignore_ascii_case(node.operator.name())) {
                let wanted = methods.join(" or ");
                found.push(failure("join_methods", format!("a join is a {}, not a {wanted}", node.operator)));
            }
        }
    }
    if let Some(order) = &rules.join_order {
        found.extend(order_broken(&nodes, order));
    }
    if let (Some(most), Some(worst)) = (rules.max_estimate_error, plan.worst_estimate())
        && let (Some(error), Some(rows)) = (worst.estimate_error, worst.actual_rows)
        && error > most
    {
        let text = format!(
            "the estimate of {} is off by {error:.1}×, {most}× are allowed: {:.0} rows were expected, {rows} came",
            worst.operator, worst.estimated_rows
        );
        found.push(failure("max_estimate_error", text));
    }
    if let Some(most) = rules.max_cost
        && plan.cost > most
    {
        found.push(failure("max_cost", format!("the plan costs {:.0}, {most:.0} are allowed", plan.cost)));
    }
    found
}

/// The tables in the order the plan reads them, the probe or outer side of a join first.
fn order_broken(nodes: &[&PlanNode], order: &[String]) -> Option<Failure> {
    let listed = |node: &&&PlanNode| {
        let names = [node.alias.as_ref(), node.target.as_ref()];
        let place =
            names.into_iter().flatten().find_map(|name| order.iter().position(|one| one.eq_ignore_ascii_case(name)));
        place.filter(|_| node.children.is_empty())
    };
    let found: Vec<&String> = nodes.iter().filter_map(|node| listed(&node)).map(|at| &order[at]).collect();
    if found.iter().map(|name| name.to_lowercase()).eq(order.iter().map(|name| name.to_lowercase())) {
        return None;
    }
    let found = found.iter().map(|name| name.as_str()).collect::<Vec<_>>().join(", ");
    Some(failure("join_order", format!("the tables are read in the order {found}, not {}", order.join(", "))))
}

fn readings(nodes: &[&PlanNode]) -> String {
    let reading = |node: &&PlanNode| {
        let by = node.index.as_ref().map(|index| format!(" by {index}")).unwrap_or_default();
        node.target.as_ref().map(|target| format!("{} {target}{by}", node.operator))
    };
    let all: Vec<String> = nodes.iter().filter_map(reading).collect();
    if all.is_empty() { "it reads no table".into() } else { format!("it reads by {}", all.join(", ")) }
}
