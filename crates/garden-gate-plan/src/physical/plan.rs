use super::{Decision, IndexUse, OperatorName, PredicatePlace};
use crate::diagnostic::{Error, Note, Result, SqlState, suggestion};
use crate::logical::{JoinKindName, RewriteRule};
use serde::{Deserialize, Serialize};
use std::fmt;

/// The plan of a query: what runs, what it should cost, and, when it was measured, what it did.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Plan {
    /// Equal for two plans that do the same: operators, methods, indexes, conditions, keys, groupings, sorts, computed columns, rows to
    /// fetch and the columns of the result. Correlation names, the values of constants and parameters, and figures do not count.
    pub fingerprint: String,
    /// Equal for two plans that go the same way: operators, join kinds, tables and access paths, whatever they compute.
    pub shape: String,
    /// Whether a parameter had no value, so that averages were used for it.
    pub generic: bool,
    /// Cost of the entire plan with its workers, in the planner's unit.
    pub cost: f64,
    /// How many workers it runs on.
    pub workers: usize,
    /// Milliseconds from the text of the statement to the plan: reading it, names and types, rules, and choosing.
    #[serde(default)]
    pub planning_ms: f64,
    /// The topmost operator.
    pub root: PlanNode,
    /// When measured: the indexes that had to be sorted first. Their time is in no operator's.
    pub built: Vec<BuiltIndex>,
    /// The rewrites that fired, in order.
    pub rewrites: Vec<Rewrite>,
    /// The decisions that were taken, with their candidates.
    pub considered: Vec<Considered>,
    /// What is worth knowing about the statement.
    #[serde(skip)]
    pub notes: Vec<Note>,
}

/// An operator of a plan.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[non_exhaustive]
pub struct PlanNode {
    /// Its textbook name, e.g. `hash join`.
    pub operator: OperatorName,
    /// Of a join: `inner`.
    pub kind: Option<JoinKindName>,
    /// Of an anti join: whether a comparison that is UNKNOWN loses a row as one that is TRUE does, as in NOT IN.
    pub null_aware: bool,
    /// Of a scan: the table.
    pub target: Option<String>,
    /// The index that is used, or several; in JSON their names with `and` or `or` between them.
    pub index: Option<IndexUse>,
    /// Of a scan: the correlation name, where it differs from the table's.
    pub alias: Option<String>,
    /// Of a scan: the columns read.
    pub columns: Vec<String>,
    /// What it computes, groups or sorts by, each as SQL.
    pub details: Vec<String>,
    /// Its conditions, by where they act.
    pub predicates: Vec<Predicate>,
    /// Rows it should give.
    pub estimated_rows: f64,
    /// Cost of the node itself.
    pub own_cost: f64,
    /// Cost of the node and all below it.
    pub cost: f64,
    /// Rows it gave, when measured.
    pub actual_rows: Option<u64>,
    /// Batches it gave, when measured.
    pub batches: Option<u64>,
    /// When measured: of a recursion its rounds, the last of which found nothing; of what runs in each round how often that was.
    pub rounds: Option<u64>,
    /// Time spent in the node itself by the clock, summed over workers, in milliseconds.
    pub elapsed_ms: Option<f64>,
    /// Of a scan, when measured: rows that were not read, in parts of the table whose minimum and maximum values lie outside its conditions.
    pub passed_rows: Option<u64>,
    /// The most bytes that one worker held in memory for what the node gathers, when measured.
    pub held_bytes: Option<u64>,
    /// Bytes that went to temporary files because of `memory_limit`, when measured.
    pub spilled_bytes: Option<u64>,
    /// When measured: whether it ran. One whose rows nobody asked for did not, and tells nothing about its estimate.
    #[serde(default)]
    pub ran: Option<bool>,
    /// max(estimated / actual, actual / estimated), both at least one row (Moerkotte et al., VLDB 2009). The estimate is for one round:
    /// of what runs in every round of a recursion, it is compared with the rows of an average round.
    pub estimate_error: Option<f64>,
    /// What its conditions came to, when measured: the whole one first, then each AND part.
    pub truth: Vec<Truth>,
    /// Its inputs.
    pub children: Vec<PlanNode>,
}

