//! Logical plan → physical plan: join order, methods, workers, with costs and the candidates that were rejected.

mod access;
mod build;
mod cost;
mod counted;
mod equal_columns;
mod first_of_partitions;
mod grouping;
mod grouping_columns;
mod guide_compliance;
mod guide_reason;
mod index_join;
mod index_sets;
mod join_alternatives;
mod join_inputs;
mod join_order;
mod join_report;
mod join_tree;
mod key_shape;
mod large_joins;
mod nearest_join;
mod non_inner_alternatives;
mod range_keys;
mod sampled;
mod settled;
mod side_join;
mod steps;
mod workers;

pub use cost::Factors;
pub use counted::IndexLookups;
pub use sampled::MatchedRows;

use crate::diagnostic::Result;
use crate::estimate::{Estimator, FilteredStatistics};
use crate::logical::{ColumnId, Columns, Guide, LogicalPlan, Rewritten};
use crate::physical::PhysicalPlan;

/// What the planner may spend.
#[derive(Clone, Copy, Debug)]
pub struct Resources<'a> {
    pub workers: usize,
    pub factors: Factors,
    /// Whom to ask for rows that indexes have.
    pub lookups: &'a dyn IndexLookups,
}

/// Chooses how to run a query so that it gives the columns `required`.
///
/// Time is O(3^n) in the number n of tables joined up to 12, O(n³) past that.
///
/// # Errors
/// What reading statistics meets.
pub fn choose(
    rewritten: Rewritten,
    required: &[ColumnId],
    columns: &Columns,
    (resources, guide): (Resources<'_>, &Guide),
) -> Result<PhysicalPlan> {
    let Rewritten { plan, steps, early, .. } = rewritten;
    let mut scans = 0;
    steps.iter().map(|(_, step)| &step.plan).chain([&plan]).for_each(|plan| {
        plan.walk(&mut |node| scans += usize::from(matches!(node, LogicalPlan::Scan(_))));
    });
    let steps = steps::Steps::new(&plan, steps, required);
    let narrowed = FilteredStatistics::default();
    let mut builder = build::Builder {
        estimator: Estimator { columns, behind: Some(&narrowed) },
        guide,
        factors: resources.factors,
        counted: counted::Counted::by(resources.lookups, scans > 1),
        considered: Vec::new(),
        steps,
        rounds: Vec::new(),
        early,
        rewrites: Vec::new(),
    };
    let mut root = builder.build(plan, required)?;
    root.number(&mut 0);
    let (mut considered, rewrites) = (builder.considered, builder.rewrites);
    settled::reads(&root, &mut considered);
    let (workers, cost) = workers::choose(&root, (resources.workers, guide.workers()), &mut considered);
    Ok(PhysicalPlan { root, workers, cost, considered, rewrites })
}

pub use guide_compliance::check as check_guide;
