use super::{BuiltIndex, Considered, IndexAccess, JoinMethod, OperatorName};
use crate::diagnostic::Span;
use crate::logical::{
    Aggregate, AnyTest, ColumnId, CompareOp, CteId, Expand, Expr, ExprKind, JoinKind, Nearest, RewriteNote, Scan,
    ScanIndex, SetOp, SortKey, WindowCall,
};
use crate::types::{Cost, Estimate, SqlType};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// The place of a node in its plan, counted from 0 in the order the plan is printed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct NodeId(pub usize);

/// An operator with its inputs.
#[derive(Clone, Debug)]
pub struct Node {
    pub id: NodeId,
    pub operator: Operator,
    pub inputs: Vec<Node>,
    /// The columns its batches have, in order.
    pub output: Vec<ColumnId>,
    pub rows: Estimate,
    pub own: Cost,
    pub total: Cost,
}

#[derive(Clone, Debug)]
pub enum Operator {
    /// One row without columns.
    OneRow,
    /// No rows.
    Empty,
    /// Reads these columns of the source, then keeps the rows that fulfil the scan's filter.
    Scan {
        scan: Box<Scan>,
        read: Vec<(ColumnId, usize)>,
        /// The index by which rows are found; without one, all are read.
        access: Option<Box<IndexAccess>>,
    },
    Filter(Vec<Expr>),
    Project(Vec<(ColumnId, Expr)>),
    /// Inputs are the probe or outer side, and the build or inner side, which is kept in memory: with a hash table, sorted, or as it is.
    Join(Box<JoinSpec>),
    /// The input is the outer side; for each of its rows the matches are found by an index.
    IndexJoin(Box<IndexJoin>),
    /// Rows of expressions without columns.
    Values(Vec<Vec<Expr>>),
    Window {
        partition: Vec<Expr>,
        order: Vec<SortKey>,
        calls: Vec<(ColumnId, WindowCall)>,
        /// How many rows of each partition are wanted, where all functions number them.
        first: Option<u64>,
    },
    /// For each input its columns, in the order of the output.
    UnionAll(Vec<Vec<ColumnId>>),
    /// INTERSECT or EXCEPT of two inputs, of each the columns in the order of the output.
    Compare {
        op: SetOp,
        all: bool,
        columns: [Vec<ColumnId>; 2],
    },
    Expand {
        expand: Expand,
        made: Vec<(ColumnId, SqlType)>,
        ordinality: Option<ColumnId>,
    },
    /// Rows that are computed once for several places; the first of them has the plan as its input.
    SharedStep {
        id: CteId,
        name: String,
        /// The step's columns after those of the output.
        columns: Vec<ColumnId>,
    },
    Recursion(Box<RecursionSpec>),
    RecursionInput {
        id: usize,
        member: usize,
        name: String,
        /// The places of the output columns among those of the member.
        places: Vec<usize>,
    },
    Aggregate {
        method: GroupMethod,
        keys: Vec<(ColumnId, Expr)>,
        aggregates: Vec<(ColumnId, Aggregate)>,
    },
    /// By all output columns.
    Distinct(Vec<Expr>),
    Sort(Vec<SortKey>),
    TopN {
        keys: Vec<SortKey>,
        offset: u64,
        fetch: u64,
    },
    Limit {
        offset: u64,
        fetch: Option<u64>,
    },
}

/// How rows find their groups.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupMethod {
    Hash,
    /// The rows of a group come beside one another.
    Sorted,
}

impl GroupMethod {
    /// The operator that groups in this way.
    pub fn operator(self) -> OperatorName {
        match self {
            Self::Hash => OperatorName::HashAggregate,
            Self::Sorted => OperatorName::SortedAggregate,
        }
    }
}

/// An equality between the two sides of a join.
#[derive(Clone, Debug)]
pub struct JoinKey {
    /// Whether the equality follows from others.
    pub implied: bool,
    pub probe: Expr,
    pub build: Expr,
    /// Whether NULL is the same as NULL.
    pub null_same: bool,
}

impl JoinKey {
    /// The equality.
    pub fn condition(&self) -> Expr {
        let (probe, build, span) = (self.probe.clone(), self.build.clone(), self.probe.span());
        Expr::compare(CompareOp::Equal, probe, build, span)
    }
}

