use super::{Expr, Ident, SortItem, WindowSpec};
use crate::types::RowMarker;

/// A call of a function or aggregate, with all that may stand behind it.
#[derive(Clone, Debug)]
#[expect(clippy::struct_excessive_bools, reason = "words of the clause, each there or not")]
pub(crate) struct Call {
    pub(crate) name: Ident,
    /// `COUNT(*)`
    pub(crate) star: bool,
    pub(crate) distinct: bool,
    pub(crate) args: Vec<Expr>,
    /// ORDER BY inside the parentheses (`ARRAY_AGG`), or of WITHIN GROUP.
    pub(crate) order: Vec<SortItem>,
    pub(crate) within_group: bool,
    pub(crate) overflow: Option<Overflow>,
    pub(crate) filter: Option<Expr>,
    pub(crate) from_last: bool,
    pub(crate) ignore_nulls: Option<bool>,
    pub(crate) over: Option<Over>,
}

impl Call {
    /// `name(*)` and nothing more.
    pub(crate) fn of_all(name: Ident) -> Self {
        Self {
            name,
            star: true,
            distinct: false,
            args: Vec::new(),
            order: Vec::new(),
            within_group: false,
            overflow: None,
            filter: None,
            from_last: false,
            ignore_nulls: None,
            over: None,
        }
    }
}

/// `ON OVERFLOW {ERROR | TRUNCATE [filler] {WITH | WITHOUT} COUNT}` of LISTAGG
#[derive(Clone, Debug)]
pub(crate) enum Overflow {
    Error,
    Truncate { filler: Option<String>, with_count: bool },
}

/// `OVER name` or `OVER (…)`
#[derive(Clone, Debug)]
pub(crate) enum Over {
    Named(Ident),
    Spec(WindowSpec),
}

/// A nested window function (clause 6.11), in the argument of an aggregate with OVER.
#[derive(Clone, Debug)]
pub(crate) struct NestedFunction {
    pub(crate) marker: RowMarker,
    /// What `VALUE_OF` gives of the row; `ROW_NUMBER` gives its number.
    pub(crate) value: Option<ValueAt>,
}

/// `VALUE_OF(value AT marker + offset, default)`
#[derive(Clone, Debug)]
pub(crate) struct ValueAt {
    pub(crate) value: Expr,
    /// Rows behind the marker, or before it when it is negative.
    pub(crate) offset: i64,
    /// For a row outside of the partition.
    pub(crate) default: Option<Expr>,
}
