use super::{ColumnId, CompareOp, Expr, LogicalPlan};

/// A query inside an expression, until the plan around it takes it up as a join.
#[derive(Clone, Debug)]
pub struct Subquery {
    /// The same for copies of one expression, which the plan around takes up once.
    pub number: usize,
    pub test: SubqueryTest,
    pub plan: LogicalPlan,
}

/// What of the query's rows makes the value.
#[derive(Clone, Debug)]
pub enum SubqueryTest {
    /// The column of the only row; NULL without a row; a second row is an error.
    Scalar(ColumnId),
    /// Whether there is a row.
    Exists,
    /// `operands op ANY (query)`: TRUE if it is for some row, else UNKNOWN if it is that for some row, else FALSE.
    Any { op: CompareOp, operands: Vec<Expr>, columns: Vec<ColumnId> },
}

impl Subquery {
    /// The expressions that belong to the query around it.
    pub fn operands(&self) -> &[Expr] {
        match &self.test {
            SubqueryTest::Any { operands, .. } => operands,
            SubqueryTest::Scalar(_) | SubqueryTest::Exists => &[],
        }
    }
}