/// An index that was neither in memory nor in the file, and was made for a measured plan.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct BuiltIndex {
    /// Its name.
    pub index: String,
    /// The table it belongs to.
    pub table: String,
    /// Rows that were sorted.
    pub rows: u64,
    /// How long that took, in milliseconds.
    pub elapsed_ms: f64,
}

/// A condition of an operator.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Predicate {
    /// The condition as SQL.
    pub text: String,
    /// Where it acts.
    pub place: PredicatePlace,
    /// Whether it follows from others and was not written.
    pub implied: bool,
}

/// How often a condition was TRUE, FALSE and UNKNOWN.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[non_exhaustive]
pub struct Truth {
    /// The condition as SQL.
    pub predicate: String,
    /// Rows it was TRUE for: those that were kept.
    #[serde(rename = "true")]
    pub holds: u64,
    /// Rows it was FALSE for.
    #[serde(rename = "false")]
    pub fails: u64,
    /// Rows it was UNKNOWN for: those lost to NULL.
    pub unknown: u64,
}

/// A rewrite that fired.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Rewrite {
    /// The rule.
    pub rule: RewriteRule,
    /// What it changed, in the user's own names.
    pub change: String,
    /// Why it is allowed.
    pub why: String,
}

/// A decision of the planner.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Considered {
    /// What was decided.
    pub decision: Decision,
    /// What could have been chosen, cheapest first.
    pub candidates: Vec<Candidate>,
}

/// One choice of a decision.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Candidate {
    /// The choice.
    pub choice: String,
    /// What it would have cost; `None` when it is impossible.
    pub cost: Option<f64>,
    /// Whether it was taken.
    pub chosen: bool,
    /// Why it is impossible, or what speaks for it.
    pub reason: Option<String>,
}

/// The way a join is computed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JoinMethod {
    /// A hash table over one input, looked up for each row of the other.
    Hash,
    /// Both inputs are sorted, and gone through side by side.
    Merge,
    /// Every pair of rows is tried.
    NestedLoop,
    /// For each row of one input its matches are found by an index of the other.
    IndexNestedLoop,
    /// One input is sorted; each row of the other has the first of its matches.
    Nearest,
    /// One input is sorted by a value; for each row of the other the matches are those between bounds.
    Range,
}

impl JoinMethod {
    /// The operator that computes it.
    pub fn operator(self) -> OperatorName {
        match self {
            Self::Hash => OperatorName::HashJoin,
            Self::Merge => OperatorName::MergeJoin,
            Self::NestedLoop => OperatorName::NestedLoopJoin,
            Self::IndexNestedLoop => OperatorName::IndexNestedLoopJoin,
            Self::Range => OperatorName::RangeJoin,
            Self::Nearest => OperatorName::NearestJoin,
        }
    }

    /// The name of that operator.
    pub fn name(self) -> &'static str {
        self.operator().name()
    }

    /// Every method.
    pub const ALL: [Self; 6] =
        [Self::Hash, Self::Merge, Self::NestedLoop, Self::IndexNestedLoop, Self::Range, Self::Nearest];
}

impl fmt::Display for JoinMethod {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl fmt::Display for PlanNode {
    /// Its title: `hash join, left`, `index lookup task as t by task_bed_ix`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.operator)?;
        if let Some(kind) = self.kind {
            write!(f, ", {kind}")?;
        }
        if self.null_aware {
            f.write_str(", NULL-aware")?;
        }
        if let Some(target) = &self.target {
            write!(f, " {target}")?;
        }
        if let Some(alias) = &self.alias {
            write!(f, " as {alias}")?;
        }
        if let Some(index) = &self.index {
            write!(f, " by {index}")?;
        }
        Ok(())
    }
}

