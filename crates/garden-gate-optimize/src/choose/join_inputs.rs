//! What is joined in one search: the inputs of inner joins, and the right sides of outer, semi and anti joins between and above them.
//!
//! A left outer, semi or anti join makes of each row of its left side what its condition says, whatever that row is joined with; so it may be done
//! before or after inner joins, and before or after others of its kind, as soon as the tables that its condition uses are there
//! (Galindo-Legaria & Rosenthal, TODS 1997; Moerkotte, Fender & Eich, SIGMOD 2013).

use super::join_order::Tables;
use crate::logical::{AnyTest, BinaryJoin, ColumnId, Expr, Guide, JoinKind, JoinKindName, LogicalPlan};

/// More inputs than these are not joined in one search: each more makes three times the work of an order of inner joins.
const MOST_INPUTS: usize = 10;

/// How the right side of a join that has different sides is joined.
#[derive(Clone, Debug)]
pub(super) struct Side {
    pub(super) kind: JoinKind,
    pub(super) on: Vec<Expr>,
    pub(super) any: Option<AnyTest>,
    pub(super) mark: Option<ColumnId>,
    /// What its kind is called by the one who wrote it.
    pub(super) written: JoinKindName,
}

impl Side {
    /// The join without its inputs.
    pub(super) fn of(join: BinaryJoin) -> (Self, LogicalPlan, LogicalPlan) {
        let written = join.kind_written();
        let BinaryJoin { kind, left, right, mut on, mut any, mark, .. } = join;
        if kind == JoinKind::Semi
            && let Some(test) = any.take()
        {
            // Only TRUE counts: a plain condition.
            on.extend(test.into_conditions());
        }
        (Self { kind, on, any, mark, written }, left, right)
    }

    /// The expressions of its condition.
    pub(super) fn exprs(&self) -> impl Iterator<Item = &Expr> {
        self.on.iter().chain(self.any.iter().flat_map(|any| any.left.iter().chain(&any.right)))
    }
}

/// Inputs that are joined in one search.
#[derive(Debug, Default)]
pub(super) struct JoinInputs {
    pub(super) inputs: Vec<LogicalPlan>,
    /// Conditions of the inner joins.
    pub(super) conjuncts: Vec<Expr>,
    /// For each input that is a right side how it is joined, and the inputs that have to be joined before.
    pub(super) sides: Vec<Option<(Side, Tables)>>,
}

impl JoinInputs {
    /// The inputs of an inner join.
    pub(super) fn inner(inputs: Vec<LogicalPlan>, conjuncts: Vec<Expr>) -> Self {
        let sides = inputs.iter().map(|_| None).collect();
        Self { inputs, conjuncts, sides }
    }

    /// Whether a plan has joins of several kinds that can change places.
    pub(super) fn are_in(plan: &LogicalPlan, guide: &Guide) -> bool {
        let (mut inner, mut sides) = (0, 0);
        count(plan, &[], (&mut inner, &mut sides));
        let several = sides > 0 && inner + sides > 2 && inner + sides <= MOST_INPUTS;
        several && !guide.keeps_order() && !in_recursion(plan)
    }

    /// The inputs of such joins.
    pub(super) fn of(plan: LogicalPlan) -> Self {
        let mut units = Self::default();
        units.take(plan, &[]);
        units
    }

    /// Adds what a plan joins; `used` are the columns that conditions of inner joins above it use.
    fn take(&mut self, plan: LogicalPlan, used: &[ColumnId]) -> Tables {
        if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
            let used = with_used(used, &conjuncts);
            self.conjuncts.extend(conjuncts);
            return inputs.into_iter().fold(0, |set, input| set | self.take(input, &used));
        }
        let join = match plan.into_join_if(|join| moves(join, used)) {
            Ok(join) => join,
            Err(plan) => return self.unit(plan, None),
        };
        let (side, left, right) = Side::of(*join);
        let left = self.take(left, used);
        let columns: Vec<ColumnId> = side.exprs().flat_map(Expr::columns).collect();
        let uses = |input: &LogicalPlan| input.output().iter().any(|id| columns.contains(id));
        let mut needs: Tables = 0;
        for (at, input) in self.inputs.iter().enumerate() {
            if left & 1 << at != 0 && uses(input) {
                needs |= 1 << at | self.sides[at].as_ref().map_or(0, |(_, needs)| *needs);
            }
        }
        let own = self.unit(right, Some((side, if needs == 0 { left } else { needs })));
        left | own
    }

    fn unit(&mut self, input: LogicalPlan, side: Option<(Side, Tables)>) -> Tables {
        self.inputs.push(input);
        self.sides.push(side);
        1 << (self.inputs.len() - 1)
    }
}

/// Counts what [`JoinInputs::take`] would add.
fn count(plan: &LogicalPlan, used: &[ColumnId], (inner, sides): (&mut usize, &mut usize)) {
    if let LogicalPlan::InnerJoin { inputs, conjuncts } = plan {
        let used = with_used(used, conjuncts);
        inputs.iter().for_each(|input| count(input, &used, (&mut *inner, &mut *sides)));
    } else if let LogicalPlan::Join(join) = plan
        && moves(join, used)
    {
        *sides += 1;
        count(&join.left, used, (inner, sides));
    } else {
        *inner += 1;
    }
}

fn with_used(used: &[ColumnId], conjuncts: &[Expr]) -> Vec<ColumnId> {
    used.iter().copied().chain(conjuncts.iter().flat_map(Expr::columns)).collect()
}

/// Whether a join may change places with those around it: it makes rows of the left side's rows one by one, nothing in it can fail, and what it adds
/// is not used by conditions of inner joins.
fn moves(join: &BinaryJoin, used: &[ColumnId]) -> bool {
    let adds = |id: &ColumnId| join.kind == JoinKind::Left && join.right.output().contains(id);
    matches!(join.kind, JoinKind::Left | JoinKind::Semi | JoinKind::Anti)
        && !join.dependent
        && join.guard.is_empty()
        && join.mark.is_none()
        && join.nearest.is_none()
        && !join.exprs().any(Expr::can_raise)
        && !used.iter().any(adds)
}

/// Whether rows of a round of recursion are read.
fn in_recursion(plan: &LogicalPlan) -> bool {
    let mut found = false;
    plan.walk(&mut |node| found |= matches!(node, LogicalPlan::RecursionInput(_)));
    found
}
