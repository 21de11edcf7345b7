//! Draws queries from a seed. Names are chosen so that every column of a query has one meaning; windows and fetches only ask for what has
//! one answer: an order that leaves no ties, or functions for which ties do not matter.

use super::other::VALUES;
use super::tree::{
    Aggregate, Body, Bound, Cell, Expr, Frame, From, Group, Kind, Order, Query, Select, Window, WindowFunction,
};
use crate::random_queries::Draw;

/// A column that an expression can use.
#[derive(Clone, Debug)]
struct Known {
    table: String,
    column: String,
    kind: Kind,
}

/// Tables `x`, `y`, `z`: `k` is a key; `n` and `m` are numbers, `t` a text, `o` of the type at hand, with NULLs and ties.
pub(crate) const TABLES: [&str; 3] = ["x", "y", "z"];
pub(crate) const COLUMNS: [(&str, Kind); 5] =
    [("k", Kind::Number), ("n", Kind::Number), ("m", Kind::Number), ("t", Kind::Text), ("o", Kind::Other)];

pub(crate) struct Generator<'d> {
    draw: &'d mut Draw,
    aliases: usize,
    /// Queries of WITH that can be used, with the kinds of their columns.
    with: Vec<(String, Vec<Kind>)>,
    /// How much deeper queries may nest.
    depth: usize,
    /// SELECTs that may still be drawn with queries in them: a few huge plans would take most of the time.
    left: usize,
}

/// SELECTs of a query, at most, but for those at its leaves.
const MOST_SELECTS: usize = 5;

/// How deep queries may nest.
const MOST_NESTED: usize = 3;

const OPS: [&str; 6] = ["=", "<>", "<", "<=", ">", ">="];

impl<'d> Generator<'d> {
    pub(crate) fn new(draw: &'d mut Draw) -> Self {
        Self { draw, aliases: 0, with: Vec::new(), depth: MOST_NESTED, left: MOST_SELECTS }
    }

    fn below(&mut self, limit: usize) -> usize {
        self.draw.below(limit)
    }

    fn one_in(&mut self, count: usize) -> bool {
        self.below(count) == 0
    }

    fn alias(&mut self) -> String {
        self.aliases += 1;
        format!("a{}", self.aliases)
    }

    fn kind(&mut self) -> Kind {
        *self.draw.pick(&[Kind::Number, Kind::Number, Kind::Text, Kind::Truth, Kind::Other])
    }

    pub(crate) fn query(&mut self) -> Query {
        let kinds: Vec<Kind> = (0..1 + self.below(3)).map(|_| self.kind()).collect();
        self.query_of(&kinds, &[])
    }

    /// A query whose columns have these kinds; `outer` can be used in it.
    fn query_of(&mut self, kinds: &[Kind], outer: &[Known]) -> Query {
        let known = self.with.len();
        let mut with = Vec::new();
        if self.depth > 1 && self.one_in(4) {
            self.depth -= 1;
            for _ in 0..1 + self.below(2) {
                let own: Vec<Kind> = (0..1 + self.below(2)).map(|_| self.kind()).collect();
                let name = format!("w{}", self.alias());
                let query = if self.one_in(4) { self.recursive(&name, &own) } else { self.query_of(&own, &[]) };
                with.push((name.clone(), query));
                self.with.push((name, own));
            }
            self.depth += 1;
        }
        let body = self.body(kinds, outer);
        self.with.truncate(known);
        let (mut order, mut window) = (None, None);
        if self.one_in(4) {
            order = Some(kinds.iter().map(|_| self.draw.coin()).collect());
            if self.draw.coin() {
                window = Some((self.below(3), self.below(4)));
            }
        }
        Query { with, order, window, ..Query::of(body) }
    }

    /// A recursion that ends: numbers grow up to a bound, or rows are found once only.
    fn recursive(&mut self, name: &str, kinds: &[Kind]) -> Query {
        let anchor = self.body(kinds, &[]);
        let alias = self.alias();
        let rows = columns_of(&alias, kinds);
        let mut tables = vec![From::Table(name.to_owned(), alias)];
        let mut all = rows.clone();
        if self.draw.coin() {
            let (table, known) = self.table();
            tables.push(table);
            all.extend(known);
        }
        let depth = std::mem::replace(&mut self.depth, 0);
        let items = kinds.iter().map(|kind| self.from_few(*kind, &all)).collect();
        let condition = Some(self.expr(Kind::Truth, &all, 2));
        self.depth = depth;
        let (distinct, group, having) = (false, None, None);
        let branch = Select { distinct, items, from: tables, condition, group, having };
        Query { recursive: Some((Box::new(branch), false)), ..Query::of(anchor) }
    }

