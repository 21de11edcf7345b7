use super::{
    Aggregate, ColumnId, CompareOp, Direction, Expr, ExprKind, JoinKind, JoinKindName, Nulls, ScanIndex, SetOp,
    WindowCall,
};
use crate::catalog::{TableKind, TableSource};
use crate::diagnostic::Span;
use crate::types::SqlType;
use std::sync::Arc;

/// A table in FROM.
#[derive(Clone, Debug)]
pub struct Scan {
    pub table: String,
    pub kind: TableKind,
    pub alias: String,
    pub source: Arc<dyn TableSource>,
    /// The columns read, by their place in the source.
    pub columns: Vec<(ColumnId, usize)>,
    /// Conditions every row must fulfil, in the order they are tried.
    pub filter: Vec<Expr>,
    /// The indexes it can be read by.
    pub indexes: Vec<ScanIndex>,
    /// Foreign keys that every row of the table fulfils.
    pub references: Vec<ScanReference>,
    /// Which versions of its rows are read, in words of a plan; nothing for the current ones.
    pub versions: Vec<String>,
}

/// A foreign key of a table that is read: columns, by their places, and those they refer to.
#[derive(Clone, Debug)]
pub struct ScanReference {
    pub columns: Vec<usize>,
    pub target: Arc<dyn TableSource>,
    pub referred: Vec<usize>,
}

#[derive(Clone, Debug)]
pub struct SortKey {
    pub expr: Expr,
    pub direction: Direction,
    pub nulls: Nulls,
}

impl SortKey {
    /// The same keys with each expression changed.
    pub fn map_all<E>(keys: Vec<Self>, change: &mut impl FnMut(Expr) -> Result<Expr, E>) -> Result<Vec<Self>, E> {
        keys.into_iter().map(|key| Ok(Self { expr: change(key.expr)?, ..key })).collect()
    }
}

/// The place of a common table expression among those that are run once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct CteId(pub usize);

/// A common table expression, or another one whose rows are used in several places.
#[derive(Debug)]
pub struct CteDefinition {
    pub name: String,
    pub plan: LogicalPlan,
    pub output: Vec<ColumnId>,
    pub uses: usize,
}

/// A use of a common table expression.
#[derive(Clone, Debug)]
pub struct CteReference {
    pub id: CteId,
    pub name: String,
    /// For each column here the column of the query itself.
    pub columns: Vec<(ColumnId, ColumnId)>,
}

/// A join in which the two sides have different parts: outer, semi, anti, mark and single joins, and any join whose right side uses
/// columns of the left (`dependent`; none is left after unnesting).
#[derive(Clone, Debug)]
pub struct BinaryJoin {
    pub kind: JoinKind,
    pub left: LogicalPlan,
    pub right: LogicalPlan,
    /// What a pair must fulfil; UNKNOWN is as good as FALSE.
    pub on: Vec<Expr>,
    /// Of a semi, anti or mark join: a comparison of operands with columns of the right side whose UNKNOWN counts
    /// (`operand op column` for each pair; the pairs together form one row comparison).
    pub any: Option<AnyTest>,
    /// The truth value of a mark join; of a single join, whether there was more than one match.
    pub mark: Option<ColumnId>,
    pub dependent: bool,
    /// The right side is computed only for left rows for which this is TRUE; the others have no match.
    pub guard: Vec<Expr>,
    /// Of a left row not all matches count, but the first of them in an order. Inner and left joins only.
    pub nearest: Option<Nearest>,
    /// Of an outer join that somebody wrote, where it appears.
    pub written: Option<Span>,
    pub sides: Sides,
}

/// Which of the matches of a row count.
#[derive(Clone, Debug)]
pub struct Nearest {
    /// Over columns of the right side.
    pub order: Vec<SortKey>,
    pub fetch: u64,
}

/// Whether the left side of a join is the one that was written first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sides {
    AsWritten,
    /// It was written as a right join.
    Exchanged,
}

/// The three-valued condition of `operands op ANY (query)`.
#[derive(Clone, Debug)]
pub struct AnyTest {
    pub op: CompareOp,
    pub left: Vec<Expr>,
    pub right: Vec<Expr>,
}

impl AnyTest {
    /// `left op right` for one pair; for several, the comparison of the two rows (clause 8.2). `None` without a pair.
    pub fn comparison(&self) -> Option<Expr> {
        match (self.left.as_slice(), self.right.as_slice()) {
            ([], _) => None,
            ([left], [right]) => Some(Expr::compare(self.op, left.clone(), right.clone(), left.span())),
            (left, right) => {
                let span = left[0].span();
                let row = |parts: &[Expr]| {
                    let sql_type = SqlType::row_of_types(parts.iter().map(Expr::sql_type));
                    Expr::new(ExprKind::Row(parts.to_vec()), sql_type, span)
                };
                Some(Expr::compare(self.op, row(left), row(right), span))
            }
        }
    }

