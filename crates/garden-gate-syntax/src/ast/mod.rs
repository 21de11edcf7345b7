//! The syntax tree: what was written, with spans, nothing resolved.

mod call;
mod change;
mod definition;
mod form;
mod period;
mod plain;
mod table;

pub use call::{Call, FirstOrLast, NestedFunction, NullTreatment, Over, Overflow, ValueAt};
pub use change::{
    Assigned, AssignedValue, Assignment, Change, ChangeKind, Duplicates, Export, Insert, InsertRows, Merge,
    MergeAction, MergeBranch, Overriding, Transaction,
};
pub use definition::{
    AlterTable, ColumnElement, CommentOn, Commented, ConstraintKind, Copied, CreateDomain, CreateFunction, CreateIndex,
    CreateSequence, CreateTable, CreateView, Definition, DomainChange, Drop, FilledBy, ForeignElement, Name,
    NumberingChange, ObjectKind, SequenceChange, SequenceOptions, TableConstraint, TableContent, TableElement,
};

pub use form::Form;

pub use period::{
    Changes, HistoryChange, PeriodElement, PeriodOp, Portion, SystemTimeClause, SystemTimeKind, SystemTimePoint,
    TrimHistory,
};

pub use table::{Delta, DeltaRows, Join, JoinCondition, Sample, TableAlias, TableCall, TableExpr};

pub use crate::catalog::FileOptions;
use crate::diagnostic::Span;
pub use crate::types::ExtractField;
pub use crate::types::{
    ArithmeticOp, CompareOp, Direction, FrameBound, FrameExclusion, FrameUnit, JoinKind, Now, Nulls, ParameterName,
    SetOp, Test,
};
use crate::types::{Fields, SqlType, Value};

/// A name as it was spelt.
#[derive(Clone, Debug)]
pub struct Ident {
    pub text: String,
    pub quoted: bool,
    pub span: Span,
}

impl Ident {
    /// Whether this spelling means the thing called `name`: a quoted name matches exactly, another without regard to case.
    pub fn matches(&self, name: &str) -> bool {
        if self.quoted { self.text == name } else { self.text.eq_ignore_ascii_case(name) || folds_to(&self.text, name) }
    }
}

fn folds_to(a: &str, b: &str) -> bool {
    !(a.is_ascii() && b.is_ascii()) && a.to_lowercase() == b.to_lowercase()
}