    /// An expression of few distinct values, so that a recursion comes to an end.
    fn from_few(&mut self, kind: Kind, known: &[Known]) -> Expr {
        let fitting: Vec<&Known> = known.iter().filter(|column| column.kind == kind).collect();
        if !fitting.is_empty() && self.below(4) > 0 {
            let column = fitting[self.below(fitting.len())];
            return Expr::Column(column.table.clone(), column.column.clone());
        }
        self.literal(kind)
    }

    fn body(&mut self, kinds: &[Kind], outer: &[Known]) -> Body {
        if self.depth > 0 && self.one_in(6) {
            self.depth -= 1;
            let op = *self.draw.pick(&["UNION", "INTERSECT", "EXCEPT"]);
            let all = self.draw.coin();
            let (left, right) = (self.body(kinds, outer), self.body(kinds, outer));
            self.depth += 1;
            return Body::Set(op, all, Box::new(left), Box::new(right));
        }
        if self.one_in(12) {
            let row = |this: &mut Self| kinds.iter().map(|kind| this.literal(*kind)).collect();
            return Body::Values((0..1 + self.below(4)).map(|_| row(self)).collect());
        }
        Body::Select(Box::new(self.select(kinds, outer)))
    }

    /// A table or a common table expression.
    fn table(&mut self) -> (From, Vec<Known>) {
        let alias = self.alias();
        if !self.with.is_empty() && self.draw.coin() {
            let (name, kinds) = self.with[self.draw.below(self.with.len())].clone();
            return (From::Table(name, alias.clone()), columns_of(&alias, &kinds));
        }
        let name = self.draw.word(&TABLES);
        let known =
            COLUMNS.iter().map(|(column, kind)| Known { table: alias.clone(), column: (*column).into(), kind: *kind });
        (From::Table(name.into(), alias.clone()), known.collect())
    }

    fn primary(&mut self, outer: &[Known], left: &[Known]) -> (From, Vec<Known>) {
        if self.depth > 0 && self.one_in(5) {
            self.depth -= 1;
            let kinds: Vec<Kind> = (0..1 + self.below(2)).map(|_| self.kind()).collect();
            let lateral = !left.is_empty() && self.draw.coin();
            let seen: Vec<Known> = if lateral { outer.iter().chain(left).cloned().collect() } else { outer.to_vec() };
            let query = self.query_of(&kinds, &seen);
            self.depth += 1;
            let alias = self.alias();
            let known = columns_of(&alias, &kinds);
            return (From::Derived(Box::new(query), alias, lateral), known);
        }
        if !left.is_empty() && self.depth > 0 && self.one_in(8) {
            return self.first_matches(outer, left);
        }
        if !left.is_empty() && self.one_in(12) {
            let alias = self.alias();
            let seen: Vec<Known> = outer.iter().chain(left).cloned().collect();
            let low = self.from_few(Kind::Number, &seen);
            let high = self.from_few(Kind::Number, &seen);
            let known = columns_of(&alias, &[Kind::Number]);
            return (From::Series(low, high, alias), known);
        }
        self.table()
    }

    fn from(&mut self, outer: &[Known], left: &[Known]) -> (From, Vec<Known>) {
        let (mut from, mut known) = self.primary(outer, left);
        while self.below(5) < 2 && known.len() < 12 {
            let kind = *self.draw.pick(&["INNER", "LEFT", "RIGHT", "FULL", "CROSS"]);
            let lateral: Vec<Known> = if matches!(kind, "RIGHT" | "FULL") {
                Vec::new()
            } else {
                left.iter().chain(&known).cloned().collect()
            };
            let (right, more) = self.primary(outer, &lateral);
            let both: Vec<Known> = known.iter().chain(&more).cloned().collect();
            let seen: Vec<Known> = outer.iter().chain(&both).cloned().collect();
            let on = (kind != "CROSS").then(|| self.join_condition(&known, &more, &seen));
            from = From::Join(kind, Box::new(from), Box::new(right), on);
            known = both;
        }
        (from, known)
    }