/// An inequality between the two sides of a range join: `probe op build`.
#[derive(Clone, Debug)]
pub struct JoinRange {
    /// Whether the inequality follows from others.
    pub implied: bool,
    pub op: CompareOp,
    pub probe: Expr,
    pub build: Expr,
}

impl JoinRange {
    /// The inequality.
    pub fn condition(&self) -> Expr {
        let (probe, build, span) = (self.probe.clone(), self.build.clone(), self.probe.span());
        Expr::compare(self.op, probe, build, span)
    }

    /// Whether it is this condition.
    pub fn is_of(&self, condition: &Expr) -> bool {
        let ExprKind::Compare(op, sides) = condition.kind() else { return false };
        let is = |op: CompareOp, a: &Expr, b: &Expr| op == self.op && a.same_as(&self.probe) && b.same_as(&self.build);
        is(*op, &sides[0], &sides[1]) || is(op.flipped(), &sides[1], &sides[0])
    }

    /// Of exchanged inputs.
    #[must_use]
    pub fn flipped(self) -> Self {
        Self { op: self.op.flipped(), probe: self.build, build: self.probe, ..self }
    }
}

/// How two inputs are joined.
#[derive(Clone, Debug)]
pub struct JoinSpec {
    pub method: JoinMethod,
    pub kind: JoinKind,
    /// Whether the build side is the one that leads: its rows without a match come at the end.
    pub mirrored: bool,
    pub keys: Vec<JoinKey>,
    /// Of a range join: one inequality, or two. Of a nearest join: none, or one with what its order begins with.
    pub ranges: Vec<JoinRange>,
    /// The inequalities as they were written, where a side of one can fail: they are tested for the pairs of rows for which it does.
    pub recheck: Vec<Expr>,
    pub residual: Vec<Expr>,
    /// Of anti and mark joins: the comparison whose UNKNOWN counts.
    pub any: Option<AnyTest>,
    pub mark: Option<ColumnId>,
    pub nearest: Option<Nearest>,
}

/// How the matches of each row are found by an index.
#[derive(Clone, Debug)]
pub struct IndexJoin {
    /// Inner, left, semi or anti.
    pub kind: JoinKind,
    /// The inner side. Its filter is part of the residual condition.
    pub scan: Scan,
    pub index: ScanIndex,
    /// For each of the leading keys of the index an expression over the outer side, of the key's type.
    pub keys: Vec<Expr>,
    /// The conditions that the keys come from, as they are shown.
    pub bounds: Vec<Expr>,
    pub residual: Vec<Expr>,
    /// The columns of the inner side that are read.
    pub read: Vec<(ColumnId, usize)>,
}

/// A recursion; the inputs are, member by member, its anchors and then its branches.
#[derive(Clone, Debug)]
pub struct RecursionSpec {
    pub id: usize,
    pub members: Vec<MemberSpec>,
    pub result: usize,
}

#[derive(Clone, Debug)]
pub struct MemberSpec {
    pub name: String,
    /// Where its name appears.
    pub span: Option<Span>,
    pub columns: Vec<(String, SqlType)>,
    /// For each anchor, then each branch, its columns in the order of the member's.
    pub anchors: Vec<Vec<ColumnId>>,
    pub branches: Vec<Vec<ColumnId>>,
    pub distinct: bool,
}

/// What the planner hands to the executor.
#[derive(Clone, Debug)]
pub struct PhysicalPlan {
    pub root: Node,
    pub workers: usize,
    pub cost: Cost,
    pub considered: Vec<Considered>,
    /// Rewrites that were taken for their cost.
    pub rewrites: Vec<RewriteNote>,
}

/// Counts of TRUE, FALSE and UNKNOWN.
#[derive(Debug, Default)]
pub struct Tally {
    pub holds: AtomicU64,
    pub fails: AtomicU64,
    pub unknown: AtomicU64,
}