#[derive(Clone, Debug)]
pub struct Statement {
    pub kind: StatementKind,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum StatementKind {
    Query(Box<Query>),
    Change(Box<Change>),
    /// `INSERT INTO FILE 'path' query`
    Export(Box<Export>),
    Definition(Box<Definition>),
    Transaction(Transaction),
    /// `SET name = value`
    Set {
        name: Ident,
        value: Expr,
    },
    /// `SET AS OF = moment`, or `= DEFAULT` for the present
    SetAsOf(Option<SystemTimePoint>),
    /// `SET SCHEMA 'name'`
    SetSchema(Ident),
    /// `SET PATH schema, …`
    SetPath(Vec<Ident>),
    ShowSettings,
    Analyze(Analyze),
    /// `LET name = expression`
    Let {
        name: Ident,
        value: Expr,
    },
    /// `SET TIME ZONE`; to the one that a session begins with for `LOCAL`.
    SetZone(Option<Expr>),
    /// `LET name = (SELECT …)`
    LetQuery {
        name: Ident,
        query: Box<Query>,
    },
}

/// `ANALYZE [table [(column, …)]]`
#[derive(Clone, Debug)]
pub struct Analyze {
    pub table: Option<Vec<Ident>>,
    pub columns: Option<Vec<Ident>>,
}

/// A query expression (clause 7.17): WITH, a body, and the order and number of its rows.
#[derive(Clone, Debug)]
pub struct Query {
    pub with: Option<With>,
    pub body: QueryBody,
    pub order_by: Vec<SortItem>,
    pub offset: Option<Expr>,
    pub fetch: Option<Fetch>,
    pub guide: Option<GuideClause>,
    pub span: Span,
}

impl Query {
    /// The query of one row and column that has this value.
    pub fn of_value(value: Expr) -> Self {
        let span = value.span;
        let select = Select {
            distinct: None,
            items: vec![SelectItem::Expr { expr: value, alias: None }],
            from: Vec::new(),
            from_span: Span::default(),
            where_: None,
            group_by: None,
            having: None,
            windows: Vec::new(),
            span,
        };
        let body = QueryBody::Select(Box::new(select));
        Self { with: None, body, order_by: Vec::new(), offset: None, fetch: None, guide: None, span }
    }
}

/// `GUIDE [IF POSSIBLE] (…)`
#[derive(Clone, Debug)]
pub struct GuideClause {
    pub if_possible: bool,
    pub directives: Vec<GuideDirective>,
}

/// One demand, with the names of the tables in it.
#[derive(Clone, Debug)]
pub struct GuideDirective {
    pub kind: garden_gate_base::guide::DirectiveKind,
    pub names: Vec<Ident>,
    pub span: Span,
}

/// `FETCH FIRST n [PERCENT] ROWS {ONLY | WITH TIES}`
#[derive(Clone, Debug)]
pub struct Fetch {
    pub count: Expr,
    pub percent: bool,
    pub with_ties: bool,
}

#[derive(Clone, Debug)]
pub enum QueryBody {
    Select(Box<Select>),
    Values(Vec<Vec<Expr>>),
    /// `TABLE name`
    Table(Vec<Ident>, Span),
    SetOperation(Box<SetOperation>),
    /// A query in parentheses, with an order of its own.
    Nested(Box<Query>),
}

/// `operand op operand …`: two operands, or more of UNION ALL, which is associative.
#[derive(Clone, Debug)]
pub struct SetOperation {
    pub op: SetOp,
    pub all: bool,
    pub corresponding: Option<Corresponding>,
    pub operands: Vec<QueryBody>,
    /// Where the operator appears.
    pub span: Span,
}

/// `CORRESPONDING [BY (columns)]`
#[derive(Clone, Debug)]
pub struct Corresponding {
    pub by: Option<Vec<Ident>>,
}

#[derive(Clone, Debug)]
pub struct With {
    pub recursive: bool,
    pub elements: Vec<WithElement>,
}

/// `name [(columns)] AS (query) [SEARCH …] [CYCLE …]`
#[derive(Clone, Debug)]
pub struct WithElement {
    pub name: Ident,
    pub columns: Option<Vec<Ident>>,
    pub query: Query,
    pub search: Option<SearchClause>,
    pub cycle: Option<Cycle>,
}

/// `SEARCH {DEPTH | BREADTH} FIRST BY columns SET sequence`
#[derive(Clone, Debug)]
pub struct SearchClause {
    pub depth_first: bool,
    pub by: Vec<Ident>,
    pub sequence: Ident,
}

/// `CYCLE columns SET mark [TO value DEFAULT value] USING path`
#[derive(Clone, Debug)]
pub struct Cycle {
    pub columns: Vec<Ident>,
    pub mark: Ident,
    /// The values of the mark: on a cycle, and not.
    pub values: Option<(Expr, Expr)>,
    pub path: Option<Ident>,
}

#[derive(Clone, Debug)]
pub struct Select {
    /// The span of DISTINCT, when it is written.
    pub distinct: Option<Span>,
    pub items: Vec<SelectItem>,
    pub from: Vec<TableExpr>,
    /// FROM and its items.
    pub from_span: Span,
    pub where_: Option<Expr>,
    pub group_by: Option<GroupBy>,
    pub having: Option<Expr>,
    pub windows: Vec<(Ident, WindowSpec)>,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub struct GroupBy {
    /// `GROUP BY DISTINCT`: equal grouping sets count once.
    pub distinct: bool,
    pub elements: Vec<GroupingElement>,
}

#[derive(Clone, Debug)]
pub enum GroupingElement {
    /// `a` or `(a, b)` or `()`
    Set(Vec<Expr>),
    Rollup(Vec<Vec<Expr>>),
    Cube(Vec<Vec<Expr>>),
    Sets(Vec<GroupingElement>),
}

/// `[existing] [PARTITION BY …] [ORDER BY …] [frame]`
#[derive(Clone, Debug)]
pub struct WindowSpec {
    pub base: Option<Ident>,
    pub partition: Vec<Expr>,
    pub order: Vec<SortItem>,
    pub frame: Option<FrameSpec>,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub struct FrameSpec {
    pub unit: FrameUnit,
    pub start: FrameBound<Box<Expr>>,
    pub end: FrameBound<Box<Expr>>,
    pub exclude: FrameExclusion,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub enum SelectItem {
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
pub struct Alias {
    pub name: Ident,
    /// Whether AS appears before it; without it a comma may have been forgotten.
    pub with_as: bool,
}

#[derive(Clone, Debug)]
pub struct SortItem {
    pub expr: Expr,
    pub direction: Direction,
    pub nulls: Nulls,
}

/// What an operator of two operands is applied to.
#[derive(Clone, Debug)]
pub struct Operands {
    pub left: Expr,
    pub right: Expr,
}

#[derive(Clone, Debug)]
pub struct Expr {
    pub kind: ExprKind,
    pub span: Span,
    /// Levels of nesting below and including this node; kept under the parser's bound.
    pub depth: u16,
}

#[derive(Clone, Debug)]
pub enum ExprKind {
    Name(Vec<Ident>),
    Literal(Value, SqlType),
    Parameter(ParameterName),
    /// The operand of a simple CASE, in its WHEN.
    CaseOperand,
    /// Two or more terms.
    And(Vec<Expr>),
    /// Two or more terms.
    Or(Vec<Expr>),
    Not(Box<Expr>),
    Compare(CompareOp, Box<Operands>),
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
        operands: Box<Operands>,
        escape: Option<Box<Expr>>,
        negated: bool,
    },
    /// `SIMILAR TO`
    Similar {
        operands: Box<Operands>,
        escape: Option<Box<Expr>>,
        negated: bool,
    },
    /// `LIKE_REGEX pattern [FLAG flag]`
    LikeRegex {
        operands: Box<Operands>,
        flag: Option<Box<Expr>>,
        negated: bool,
    },
    /// `(start, end) OVERLAPS (start, end)`
    Overlaps(Box<[Expr; 4]>),
    /// `PERIOD (start, end)`
    Period(Box<Operands>),
    /// A period predicate; the operands are periods, the second of CONTAINS may be a point.
    PeriodTest(PeriodOp, Box<Operands>),
    /// `EXISTS (query)`
    Exists(Box<Query>),
    /// `UNIQUE (query)`, and whether it says NULLS NOT DISTINCT
    Unique(Box<Query>, bool),
    /// A query instead of a value: one row of one or more columns.
    Subquery(Box<Query>),
    InQuery {
        operand: Box<Expr>,
        query: Box<Query>,
        negated: bool,
    },
    Quantified {
        op: CompareOp,
        operand: Box<Expr>,
        all: bool,
        query: Box<Query>,
    },
    /// `(a, b)` or `ROW(a, b)`
    Row(Vec<Expr>),
    /// `ARRAY[a, b]`
    Array(Vec<Expr>),
    /// `ARRAY(query)`
    ArrayQuery(Box<Query>),
    /// `array[position]`
    Element(Box<Operands>),
    /// `(row).field`
    Field(Box<Expr>, Ident),
    /// `EXTRACT(field FROM source)`
    Extract(ExtractField, Box<Expr>),
    /// `TRUNCATE(operand TO unit)`
    TruncateTo(ExtractField, Box<Expr>),
    /// `ROW_NUMBER(CURRENT_ROW)`, `VALUE_OF(value AT BEGIN_FRAME + 1)`
    Nested(Box<NestedFunction>),
    /// `value AT TIME ZONE zone`, or `AT LOCAL`
    AtZone(Box<Expr>, Option<Box<Expr>>),
    /// `(end - start) MONTH`: a difference of dates in these fields
    Difference(Box<Expr>, Fields),
    /// `IS [NOT] NULL | TRUE | FALSE | UNKNOWN`
    Is {
        operand: Box<Expr>,
        test: Test,
        negated: bool,
    },
    Distinct {
        operands: Box<Operands>,
        negated: bool,
    },
    Arithmetic(ArithmeticOp, Box<Operands>),
    Concat(Box<Operands>),
    Negate(Box<Expr>),
    Case(Box<Case>),
    /// `CAST(operand AS type [FORMAT template])`
    Cast(Box<Expr>, SqlType, Option<String>),
    /// `CAST(operand AS domain)`
    CastToDomain(Box<Expr>, Vec<Ident>),
    /// `CAST(operand AS INTERVAL DAY)`, and a literal of these fields
    CastToFields(Box<Expr>, Fields),
    Call(Box<Call>),
    Form(Form, Vec<Expr>),
    Now(Now),
    /// `NEXT VALUE FOR sequence`
    NextValue(Vec<Ident>),
}

/// `CASE [operand] WHEN … THEN … [ELSE …] END`
#[derive(Clone, Debug)]
pub struct Case {
    pub operand: Option<Expr>,
    pub branches: Vec<(Expr, Expr)>,
    pub otherwise: Option<Expr>,
}