    /// An inequality of two columns, or two inequalities: a band, or periods that overlap; an equality may come with them.
    fn range_condition(&mut self, pairs: &[(&Known, &Known)]) -> Option<Expr> {
        let fit: Vec<&(&Known, &Known)> = pairs.iter().filter(|(a, _)| a.kind != Kind::Truth).collect();
        let column = |known: &Known| Box::new(Expr::Column(known.table.clone(), known.column.clone()));
        let mut terms = Vec::new();
        for op in [*self.draw.pick(&["<", "<="]), *self.draw.pick(&[">", ">="])].iter().take(1 + self.below(2)) {
            let (a, b) = *fit.get(self.below(fit.len().max(1)))?;
            terms.push(Expr::Compare(op, column(a), column(b)));
        }
        if self.one_in(3) {
            let (a, b) = pairs[self.below(pairs.len())];
            terms.push(Expr::Compare("=", column(a), column(b)));
        }
        Some(if terms.len() > 1 { Expr::And(terms) } else { terms.remove(0) })
    }

    /// The first rows of a table in an order, of those that match a row beside it.
    fn first_matches(&mut self, outer: &[Known], left: &[Known]) -> (From, Vec<Known>) {
        self.depth -= 1;
        let (table, known) = self.table();
        let kinds: Vec<Kind> = (0..1 + self.below(2)).map(|_| known[self.below(known.len())].kind).collect();
        let items = kinds.iter().map(|kind| self.from_few(*kind, &known)).collect();
        let seen: Vec<Known> = outer.iter().chain(left).chain(&known).cloned().collect();
        let condition = Some(self.join_condition(left, &known, &seen));
        let select = Select { distinct: false, items, from: vec![table], condition, group: None, having: None };
        let order = Some(kinds.iter().map(|_| self.draw.coin()).collect());
        let query = Query { order, window: Some((0, 1 + self.below(2))), ..Query::of(Body::Select(Box::new(select))) };
        self.depth += 1;
        let alias = self.alias();
        let known = columns_of(&alias, &kinds);
        (From::Derived(Box::new(query), alias, true), known)
    }

    /// Mostly an equality of two columns, alone or with more.
    fn join_condition(&mut self, left: &[Known], right: &[Known], all: &[Known]) -> Expr {
        let column = |known: &Known| Expr::Column(known.table.clone(), known.column.clone());
        let pairs: Vec<(&Known, &Known)> =
            left.iter().flat_map(|a| right.iter().filter(|b| b.kind == a.kind).map(move |b| (a, b))).collect();
        if pairs.is_empty() || self.one_in(4) {
            return self.expr(Kind::Truth, all, 2);
        }
        if self.one_in(4)
            && let Some(ranges) = self.range_condition(&pairs)
        {
            return ranges;
        }
        let (a, b) = pairs[self.below(pairs.len())];
        let equal = Expr::Compare("=", Box::new(column(a)), Box::new(column(b)));
        if self.one_in(3) { Expr::And(vec![equal, self.expr(Kind::Truth, all, 2)]) } else { equal }
    }

    fn select(&mut self, kinds: &[Kind], outer: &[Known]) -> Select {
        self.left = self.left.saturating_sub(1);
        let depth = if self.left == 0 { std::mem::take(&mut self.depth) } else { self.depth };
        let select = self.select_within(kinds, outer);
        self.depth = depth;
        select
    }