    /// Conditions that are all TRUE just when the comparison is TRUE. Rows are equal when their parts are; in any other comparison each part
    /// counts only where those before it are equal.
    pub fn into_conditions(self) -> Vec<Expr> {
        if self.op != CompareOp::Equal {
            return self.comparison().into_iter().collect();
        }
        let pairs = self.left.into_iter().zip(self.right);
        pairs
            .map(|(left, right)| {
                let span = left.span();
                Expr::compare(CompareOp::Equal, left, right, span)
            })
            .collect()
    }
}

/// An operand of a set operator, and which of its columns take part.
#[derive(Clone, Debug)]
pub struct SetOperand {
    pub plan: LogicalPlan,
    pub columns: Vec<ColumnId>,
}

/// A table function: gives for each input row any number of rows with further columns.
#[derive(Clone, Debug)]
pub enum Expand {
    /// From, to, step.
    Series(Box<[Expr; 3]>),
    Unnest(Vec<Expr>),
}

/// Queries that refer to themselves and each other (clause 7.17): run round by round until nothing new comes.
#[derive(Clone, Debug)]
pub struct Recursion {
    /// Tells apart the recursions of a statement.
    pub id: usize,
    pub members: Vec<Member>,
    /// The member whose rows are given.
    pub result: usize,
}

#[derive(Clone, Debug)]
pub struct Member {
    pub name: String,
    /// Where its name appears; nothing for one of a view.
    pub span: Option<Span>,
    pub columns: Vec<ColumnId>,
    /// Queries without recursion.
    pub anchors: Vec<SetOperand>,
    /// Queries that use rows of the round before.
    pub branches: Vec<SetOperand>,
    /// UNION: a row that was found before is not found again.
    pub distinct: bool,
}

/// The rows that a member of a recursion found in the round before.
#[derive(Clone, Debug)]
pub struct RecursionInput {
    pub id: usize,
    pub member: usize,
    pub name: String,
    pub columns: Vec<ColumnId>,
}

/// Relational algebra over column ids.
#[derive(Clone, Debug)]
pub enum LogicalPlan {
    /// One row without columns: SELECT without FROM.
    OneRow,
    /// No row at all, instead of something that was proven empty.
    Empty(Vec<ColumnId>),
    Scan(Scan),
    /// Rows of expressions without columns.
    Values {
        columns: Vec<ColumnId>,
        rows: Vec<Vec<Expr>>,
    },
    Filter {
        input: Box<LogicalPlan>,
        conjuncts: Vec<Expr>,
    },
    /// Adds computed columns to those of the input.
    Project {
        input: Box<LogicalPlan>,
        computed: Vec<(ColumnId, Expr)>,
    },
    /// Inner join of all inputs; every conjunct must hold.
    InnerJoin {
        inputs: Vec<LogicalPlan>,
        conjuncts: Vec<Expr>,
    },
    Join(Box<BinaryJoin>),
    Aggregate {
        input: Box<LogicalPlan>,
        keys: Vec<(ColumnId, Expr)>,
        aggregates: Vec<(ColumnId, Aggregate)>,
    },
    Window {
        input: Box<LogicalPlan>,
        partition: Vec<Expr>,
        order: Vec<SortKey>,
        calls: Vec<(ColumnId, WindowCall)>,
    },
    Distinct {
        input: Box<LogicalPlan>,
        columns: Vec<ColumnId>,
    },
    Sort {
        input: Box<LogicalPlan>,
        keys: Vec<SortKey>,
    },
    Limit {
        input: Box<LogicalPlan>,
        offset: u64,
        fetch: Option<u64>,
    },
    /// Of UNION only the form that keeps all rows: the other is a Distinct above it.
    SetOperation {
        op: SetOp,
        all: bool,
        operands: Vec<SetOperand>,
        columns: Vec<ColumnId>,
    },
    Expand {
        input: Box<LogicalPlan>,
        expand: Expand,
        columns: Vec<ColumnId>,
        ordinality: Option<ColumnId>,
    },
    CteReference(CteReference),
    Recursion(Box<Recursion>),
    RecursionInput(RecursionInput),
}

