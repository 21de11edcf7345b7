//! What a search knows of the things that it joins.

use super::super::non_inner_alternatives::NonInnerJoin;
use super::graph::{IndexWay, Tables};
use crate::logical::{ColumnId, Scan};
use crate::physical::Node;

/// A table, or a part of the query that is joined as one.
pub(in super::super) struct JoinInput {
    pub(in super::super) name: String,
    /// The correlation names of the tables in it.
    pub(in super::super) tables: Vec<String>,
    pub(in super::super) rows: f64,
    pub(in super::super) cost: f64,
    /// Where it is the right side of an outer, semi or anti join.
    pub(in super::super) side: Option<JoinSide>,
    /// Where it is a table as it is stored.
    pub(in super::super) scan: Option<Scan>,
    /// The indexes that it has for the conditions.
    pub(in super::super) indexes: Vec<IndexWay>,
    /// How many columns are read of it.
    pub(in super::super) width: usize,
    /// The input in the order of a column, where an index gives it so.
    pub(in super::super) ordered: Vec<(ColumnId, Node)>,
}

/// The right side of an outer, semi or anti join.
pub(in super::super) struct JoinSide {
    pub(in super::super) join: NonInnerJoin,
    /// The inputs that have to be joined before.
    pub(in super::super) needs: Tables,
}