    fn select_within(&mut self, kinds: &[Kind], outer: &[Known]) -> Select {
        let mut from = Vec::new();
        let mut known: Vec<Known> = Vec::new();
        for _ in 0..if self.one_in(15) { 0 } else { 1 + usize::from(self.one_in(6)) } {
            let left = known.clone();
            let (table, more) = self.from(outer, &left);
            from.push(table);
            known.extend(more);
        }
        let all: Vec<Known> = outer.iter().chain(&known).cloned().collect();
        let mut condition = (self.below(3) > 0).then(|| self.expr(Kind::Truth, &all, 3));
        // A guarded constant stands by itself.
        let is_guarded = matches!(condition, Some(Expr::Guarded(..)));
        if !known.is_empty() && !is_guarded && self.one_in(12) {
            // What tells the rows without a match of an outer join.
            let column = &known[self.below(known.len())];
            let is_null = Expr::IsNull(Box::new(Expr::Column(column.table.clone(), column.column.clone())), false);
            condition = Some(condition.map_or(is_null.clone(), |term| Expr::And(vec![is_null, term])));
        }
        let distinct = self.one_in(6);
        if !known.is_empty() && self.one_in(3) {
            return self.grouped(kinds, (from, condition, distinct), &known);
        }
        let windows = !known.is_empty() && self.one_in(3);
        let items =
            kinds
                .iter()
                .map(|kind| {
                    if windows && self.draw.coin() {
                        self.window(*kind, &known, &all)
                    } else {
                        self.expr(*kind, &all, 3)
                    }
                })
                .collect();
        Select { distinct, items, from, condition, group: None, having: None }
    }

    fn grouped(
        &mut self,
        kinds: &[Kind],
        (from, condition, distinct): (Vec<From>, Option<Expr>, bool),
        known: &[Known],
    ) -> Select {
        // An aggregate of columns from outside alone would belong to the query around.
        let all = known;
        let mut keys: Vec<(Expr, Kind)> = Vec::new();
        for _ in 0..self.below(3) {
            let column = known[self.below(known.len())].clone();
            let expr = Expr::Column(column.table, column.column);
            if !keys.iter().any(|(key, _)| *key == expr) {
                keys.push((expr, column.kind));
            }
        }
        let sets = (!keys.is_empty() && self.one_in(3)).then(|| {
            let some = |this: &mut Self| (0..keys.len()).filter(|_| this.draw.coin()).collect::<Vec<usize>>();
            let more = (0..self.below(3)).map(|_| some(self)).collect::<Vec<_>>();
            // Every key appears in some set.
            std::iter::once((0..keys.len()).collect()).chain(more).collect()
        });
        let items = kinds.iter().map(|kind| self.over_groups(*kind, &keys, all, 2)).collect();
        let having = self.one_in(3).then(|| self.over_groups(Kind::Truth, &keys, all, 2));
        let has_keys = !keys.is_empty();
        let group = Group { keys: keys.into_iter().map(|(key, _)| key).collect(), sets };
        let group = (has_keys || self.one_in(4)).then_some(group);
        let items = if group.is_none() { kinds.iter().map(|kind| self.aggregate(*kind, all)).collect() } else { items };
        Select { distinct, items, from, condition, having: having.filter(|_| group.is_some()), group }
    }

    /// An expression over keys and aggregates.
    fn over_groups(&mut self, kind: Kind, keys: &[(Expr, Kind)], all: &[Known], depth: usize) -> Expr {
        let fitting: Vec<usize> = (0..keys.len()).filter(|at| keys[*at].1 == kind).collect();
        match self.below(5) {
            0 | 1 if !fitting.is_empty() => Expr::Key(fitting[self.below(fitting.len())]),
            2 if depth > 0 && kind == Kind::Number => {
                let (a, b) =
                    (self.over_groups(kind, keys, all, depth - 1), self.over_groups(kind, keys, all, depth - 1));
                Expr::Arithmetic(*self.draw.pick(&['+', '-']), Box::new(a), Box::new(b))
            }
            2 if depth > 0 && kind == Kind::Truth => {
                let (a, b) = (
                    self.over_groups(Kind::Number, keys, all, depth - 1),
                    self.over_groups(Kind::Number, keys, all, depth - 1),
                );
                Expr::Compare(self.draw.word(&OPS), Box::new(a), Box::new(b))
            }
            3 if kind == Kind::Number && !keys.is_empty() => Expr::Grouping(self.below(keys.len())),
            _ => self.aggregate(kind, all),
        }
    }

    fn aggregate(&mut self, kind: Kind, all: &[Known]) -> Expr {
        Expr::Aggregate(self.aggregate_call(kind, all, true))
    }