impl LogicalPlan {
    /// The columns that a row of the result has.
    pub fn output(&self) -> Vec<ColumnId> {
        let firsts = |pairs: &[(ColumnId, Expr)]| pairs.iter().map(|(id, _)| *id).collect::<Vec<_>>();
        match self {
            Self::OneRow => Vec::new(),
            Self::Empty(columns)
            | Self::Distinct { columns, .. }
            | Self::Values { columns, .. }
            | Self::SetOperation { columns, .. } => columns.clone(),
            Self::Scan(scan) => scan.columns.iter().map(|(id, _)| *id).collect(),
            Self::Filter { input, .. } | Self::Sort { input, .. } | Self::Limit { input, .. } => input.output(),
            Self::Project { input, computed } => [input.output(), firsts(computed)].concat(),
            Self::InnerJoin { inputs, .. } => inputs.iter().flat_map(Self::output).collect(),
            Self::Join(join) => join.output(),
            Self::Aggregate { keys, aggregates, .. } => {
                keys.iter().map(|(id, _)| *id).chain(aggregates.iter().map(|(id, _)| *id)).collect()
            }
            Self::Window { input, calls, .. } => {
                input.output().into_iter().chain(calls.iter().map(|(id, _)| *id)).collect()
            }
            Self::Expand { input, columns, ordinality, .. } => {
                input.output().into_iter().chain(columns.iter().copied()).chain(*ordinality).collect()
            }
            Self::CteReference(step) => step.columns.iter().map(|(id, _)| *id).collect(),
            Self::Recursion(recursion) => recursion.members[recursion.result].columns.clone(),
            Self::RecursionInput(input) => input.columns.clone(),
        }
    }

    /// The join that this is, when `wanted` holds for it, or the plan as it was.
    #[expect(clippy::result_large_err, reason = "the other outcome is the plan as it was, and no error")]
    pub fn into_join_if(self, wanted: impl FnOnce(&BinaryJoin) -> bool) -> Result<Box<BinaryJoin>, Self> {
        if let Self::Join(join) = self {
            if wanted(&join) { Ok(join) } else { Err(Self::Join(join)) }
        } else {
            Err(self)
        }
    }

    /// The plan under a filter; itself without conditions.
    pub fn filter(self, conjuncts: Vec<Expr>) -> Self {
        if conjuncts.is_empty() { self } else { Self::Filter { input: Box::new(self), conjuncts } }
    }

    /// The plan with computed columns; itself without any.
    pub fn project(self, computed: Vec<(ColumnId, Expr)>) -> Self {
        if computed.is_empty() { self } else { Self::Project { input: Box::new(self), computed } }
    }

    /// The inner join with another; joins of joins become one, with what filters their rows.
    pub fn join(self, other: Self, conjuncts: Vec<Expr>) -> Self {
        let mut inputs = Vec::new();
        let mut all = Vec::new();
        for side in [self, other] {
            match side {
                Self::InnerJoin { inputs: inner, conjuncts } => {
                    inputs.extend(inner);
                    all.extend(conjuncts);
                }
                Self::OneRow => {}
                Self::Filter { input, conjuncts }
                    if matches!(*input, Self::InnerJoin { .. }) && !conjuncts.iter().any(Expr::can_raise) =>
                {
                    if let Self::InnerJoin { inputs: inner, conjuncts: on } = *input {
                        inputs.extend(inner);
                        all.extend(on);
                    }
                    all.extend(conjuncts);
                }
                other => inputs.push(other),
            }
        }
        all.extend(conjuncts);
        match inputs.len() {
            0 => Self::OneRow.filter(all),
            1 => inputs.remove(0).filter(all),
            _ => Self::InnerJoin { inputs, conjuncts: all },
        }
    }

    /// The inputs, those to the left first.
    pub fn inputs(&self) -> Vec<&Self> {
        match self {
            Self::OneRow
            | Self::Empty(_)
            | Self::Scan(_)
            | Self::Values { .. }
            | Self::CteReference(_)
            | Self::RecursionInput(_) => Vec::new(),
            Self::Filter { input, .. }
            | Self::Project { input, .. }
            | Self::Aggregate { input, .. }
            | Self::Window { input, .. }
            | Self::Distinct { input, .. }
            | Self::Sort { input, .. }
            | Self::Limit { input, .. }
            | Self::Expand { input, .. } => vec![input],
            Self::InnerJoin { inputs, .. } => inputs.iter().collect(),
            Self::Join(join) => vec![&join.left, &join.right],
            Self::SetOperation { operands, .. } => operands.iter().map(|operand| &operand.plan).collect(),
            Self::Recursion(recursion) => recursion
                .members
                .iter()
                .flat_map(|member| member.anchors.iter().chain(&member.branches))
                .map(|operand| &operand.plan)
                .collect(),
        }
    }

