//! The syntax tree: what was written, with spans, nothing resolved.

pub(crate) use crate::catalog::FileOptions;
use crate::diagnostic::Span;
pub(crate) use crate::types::{ArithmeticOp, CompareOp, Direction, Now, Nulls, ParameterName, Test};
use crate::types::{SqlType, Value};

/// A name as it was spelt.
#[derive(Clone, Debug)]
pub(crate) struct Ident {
    pub(crate) text: String,
    pub(crate) quoted: bool,
    pub(crate) span: Span,
}

impl Ident {
    /// Whether this spelling means the thing called `name`: a quoted name matches exactly, another without regard to case.
    pub(crate) fn matches(&self, name: &str) -> bool {
        if self.quoted { self.text == name } else { self.text.eq_ignore_ascii_case(name) || folds_to(&self.text, name) }
    }
}

fn folds_to(a: &str, b: &str) -> bool {
    !(a.is_ascii() && b.is_ascii()) && a.to_lowercase() == b.to_lowercase()
}

#[derive(Clone, Debug)]
pub(crate) struct Statement {
    pub(crate) kind: StatementKind,
    pub(crate) span: Span,
}

#[derive(Clone, Debug)]
pub(crate) enum StatementKind {
    Query(Box<Query>),
    /// `SET name = value`
    Set {
        name: Ident,
        value: Expr,
    },
    /// `SET SCHEMA 'name'`
    SetSchema(Ident),
    ShowSettings,
    /// `LET name = expression`
    Let {
        name: Ident,
        value: Expr,
    },
}

#[derive(Clone, Debug)]
pub(crate) struct Query {
    pub(crate) select: Select,
    pub(crate) order_by: Vec<SortItem>,
    pub(crate) offset: Option<Expr>,
    pub(crate) fetch: Option<Expr>,
}

#[derive(Clone, Debug)]
pub(crate) struct Select {
    /// The span of DISTINCT, when it is written.
    pub(crate) distinct: Option<Span>,
    pub(crate) items: Vec<SelectItem>,
    pub(crate) from: Vec<TableExpr>,
    pub(crate) where_: Option<Expr>,
    pub(crate) group_by: Vec<Expr>,
    pub(crate) having: Option<Expr>,
}

#[derive(Clone, Debug)]
pub(crate) enum SelectItem {
    /// `*`
    All(Span),
    /// `t.*` or `s.t.*`
    AllOf(Vec<Ident>, Span),
    Expr {
        expr: Expr,
        alias: Option<Alias>,
    },
}

#[derive(Clone, Debug)]
pub(crate) struct Alias {
    pub(crate) name: Ident,
    /// Whether AS stands before it; without it a comma may have been forgotten.
    pub(crate) with_as: bool,
}

#[derive(Clone, Debug)]
pub(crate) enum TableExpr {
    Named { name: Vec<Ident>, alias: Option<Ident>, span: Span },
    File { path: String, options: FileOptions, alias: Option<Ident>, span: Span },
    Join(Box<Join>),
}

#[derive(Clone, Debug)]
pub(crate) struct Join {
    pub(crate) left: TableExpr,
    pub(crate) right: TableExpr,
    pub(crate) condition: JoinCondition,
}

#[derive(Clone, Debug)]
pub(crate) enum JoinCondition {
    Cross,
    On(Expr),
    Using(Vec<Ident>),
}

#[derive(Clone, Debug)]
pub(crate) struct SortItem {
    pub(crate) expr: Expr,
    pub(crate) direction: Direction,
    pub(crate) nulls: Nulls,
}

#[derive(Clone, Debug)]
pub(crate) struct Expr {
    pub(crate) kind: ExprKind,
    pub(crate) span: Span,
    /// Levels of nesting below and including this node; kept under the parser's bound.
    pub(crate) depth: u16,
}

#[derive(Clone, Debug)]
pub(crate) enum ExprKind {
    Name(Vec<Ident>),
    Literal(Value, SqlType),
    Parameter(ParameterName),
    /// Two or more terms.
    And(Vec<Expr>),
    /// Two or more terms.
    Or(Vec<Expr>),
    Not(Box<Expr>),
    Compare(CompareOp, Box<(Expr, Expr)>),
    Between {
        operands: Box<[Expr; 3]>,
        negated: bool,
        symmetric: bool,
    },
    In {
        operand: Box<Expr>,
        list: Vec<Expr>,
        negated: bool,
    },
    Like {
        operands: Box<(Expr, Expr)>,
        escape: Option<Box<Expr>>,
        negated: bool,
    },
    /// `IS [NOT] NULL | TRUE | FALSE | UNKNOWN`
    Is {
        operand: Box<Expr>,
        test: Test,
        negated: bool,
    },
    Distinct {
        operands: Box<(Expr, Expr)>,
        negated: bool,
    },
    Arithmetic(ArithmeticOp, Box<(Expr, Expr)>),
    Concat(Box<(Expr, Expr)>),
    Negate(Box<Expr>),
    Case(Box<Case>),
    Cast(Box<Expr>, SqlType),
    Call {
        name: Ident,
        args: Arguments,
    },
    Now(Now),
}

/// `CASE [operand] WHEN … THEN … [ELSE …] END`
#[derive(Clone, Debug)]
pub(crate) struct Case {
    pub(crate) operand: Option<Expr>,
    pub(crate) branches: Vec<(Expr, Expr)>,
    pub(crate) otherwise: Option<Expr>,
}

#[derive(Clone, Debug)]
pub(crate) enum Arguments {
    /// `COUNT(*)`
    Star,
    List {
        distinct: bool,
        values: Vec<Expr>,
    },
}