    fn aggregate_call(&mut self, kind: Kind, all: &[Known], filters: bool) -> Aggregate {
        let (function, argument) = match kind {
            Kind::Number => *self.draw.pick(&[
                ("COUNT", None),
                ("COUNT", Some(Kind::Text)),
                ("COUNT", Some(Kind::Other)),
                ("SUM", Some(Kind::Number)),
                ("MIN", Some(Kind::Number)),
                ("MAX", Some(Kind::Number)),
            ]),
            Kind::Text => {
                *self.draw.pick(&[("MIN", Some(Kind::Text)), ("MAX", Some(Kind::Text)), ("LISTAGG", Some(Kind::Text))])
            }
            Kind::Truth => *self.draw.pick(&[("EVERY", Some(Kind::Truth)), ("ANY", Some(Kind::Truth))]),
            Kind::Other => *self.draw.pick(&[("MIN", Some(Kind::Other)), ("MAX", Some(Kind::Other))]),
        };
        let argument = argument.map(|kind| Box::new(self.expr(kind, all, 1)));
        let distinct = argument.is_some() && matches!(function, "COUNT" | "SUM" | "LISTAGG") && self.one_in(4);
        let filter = (filters && self.one_in(5)).then(|| Box::new(self.expr(Kind::Truth, all, 1)));
        Aggregate { function, argument, distinct, filter }
    }

    fn window(&mut self, kind: Kind, known: &[Known], all: &[Known]) -> Expr {
        let column = |this: &mut Self| {
            let column = &known[this.draw.below(known.len())];
            Expr::Column(column.table.clone(), column.column.clone())
        };
        let partition = if self.draw.coin() { vec![column(self)] } else { Vec::new() };
        let mut order = Vec::new();
        let numbers: Vec<&Known> = known.iter().filter(|column| column.kind == Kind::Number).collect();
        if !numbers.is_empty() && self.below(4) > 0 {
            let column = numbers[self.below(numbers.len())];
            let expr = Expr::Column(column.table.clone(), column.column.clone());
            order.push(Order { expr, descending: self.draw.coin(), nulls_first: self.draw.coin() });
        }
        let frame = if order.is_empty() || self.one_in(3) { None } else { Some(self.frame()) };
        let by_rows = frame.as_ref().is_some_and(|frame| frame.unit == "ROWS");
        // What depends on the place of a row among its peers needs an order without ties: by every column there is.
        let total = |order: &mut Vec<Order>| {
            for column in known {
                let expr = Expr::Column(column.table.clone(), column.column.clone());
                order.push(Order { expr, descending: false, nulls_first: false });
            }
        };
        let function = match (self.below(4), kind) {
            (0, Kind::Number) => {
                let name = *self.draw.pick(&["RANK", "DENSE_RANK", "ROW_NUMBER", "NTILE"]);
                if matches!(name, "ROW_NUMBER" | "NTILE") || order.is_empty() {
                    total(&mut order);
                }
                let function = if name == "NTILE" {
                    WindowFunction::Ntile(1 + i64::try_from(self.below(3)).unwrap())
                } else {
                    WindowFunction::Rank(name)
                };
                return Expr::Window(Box::new(Window { function, partition, order, frame: None }));
            }
            (1, _) => {
                total(&mut order);
                let by = i64::try_from(self.below(3)).unwrap();
                let name = *self.draw.pick(&["LEAD", "LAG"]);
                let function = WindowFunction::Shift(name, self.expr(kind, all, 1), by, self.draw.coin());
                return Expr::Window(Box::new(Window { function, partition, order, frame: None }));
            }
            (2, _) if frame.as_ref().is_none_or(|frame| frame.unit != "RANGE" || order.len() != 1) || by_rows => {
                total(&mut order);
                match self.below(3) {
                    0 => WindowFunction::Nth(
                        self.expr(kind, all, 1),
                        1 + i64::try_from(self.below(2)).unwrap(),
                        self.draw.coin(),
                    ),
                    1 => WindowFunction::Edge("FIRST_VALUE", self.expr(kind, all, 1), self.draw.coin()),
                    _ => WindowFunction::Edge("LAST_VALUE", self.expr(kind, all, 1), self.draw.coin()),
                }
            }
            (3, Kind::Number) if self.one_in(3) => {
                total(&mut order);
                let markers = [
                    "BEGIN_PARTITION",
                    "BEGIN_FRAME",
                    "CURRENT_ROW",
                    "CURRENT_ROW",
                    "FRAME_ROW",
                    "END_FRAME",
                    "END_PARTITION",
                ];
                let offset = i64::try_from(self.below(4)).unwrap() - 1;
                WindowFunction::Below(self.expr(kind, all, 1), markers[self.below(markers.len())], offset)
            }
            _ => {
                if by_rows {
                    total(&mut order);
                }
                WindowFunction::Aggregate(self.aggregate_call(kind, all, true))
            }
        };
        // A distance of RANGE goes with one key.
        let frame = frame.filter(|frame| frame.unit != "RANGE" || order.len() == 1);
        Expr::Window(Box::new(Window { function, partition, order, frame }))
    }

