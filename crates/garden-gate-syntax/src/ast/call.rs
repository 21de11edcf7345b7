use super::{Expr, Ident, SortItem, WindowSpec};
use crate::types::RowMarker;

/// A call of a function or aggregate, with all that may stand after it.
#[derive(Clone, Debug)]
pub struct Call {
    pub name: Ident,
    /// `COUNT(*)`
    pub star: bool,
    pub distinct: bool,
    pub args: Vec<Expr>,
    /// ORDER BY inside the parentheses (`ARRAY_AGG`), or of WITHIN GROUP.
    pub order: Vec<SortItem>,
    pub within_group: bool,
    pub overflow: Option<Overflow>,
    pub filter: Option<Expr>,
    pub from: FirstOrLast,
    pub nulls: Option<NullTreatment>,
    pub over: Option<Over>,
}

impl Call {
    /// `name(*)` and nothing more.
    pub fn of_all(name: Ident) -> Self {
        Self {
            name,
            star: true,
            distinct: false,
            args: Vec::new(),
            order: Vec::new(),
            within_group: false,
            overflow: None,
            filter: None,
            from: FirstOrLast::First,
            nulls: None,
            over: None,
        }
    }
}

/// From which end of its frame `NTH_VALUE` counts: `FROM {FIRST | LAST}`
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FirstOrLast {
    First,
    Last,
}

/// `{RESPECT | IGNORE} NULLS`
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NullTreatment {
    Respect,
    Ignore,
}

/// `ON OVERFLOW {ERROR | TRUNCATE [filler] {WITH | WITHOUT} COUNT}` of LISTAGG
#[derive(Clone, Debug)]
pub enum Overflow {
    Error,
    Truncate { filler: Option<String>, with_count: bool },
}

/// `OVER name` or `OVER (…)`
#[derive(Clone, Debug)]
pub enum Over {
    Named(Ident),
    Spec(WindowSpec),
}

/// A nested window function (clause 6.11), in the argument of an aggregate with OVER.
#[derive(Clone, Debug)]
pub struct NestedFunction {
    pub marker: RowMarker,
    /// What `VALUE_OF` gives of the row; `ROW_NUMBER` gives its number.
    pub value: Option<ValueAt>,
}

/// `VALUE_OF(value AT marker + offset, default)`
#[derive(Clone, Debug)]
pub struct ValueAt {
    pub value: Expr,
    /// Rows after the marker, or before it when it is negative.
    pub offset: i64,
    /// For a row outside the partition.
    pub default: Option<Expr>,
}
