//! A query after the rules, and what they did.

use super::{Aggregate, ColumnId, CteDefinition, CteId, LogicalPlan, RewriteRule};
use crate::diagnostic::Note;

/// A rewrite rule that fired.
#[derive(Clone, Debug)]
pub struct RewriteNote {
    pub rule: RewriteRule,
    pub change: String,
    pub why: &'static str,
}

/// A query after all rules.
#[derive(Debug)]
pub struct Rewritten {
    pub plan: LogicalPlan,
    /// The queries that are run once.
    pub steps: Vec<(CteId, CteDefinition)>,
    pub log: Vec<RewriteNote>,
    pub notes: Vec<Note>,
    /// Other ways to group, by the first aggregate of each: groupings may have grouping columns in common.
    pub early: Vec<(ColumnId, EarlyGroups)>,
}

/// A grouping of which a part is done before a join.
#[derive(Clone, Debug)]
pub struct EarlyGroups {
    /// Instead of the input of the grouping.
    pub input: LogicalPlan,
    pub aggregates: Vec<(ColumnId, Aggregate)>,
    /// What is reported when it is taken.
    pub note: RewriteNote,
}