/// What a node did.
#[derive(Debug, Default)]
pub struct NodeMeasure {
    /// How often it was run: in a recursion once a round, unless what it gives is kept.
    pub runs: AtomicU64,
    /// Of a recursion: its rounds, the last of which found nothing.
    pub rounds: AtomicU64,
    pub rows: AtomicU64,
    pub batches: AtomicU64,
    pub nanos: AtomicU64,
    /// Of a scan: rows of parts of the table that its conditions omit whole, which were not read.
    pub passed: AtomicU64,
    /// The most bytes that one worker held in memory for it, where it gathers rows under a memory limit.
    pub held: AtomicU64,
    /// Bytes that went to temporary files.
    pub spilled: AtomicU64,
    /// Of an anti join whose UNKNOWN counts: what the comparison with all rows of the other side came to.
    pub membership: Tally,
    /// Of a filter: the entire condition first, then each AND part when there are several.
    pub tallies: Vec<Tally>,
}

impl NodeMeasure {
    /// Whether the node was asked for rows.
    pub fn ran(&self) -> bool {
        [&self.nanos, &self.batches, &self.rows, &self.passed, &self.held]
            .iter()
            .any(|count| count.load(Ordering::Relaxed) > 0)
    }

    /// Counts one more run of the node.
    pub fn add_run(&self) {
        self.runs.fetch_add(1, Ordering::Relaxed);
    }

    /// Counts a batch that the node gave.
    pub fn add_output(&self, rows: usize) {
        self.rows.fetch_add(rows as u64, Ordering::Relaxed);
        self.batches.fetch_add(1, Ordering::Relaxed);
    }

    /// Counts time spent in the node.
    pub fn add_time(&self, time: Duration) {
        self.nanos.fetch_add(u64::try_from(time.as_nanos()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }
}

/// What all nodes of a plan did, by [`NodeId`], and what was done before they ran.
#[derive(Debug)]
pub struct Measures {
    nodes: Vec<NodeMeasure>,
    built: Mutex<Vec<BuiltIndex>>,
}

impl Measures {
    /// Counters for each node of a plan.
    pub fn for_plan(root: &Node) -> Self {
        let mut measures = Vec::new();
        root.walk(&mut |node| {
            let parts = node.conjuncts().len();
            let tallies = if parts > 1 { parts + 1 } else { parts };
            measures.push(NodeMeasure {
                tallies: (0..tallies).map(|_| Tally::default()).collect(),
                ..NodeMeasure::default()
            });
        });
        Self { nodes: measures, built: Mutex::default() }
    }

    /// The counters of a node.
    pub fn of(&self, id: NodeId) -> &NodeMeasure {
        &self.nodes[id.0]
    }

    /// Notes an index that the statement built.
    pub fn add_built(&self, built: BuiltIndex) {
        self.built.lock().unwrap_or_else(PoisonError::into_inner).push(built);
    }

    /// The indexes that had to be sorted before the plan could run.
    pub fn built(&self) -> Vec<BuiltIndex> {
        self.built.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl JoinSpec {
    /// Of an anti join: the comparison whose UNKNOWN loses a row as TRUE does, as in NOT IN over columns that may be NULL.
    pub fn null_aware(&self) -> Option<&AnyTest> {
        self.any.as_ref().filter(|any| self.kind == JoinKind::Anti && !any.left.is_empty())
    }
}

impl Node {
    /// The conditions that rows are filtered by in this node.
    pub fn conjuncts(&self) -> &[Expr] {
        match &self.operator {
            Operator::Scan { scan, .. } => &scan.filter,
            Operator::Filter(conjuncts) => conjuncts,
            Operator::Join(spec) => &spec.residual,
            Operator::IndexJoin(join) => &join.residual,
            Operator::OneRow
            | Operator::Empty
            | Operator::Project(_)
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
            | Operator::Limit { .. } => &[],
        }
    }

    /// Calls `visit` for this node and all below it, in the order the plan is printed.
    pub fn walk<'n>(&'n self, visit: &mut impl FnMut(&'n Self)) {
        visit(self);
        self.inputs.iter().for_each(|input| input.walk(visit));
    }

    /// Numbers the nodes in the order of [`Node::walk`].
    pub fn number(&mut self, next: &mut usize) {
        self.id = NodeId(*next);
        *next += 1;
        self.inputs.iter_mut().for_each(|input| input.number(next));
    }
}