    /// The same node with each input replaced.
    pub fn map_inputs<E>(self, change: &mut impl FnMut(Self) -> Result<Self, E>) -> Result<Self, E> {
        let mut boxed = |input: Box<Self>| change(*input).map(Box::new);
        Ok(match self {
            plan @ (Self::OneRow
            | Self::Empty(_)
            | Self::Scan(_)
            | Self::Values { .. }
            | Self::CteReference(_)
            | Self::RecursionInput(_)) => plan,
            Self::Filter { input, conjuncts } => Self::Filter { input: boxed(input)?, conjuncts },
            Self::Project { input, computed } => Self::Project { input: boxed(input)?, computed },
            Self::InnerJoin { inputs, conjuncts } => {
                Self::InnerJoin { inputs: inputs.into_iter().map(change).collect::<Result<_, E>>()?, conjuncts }
            }
            Self::Join(join) => {
                let BinaryJoin { left, right, .. } = *join;
                let (left, right) = (change(left)?, change(right)?);
                Self::Join(Box::new(BinaryJoin { left, right, ..*join }))
            }
            Self::Aggregate { input, keys, aggregates } => Self::Aggregate { input: boxed(input)?, keys, aggregates },
            Self::Window { input, partition, order, calls } => {
                Self::Window { input: boxed(input)?, partition, order, calls }
            }
            Self::Distinct { input, columns } => Self::Distinct { input: boxed(input)?, columns },
            Self::Sort { input, keys } => Self::Sort { input: boxed(input)?, keys },
            Self::Limit { input, offset, fetch } => Self::Limit { input: boxed(input)?, offset, fetch },
            Self::Expand { input, expand, columns, ordinality } => {
                Self::Expand { input: boxed(input)?, expand, columns, ordinality }
            }
            Self::SetOperation { op, all, operands, columns } => {
                Self::SetOperation { op, all, operands: map_operands(operands, change)?, columns }
            }
            Self::Recursion(mut recursion) => {
                for member in &mut recursion.members {
                    member.anchors = map_operands(std::mem::take(&mut member.anchors), change)?;
                    member.branches = map_operands(std::mem::take(&mut member.branches), change)?;
                }
                Self::Recursion(recursion)
            }
        })
    }

    /// Calls `visit` for this node and all below it.
    pub fn walk<'p>(&'p self, visit: &mut impl FnMut(&'p Self)) {
        visit(self);
        self.inputs().into_iter().for_each(|input| input.walk(visit));
    }
}

fn map_operands<E>(
    operands: Vec<SetOperand>,
    change: &mut impl FnMut(LogicalPlan) -> Result<LogicalPlan, E>,
) -> Result<Vec<SetOperand>, E> {
    let operand = |operand: SetOperand| Ok(SetOperand { plan: change(operand.plan)?, ..operand });
    operands.into_iter().map(operand).collect()
}

impl BinaryJoin {
    /// A join of independent sides with a plain condition.
    pub fn new(kind: JoinKind, left: LogicalPlan, right: LogicalPlan, on: Vec<Expr>) -> Self {
        Self {
            kind,
            left,
            right,
            on,
            any: None,
            mark: None,
            dependent: false,
            guard: Vec::new(),
            nearest: None,
            written: None,
            sides: Sides::AsWritten,
        }
    }

    /// The join as a plan.
    pub fn into_plan(self) -> LogicalPlan {
        LogicalPlan::Join(Box::new(self))
    }

    /// What the kind is called by the one who wrote it.
    pub fn kind_written(&self) -> JoinKindName {
        let is_right = self.sides == Sides::Exchanged && self.kind == JoinKind::Left;
        if is_right { JoinKindName::Right } else { self.kind.into() }
    }

    fn output(&self) -> Vec<ColumnId> {
        let mut columns = self.left.output();
        if matches!(self.kind, JoinKind::Inner | JoinKind::Left | JoinKind::Full | JoinKind::Single) {
            columns.extend(self.right.output());
        }
        columns.extend(self.mark);
        columns
    }

    /// Whether working out the right side, or the condition, can fail for some row.
    pub fn right_can_raise(&self) -> bool {
        self.right.can_raise() || self.on.iter().any(Expr::can_raise)
    }

    /// Every expression of the join itself.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        let any = self.any.iter().flat_map(|any| any.left.iter().chain(&any.right));
        let order = self.nearest.iter().flat_map(|nearest| nearest.order.iter().map(|key| &key.expr));
        self.on.iter().chain(any).chain(&self.guard).chain(order)
    }
}