    fn frame(&mut self) -> Frame {
        let unit = *self.draw.pick(&["ROWS", "RANGE", "GROUPS"]);
        let far = i64::try_from(self.below(3)).unwrap();
        let (start, end) = *self.draw.pick(&[
            (Bound::First, Bound::Current),
            (Bound::Before(far), Bound::Current),
            (Bound::Before(far), Bound::After(1)),
            (Bound::Current, Bound::After(far)),
            (Bound::Current, Bound::Last),
            (Bound::Before(2), Bound::Before(far)),
            (Bound::After(far), Bound::After(2)),
            (Bound::First, Bound::Last),
        ]);
        let exclude = *self.draw.pick(&["", "", "CURRENT ROW", "GROUP", "TIES"]);
        Frame { unit, start, end, exclude }
    }

    fn literal(&mut self, kind: Kind) -> Expr {
        if self.one_in(6) {
            return Expr::Literal(Cell::Null, kind);
        }
        let cell = match kind {
            Kind::Number => Cell::Number(i64::try_from(self.below(5)).unwrap() - 1),
            Kind::Text => Cell::Text((*self.draw.pick(&["", "a", "b", "ab"])).into()),
            Kind::Truth => Cell::Truth(self.draw.coin()),
            Kind::Other => Cell::Other(self.below(VALUES)),
        };
        Expr::Literal(cell, kind)
    }

    fn expr(&mut self, kind: Kind, known: &[Known], depth: usize) -> Expr {
        let fitting: Vec<&Known> = known.iter().filter(|column| column.kind == kind).collect();
        if depth == 0 || (kind != Kind::Truth && self.draw.coin()) {
            if fitting.is_empty() || self.one_in(4) {
                return self.literal(kind);
            }
            let column = fitting[self.below(fitting.len())];
            return Expr::Column(column.table.clone(), column.column.clone());
        }
        if self.depth > 0 && self.one_in(6) {
            return self.subquery(kind, known, depth);
        }
        let e = |this: &mut Self, kind| Box::new(this.expr(kind, known, depth - 1));
        match (kind, self.below(7)) {
            (_, 0) => {
                let branches = (0..1 + self.below(2)).map(|_| (*e(self, Kind::Truth), *e(self, kind))).collect();
                let otherwise = self.draw.coin().then(|| e(self, kind));
                Expr::Case(branches, otherwise)
            }
            (Kind::Number | Kind::Text | Kind::Other, 1) => Expr::Coalesce(vec![*e(self, kind), *e(self, kind)]),
            (Kind::Number | Kind::Text | Kind::Other, 2) => Expr::NullIf(e(self, kind), e(self, kind)),
            (Kind::Number | Kind::Text, 3) | (Kind::Other, _) => {
                Expr::Function(*self.draw.pick(&["GREATEST", "LEAST"]), vec![*e(self, kind), *e(self, kind)])
            }
            (Kind::Number, 4) => Expr::Function("ABS", vec![*e(self, Kind::Number)]),
            (Kind::Number, 5) => Expr::Function("CHAR_LENGTH", vec![*e(self, Kind::Text)]),
            (Kind::Number, _) => {
                Expr::Arithmetic(*self.draw.pick(&['+', '-', '*']), e(self, Kind::Number), e(self, Kind::Number))
            }
            (Kind::Text, 4) => Expr::Function("UPPER", vec![*e(self, Kind::Text)]),
            (Kind::Text, _) => Expr::Concat(e(self, Kind::Text), e(self, Kind::Text)),
            // Which queries inside others are evaluated, and when, is left open.
            (Kind::Truth, 1) if self.depth == MOST_NESTED && self.one_in(3) => {
                let queries = std::mem::take(&mut self.depth);
                let guard = e(self, Kind::Truth);
                self.depth = queries;
                Expr::Guarded(guard, self.draw.coin())
            }
            (Kind::Truth, 1) => {
                let terms = (0..2 + self.below(2)).map(|_| *e(self, Kind::Truth)).collect();
                if self.draw.coin() { Expr::And(terms) } else { Expr::Or(terms) }
            }
            (Kind::Truth, 2) => Expr::Not(e(self, Kind::Truth)),
            (Kind::Truth, 3) => {
                let of = self.kind();
                if self.draw.coin() {
                    Expr::IsNull(e(self, of), self.draw.coin())
                } else {
                    Expr::Is(e(self, Kind::Truth), *self.draw.pick(&[None, Some(true), Some(false)]), self.draw.coin())
                }
            }
            (Kind::Truth, 4) => {
                let of = *self.draw.pick(&[Kind::Number, Kind::Text, Kind::Other]);
                if self.draw.coin() {
                    Expr::Distinct(e(self, of), e(self, of), self.draw.coin())
                } else {
                    let items = (0..1 + self.below(6)).map(|_| *e(self, of)).collect();
                    Expr::In(e(self, of), items, self.draw.coin())
                }
            }
            (Kind::Truth, 5) => {
                let of = *self.draw.pick(&[Kind::Number, Kind::Other]);
                Expr::Between(e(self, of), e(self, of), e(self, of))
            }
            (Kind::Truth, _) => {
                let of = *self.draw.pick(&[Kind::Number, Kind::Text, Kind::Other]);
                Expr::Compare(self.draw.word(&OPS), e(self, of), e(self, of))
            }
        }
    }

