//! Queries as trees, and their SQL text. Every column has a name that no other column of the query has within its table.

use std::fmt::Write as _;

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Cell {
    Null,
    Truth(bool),
    Number(i64),
    Text(String),
    /// A value of the type that [`super::other`] has chosen, by its place in the order.
    Other(usize),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Number,
    Text,
    Truth,
    Other,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Expr {
    Column(String, String),
    /// A grouping key of the SELECT around, by its place.
    Key(usize),
    Literal(Cell, Kind),
    Arithmetic(char, Box<Expr>, Box<Expr>),
    Concat(Box<Expr>, Box<Expr>),
    Compare(&'static str, Box<Expr>, Box<Expr>),
    And(Vec<Expr>),
    Or(Vec<Expr>),
    Not(Box<Expr>),
    /// `(a AND 1 / 0 = 1)`, or with OR: a constant that fails for whom the term before it does not settle the matter.
    Guarded(Box<Expr>, bool),
    IsNull(Box<Expr>, bool),
    /// `IS [NOT] TRUE | FALSE | UNKNOWN`
    Is(Box<Expr>, Option<bool>, bool),
    Distinct(Box<Expr>, Box<Expr>, bool),
    Between(Box<Expr>, Box<Expr>, Box<Expr>),
    In(Box<Expr>, Vec<Expr>, bool),
    Case(Vec<(Expr, Expr)>, Option<Box<Expr>>),
    Coalesce(Vec<Expr>),
    NullIf(Box<Expr>, Box<Expr>),
    /// ABS, UPPER, CHAR_LENGTH, GREATEST, LEAST
    Function(&'static str, Vec<Expr>),
    Scalar(Box<Query>),
    Exists(Box<Query>),
    InQuery(Vec<Expr>, Box<Query>, bool),
    Quantified(&'static str, bool, Box<Expr>, Box<Query>),
    Aggregate(Aggregate),
    Grouping(usize),
    Window(Box<Window>),
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Aggregate {
    /// `COUNT(*)` has no argument.
    pub(crate) function: &'static str,
    pub(crate) argument: Option<Box<Expr>>,
    pub(crate) distinct: bool,
    pub(crate) filter: Option<Box<Expr>>,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Window {
    pub(crate) function: WindowFunction,
    pub(crate) partition: Vec<Expr>,
    pub(crate) order: Vec<Order>,
    pub(crate) frame: Option<Frame>,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum WindowFunction {
    /// ROW_NUMBER, RANK, DENSE_RANK
    Rank(&'static str),
    Ntile(i64),
    /// LEAD or LAG of an expression by so many rows, and whether NULLs are ignored
    Shift(&'static str, Expr, i64, bool),
    /// FIRST_VALUE, LAST_VALUE
    Edge(&'static str, Expr, bool),
    Nth(Expr, i64, bool),
    /// How many rows of the frame have less than the row so many rows after a marker.
    Below(Expr, &'static str, i64),
    Aggregate(Aggregate),
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Order {
    pub(crate) expr: Expr,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Frame {
    pub(crate) unit: &'static str,
    pub(crate) start: Bound,
    pub(crate) end: Bound,
    pub(crate) exclude: &'static str,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Bound {
    First,
    Before(i64),
    Current,
    After(i64),
    Last,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum From {
    /// A table or a common table expression.
    Table(String, String),
    Derived(Box<Query>, String, bool),
    /// `SERIES(expr, expr)`
    Series(Expr, Expr, String),
    Join(&'static str, Box<From>, Box<From>, Option<Expr>),
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Select {
    pub(crate) distinct: bool,
    pub(crate) items: Vec<Expr>,
    pub(crate) from: Vec<From>,
    pub(crate) condition: Option<Expr>,
    pub(crate) group: Option<Group>,
    pub(crate) having: Option<Expr>,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Group {
    pub(crate) keys: Vec<Expr>,
    /// Which keys each set has.
    pub(crate) sets: Option<Vec<Vec<usize>>>,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Body {
    Select(Box<Select>),
    Values(Vec<Vec<Expr>>),
    Set(&'static str, bool, Box<Body>, Box<Body>),
}

/// The columns of a query are called c0, c1, ….
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Query {
    pub(crate) with: Vec<(String, Query)>,
    pub(crate) body: Body,
    /// Sorted by all columns, each down or up; then so many rows are skipped and given.
    pub(crate) order: Option<Vec<bool>>,
    pub(crate) window: Option<(usize, usize)>,
    /// A recursion: rows of the body, and of this SELECT over the rows before, called `r`.
    pub(crate) recursive: Option<(Box<Select>, bool)>,
}

impl Query {
    pub(crate) fn of(body: Body) -> Self {
        Self { with: Vec::new(), body, order: None, window: None, recursive: None }
    }

    pub(crate) fn width(&self) -> usize {
        self.body.width()
    }

    pub(crate) fn sql(&self) -> String {
        let mut out = String::new();
        if !self.with.is_empty() {
            let elements: Vec<String> = self.with.iter().map(|(name, query)| element(name, query)).collect();
            let recursive =
                if self.with.iter().any(|(_, query)| query.recursive.is_some()) { "RECURSIVE " } else { "" };
            let _ = write!(out, "WITH {recursive}{} ", elements.join(", "));
        }
        out.push_str(&self.body.sql());
        if let Some(order) = &self.order {
            let keys: Vec<String> = order
                .iter()
                .enumerate()
                .map(|(at, down)| format!("{}{}", at + 1, if *down { " DESC" } else { "" }))
                .collect();
            let _ = write!(out, " ORDER BY {}", keys.join(", "));
        }
        if let Some((offset, fetch)) = self.window {
            let _ = write!(out, " OFFSET {offset} ROWS FETCH FIRST {fetch} ROWS ONLY");
        }
        out
    }
}

fn element(name: &str, query: &Query) -> String {
    let columns: Vec<String> = (0..query.width()).map(|at| format!("c{at}")).collect();
    let branch = match &query.recursive {
        Some((branch, all)) => format!(" UNION {}{}", if *all { "ALL " } else { "" }, branch.sql()),
        None => String::new(),
    };
    format!("{name} ({}) AS ({}{branch})", columns.join(", "), query.sql())
}

impl Body {
    pub(crate) fn width(&self) -> usize {
        match self {
            Self::Select(select) => select.items.len(),
            Self::Values(rows) => rows[0].len(),
            Self::Set(_, _, left, _) => left.width(),
        }
    }

    fn sql(&self) -> String {
        match self {
            Self::Select(select) => select.sql(),
            Self::Values(rows) => {
                let row =
                    |row: &Vec<Expr>| format!("({})", row.iter().map(|e| e.sql(&[])).collect::<Vec<_>>().join(", "));
                format!("VALUES {}", rows.iter().map(row).collect::<Vec<_>>().join(", "))
            }
            Self::Set(op, all, left, right) => {
                format!("({}) {op}{} ({})", left.sql(), if *all { " ALL" } else { "" }, right.sql())
            }
        }
    }
}

impl Select {
    fn sql(&self) -> String {
        let keys: &[Expr] = self.group.as_ref().map_or(&[], |group| &group.keys);
        let items: Vec<String> =
            self.items.iter().enumerate().map(|(at, item)| format!("{} AS c{at}", item.sql(keys))).collect();
        let mut out = format!("SELECT {}{}", if self.distinct { "DISTINCT " } else { "" }, items.join(", "));
        if !self.from.is_empty() {
            let _ = write!(out, " FROM {}", self.from.iter().map(From::sql).collect::<Vec<_>>().join(", "));
        }
        if let Some(condition) = &self.condition {
            let _ = write!(out, " WHERE {}", condition.sql(&[]));
        }
        if let Some(group) = &self.group {
            let text: Vec<String> = group.keys.iter().map(|key| key.sql(&[])).collect();
            match &group.sets {
                None if text.is_empty() => out.push_str(" GROUP BY ()"),
                None => {
                    let _ = write!(out, " GROUP BY {}", text.join(", "));
                }
                Some(sets) => {
                    let set = |set: &Vec<usize>| {
                        format!(
                            "({})",
                            set.iter().filter_map(|at| text.get(*at).cloned()).collect::<Vec<_>>().join(", ")
                        )
                    };
                    let sets: Vec<String> = sets.iter().map(set).collect();
                    let _ = write!(out, " GROUP BY GROUPING SETS ({})", sets.join(", "));
                }
            }
        }
        if let Some(having) = &self.having {
            let _ = write!(out, " HAVING {}", having.sql(keys));
        }
        out
    }
}

impl From {
    fn sql(&self) -> String {
        match self {
            Self::Table(name, alias) => format!("{name} AS {alias}"),
            Self::Derived(query, alias, lateral) => {
                let columns: Vec<String> = (0..query.width()).map(|at| format!("c{at}")).collect();
                let lateral = if *lateral { "LATERAL " } else { "" };
                format!("{lateral}({}) AS {alias} ({})", query.sql(), columns.join(", "))
            }
            Self::Series(from, to, alias) => format!("SERIES({}, {}) AS {alias} (c0)", from.sql(&[]), to.sql(&[])),
            Self::Join(kind, left, right, on) => {
                let on = on.as_ref().map_or_else(String::new, |on| format!(" ON {}", on.sql(&[])));
                format!("({} {kind} JOIN {}{on})", left.sql(), right.sql())
            }
        }
    }
}

fn list(exprs: &[Expr], keys: &[Expr]) -> String {
    exprs.iter().map(|expr| expr.sql(keys)).collect::<Vec<_>>().join(", ")
}

impl Aggregate {
    fn sql(&self, keys: &[Expr]) -> String {
        let argument = self.argument.as_ref().map_or_else(|| "*".to_owned(), |argument| argument.sql(keys));
        let distinct = if self.distinct { "DISTINCT " } else { "" };
        let filter =
            self.filter.as_ref().map_or_else(String::new, |filter| format!(" FILTER (WHERE {})", filter.sql(keys)));
        if self.function == "LISTAGG" {
            return format!("LISTAGG({distinct}{argument}, ',') WITHIN GROUP (ORDER BY {argument}){filter}");
        }
        format!("{}({distinct}{argument}){filter}", self.function)
    }
}

impl Window {
    fn sql(&self, keys: &[Expr]) -> String {
        let nulls = |ignore: bool| if ignore { " IGNORE NULLS" } else { "" };
        let call = match &self.function {
            WindowFunction::Rank(name) => format!("{name}()"),
            WindowFunction::Ntile(parts) => format!("NTILE({parts})"),
            WindowFunction::Shift(name, expr, by, ignore) => {
                format!("{name}({}, {by}){}", expr.sql(keys), nulls(*ignore))
            }
            WindowFunction::Edge(name, expr, ignore) => format!("{name}({}){}", expr.sql(keys), nulls(*ignore)),
            WindowFunction::Nth(expr, number, last) => {
                format!("NTH_VALUE({}, {number}){}", expr.sql(keys), if *last { " FROM LAST" } else { "" })
            }
            WindowFunction::Below(expr, marker, offset) => {
                let (value, sign) = (expr.sql(keys), if *offset < 0 { '-' } else { '+' });
                let offset = offset.abs();
                format!("COUNT(*) FILTER (WHERE ({value} < VALUE_OF({value} AT {marker} {sign} {offset})))")
            }
            WindowFunction::Aggregate(aggregate) => aggregate.sql(keys),
        };
        let mut parts = Vec::new();
        if !self.partition.is_empty() {
            parts.push(format!("PARTITION BY {}", list(&self.partition, keys)));
        }
        if !self.order.is_empty() {
            let key = |order: &Order| {
                let down = if order.descending { " DESC" } else { "" };
                format!("{}{down} NULLS {}", order.expr.sql(keys), if order.nulls_first { "FIRST" } else { "LAST" })
            };
            parts.push(format!("ORDER BY {}", self.order.iter().map(key).collect::<Vec<_>>().join(", ")));
        }
        if let Some(frame) = &self.frame {
            let bound = |bound: Bound| match bound {
                Bound::First => "UNBOUNDED PRECEDING".to_owned(),
                Bound::Before(far) => format!("{far} PRECEDING"),
                Bound::Current => "CURRENT ROW".to_owned(),
                Bound::After(far) => format!("{far} FOLLOWING"),
                Bound::Last => "UNBOUNDED FOLLOWING".to_owned(),
            };
            let exclude = if frame.exclude.is_empty() { String::new() } else { format!(" EXCLUDE {}", frame.exclude) };
            parts.push(format!("{} BETWEEN {} AND {}{exclude}", frame.unit, bound(frame.start), bound(frame.end)));
        }
        format!("{call} OVER ({})", parts.join(" "))
    }
}

impl Expr {
    /// The text; `keys` are those of the grouping around.
    pub(crate) fn sql(&self, keys: &[Expr]) -> String {
        let s = |expr: &Expr| expr.sql(keys);
        let not = |negated: bool| if negated { "NOT " } else { "" };
        match self {
            Self::Column(table, column) => format!("{table}.{column}"),
            Self::Key(at) => keys.get(*at).map_or_else(|| "no_key".into(), |key| key.sql(&[])),
            Self::Literal(cell, kind) => match (cell, kind) {
                (Cell::Null, Kind::Number) => "CAST(NULL AS INTEGER)".into(),
                (Cell::Null, Kind::Text) => "CAST(NULL AS VARCHAR(9))".into(),
                (Cell::Null, Kind::Truth) => "UNKNOWN".into(),
                (Cell::Null, Kind::Other) => format!("CAST(NULL AS {})", super::other::chosen().name),
                (Cell::Other(value), _) => super::other::chosen().literal(*value),
                (Cell::Number(_) | Cell::Text(_), _) if let Some(text) = super::other::parameter(cell) => text,
                (Cell::Truth(truth), _) => if *truth { "TRUE" } else { "FALSE" }.into(),
                (Cell::Number(number), _) => {
                    if *number < 0 {
                        format!("({number})")
                    } else {
                        number.to_string()
                    }
                }
                (Cell::Text(text), _) => format!("'{text}'"),
            },
            Self::Arithmetic(op, a, b) => format!("({} {op} {})", s(a), s(b)),
            Self::Concat(a, b) => format!("({} || {})", s(a), s(b)),
            Self::Compare(op, a, b) => format!("({} {op} {})", s(a), s(b)),
            Self::And(terms) => format!("({})", terms.iter().map(s).collect::<Vec<_>>().join(" AND ")),
            Self::Or(terms) => format!("({})", terms.iter().map(s).collect::<Vec<_>>().join(" OR ")),
            Self::Not(a) => format!("(NOT {})", s(a)),
            Self::Guarded(a, by_or) => format!("({} {} 1 / 0 = 1)", s(a), if *by_or { "OR" } else { "AND" }),
            Self::IsNull(a, negated) => format!("({} IS {}NULL)", s(a), not(*negated)),
            Self::Is(a, truth, negated) => {
                let truth = truth.map_or("UNKNOWN", |truth| if truth { "TRUE" } else { "FALSE" });
                format!("({} IS {}{truth})", s(a), not(*negated))
            }
            Self::Distinct(a, b, negated) => format!("({} IS {}DISTINCT FROM {})", s(a), not(*negated), s(b)),
            Self::Between(a, b, c) => format!("({} BETWEEN {} AND {})", s(a), s(b), s(c)),
            // One query in parentheses would be a table (clause 8.4, syntax rule 1), not a list of one value: it appears twice.
            Self::In(a, items, negated) if matches!(items.as_slice(), [Self::Scalar(_)]) => {
                format!("({} {}IN ({items}, {items}))", s(a), not(*negated), items = list(items, keys))
            }
            Self::In(a, items, negated) => format!("({} {}IN ({}))", s(a), not(*negated), list(items, keys)),
            Self::Case(branches, otherwise) => {
                let branch = |(when, then): &(Expr, Expr)| format!("WHEN {} THEN {}", s(when), s(then));
                let branches: Vec<String> = branches.iter().map(branch).collect();
                let otherwise = otherwise.as_ref().map_or_else(String::new, |expr| format!(" ELSE {}", s(expr)));
                format!("CASE {}{otherwise} END", branches.join(" "))
            }
            Self::Coalesce(terms) => format!("COALESCE({})", list(terms, keys)),
            Self::NullIf(a, b) => format!("NULLIF({}, {})", s(a), s(b)),
            Self::Function(name, args) => format!("{name}({})", list(args, keys)),
            Self::Scalar(query) => format!("({})", query.sql()),
            Self::Exists(query) => format!("EXISTS ({})", query.sql()),
            Self::InQuery(operands, query, negated) => match operands.as_slice() {
                [one] => format!("({} {}IN ({}))", s(one), not(*negated), query.sql()),
                several => format!("(({}) {}IN ({}))", list(several, keys), not(*negated), query.sql()),
            },
            Self::Quantified(op, all, a, query) => {
                format!("({} {op} {} ({}))", s(a), if *all { "ALL" } else { "ANY" }, query.sql())
            }
            Self::Aggregate(aggregate) => aggregate.sql(&[]),
            Self::Grouping(at) => format!("GROUPING({})", Self::Key(*at).sql(keys)),
            Self::Window(window) => window.sql(keys),
        }
    }
}