/// The titles of all operators, inputs indented below theirs, each with its estimated rows and, when measured, those that came.
impl fmt::Display for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut waiting = vec![(0, &self.root)];
        let mut between = "";
        while let Some((depth, node)) = waiting.pop() {
            write!(f, "{between}{:indent$}{node}: {:.0} rows estimated", "", node.estimated_rows, indent = 2 * depth)?;
            if let Some(rows) = node.actual_rows {
                write!(f, ", {rows} came")?;
            }
            between = "\n";
            waiting.extend(node.children.iter().rev().map(|child| (depth + 1, child)));
        }
        Ok(())
    }
}

impl PlanNode {
    /// Whether it reads rows of a table: it is a scan, or looks rows up for each row of its input.
    fn reads_rows(&self) -> bool {
        let is_scan = self.children.is_empty() && self.target.is_some();
        (is_scan || self.operator == OperatorName::IndexNestedLoopJoin) && !self.operator.gives_named_rows()
    }

    /// Whether it finds rows by this index, alone or with others.
    pub fn uses_index(&self, name: &str) -> bool {
        self.index.as_ref().is_some_and(|index| index.contains(name))
    }
}

/// How a plan reads a table; see [`Plan::reads`].
#[derive(Clone, Debug)]
pub struct Reading<'p>(Vec<&'p PlanNode>);

impl Reading<'_> {
    /// Whether it is read at least once, and every time from one end to the other.
    pub fn by_scan(&self) -> bool {
        !self.0.is_empty() && self.0.iter().all(|node| node.operator.is_full_scan())
    }

    /// Whether it is read at least once, and every time by this index, alone or with others.
    pub fn by_index(&self, index: &str) -> bool {
        !self.0.is_empty() && self.0.iter().all(|node| node.uses_index(index))
    }

    /// How often it is read.
    pub fn times(&self) -> usize {
        self.0.len()
    }
}

impl Plan {
    /// All operators, each before its inputs.
    pub fn nodes(&self) -> Vec<&PlanNode> {
        let mut nodes = vec![&self.root];
        let mut next = 0;
        while next < nodes.len() {
            let children: Vec<&PlanNode> = nodes[next].children.iter().collect();
            nodes.splice(next + 1..next + 1, children);
            next += 1;
        }
        nodes
    }

    /// How a table is read, by its name or its correlation name; a change of it is not a reading.
    pub fn reads(&self, table: &str) -> Reading<'_> {
        let named = |name: &Option<String>| name.as_ref().is_some_and(|name| name.eq_ignore_ascii_case(table));
        let reads = |node: &&PlanNode| !node.operator.is_change() && (named(&node.target) || named(&node.alias));
        Reading(self.nodes().into_iter().filter(reads).collect())
    }

    /// As [`Plan::reads`]; a table that the plan does not read, a misspelt one for example, is an error.
    ///
    /// # Errors
    /// 42S02 with the tables that are read.
    pub fn try_reads(&self, table: &str) -> Result<Reading<'_>> {
        let found = self.reads(table);
        if found.times() > 0 {
            return Ok(found);
        }
        let mut known = self.join_order();
        known.sort_unstable();
        known.dedup();
        let error = Error::new(SqlState::TABLE_NOT_FOUND, format!("the plan does not read a table {table:?}"));
        Err(match known.is_empty() {
            true => error.with_help("it reads no table"),
            false => error.with_help(suggestion(table, &known, "it reads")),
        })
    }

    /// The tables in the order in which the plan reads them, by their correlation names: of a join the probe or outer side first.
    pub fn join_order(&self) -> Vec<&str> {
        let leaves = self.nodes().into_iter().filter(|node| node.reads_rows());
        leaves.filter_map(|node| node.alias.as_deref().or(node.target.as_deref())).collect()
    }

    /// The method of each join, from the top down.
    pub fn joins(&self) -> Vec<JoinMethod> {
        self.nodes().iter().filter_map(|node| node.operator.join_method()).collect()
    }

    /// The operator whose estimate was farthest off, when the plan was measured.
    pub fn worst_estimate(&self) -> Option<&PlanNode> {
        let measured = self.nodes().into_iter().filter(|node| node.estimate_error.is_some());
        measured.max_by(|a, b| a.estimate_error.unwrap_or(0.0).total_cmp(&b.estimate_error.unwrap_or(0.0)))
    }
}