    fn subquery(&mut self, kind: Kind, known: &[Known], depth: usize) -> Expr {
        self.depth -= 1;
        let result = match (kind, self.below(4)) {
            (Kind::Truth, 0) => Expr::Exists(Box::new(self.query_of(&[Kind::Number], known))),
            (Kind::Truth, 1 | 2) => {
                let kinds: Vec<Kind> = (0..1 + usize::from(self.one_in(4)))
                    .map(|_| *self.draw.pick(&[Kind::Number, Kind::Text, Kind::Other]))
                    .collect();
                let operands = kinds.iter().map(|kind| self.expr(*kind, known, depth - 1)).collect();
                Expr::InQuery(operands, Box::new(self.query_of(&kinds, known)), self.draw.coin())
            }
            (Kind::Truth, _) => {
                let of = *self.draw.pick(&[Kind::Number, Kind::Text, Kind::Other]);
                let operand = Box::new(self.expr(of, known, depth - 1));
                Expr::Quantified(self.draw.word(&OPS), self.draw.coin(), operand, Box::new(self.query_of(&[of], known)))
            }
            _ => Expr::Scalar(Box::new(self.single(kind, known))),
        };
        self.depth += 1;
        result
    }

    /// A query that mostly has one row: an aggregate, or the first row.
    fn single(&mut self, kind: Kind, outer: &[Known]) -> Query {
        if self.one_in(3) {
            let mut query = self.query_of(&[kind], outer);
            query.order = Some(vec![self.draw.coin()]);
            query.window = Some((self.below(2), 1));
            return query;
        }
        if self.one_in(8) {
            return self.query_of(&[kind], outer);
        }
        let (from, known) = self.from(outer, &[]);
        let all: Vec<Known> = outer.iter().chain(&known).cloned().collect();
        let condition = (self.below(3) > 0).then(|| self.expr(Kind::Truth, &all, 2));
        // The aggregate belongs to this query: it has a column of its own.
        let own = self.aggregate_call(kind, &known, true);
        let items = vec![Expr::Aggregate(own)];
        let select = Select { distinct: false, items, from: vec![from], condition, group: None, having: None };
        Query::of(Body::Select(Box::new(select)))
    }
}

fn columns_of(alias: &str, kinds: &[Kind]) -> Vec<Known> {
    let column = |(at, kind): (usize, &Kind)| Known { table: alias.to_owned(), column: format!("c{at}"), kind: *kind };
    kinds.iter().enumerate().map(column).collect()
}
