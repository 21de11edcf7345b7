use super::{Expr, Ident, SortItem, WindowSpec};

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
