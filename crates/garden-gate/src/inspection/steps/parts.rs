//! The parts of a query, found in its syntax tree.

use super::StepPart;
use super::around::{all_of, beside_outer, groups_of, rows_of_from, with_names};
use crate::diagnostic::Span;
use crate::syntax::ast::{
    Expr, ExprKind, Ident, JoinCondition, Query, QueryBody, Select, SelectItem, SetOp, TableExpr, With, WithElement,
};

/// A part of a query, and queries by which it can be run.
pub(super) struct QueryPart {
    pub(super) name: String,
    pub(super) part: StepPart,
    pub(super) span: Span,
    pub(super) query: Query,
    /// Run instead of `query` when that uses columns of the query around it.
    pub(super) around: Option<Query>,
    /// Whether it is a recursion, whose rounds are of interest.
    pub(super) recursive: bool,
}

/// All parts, each after those inside it, and the query last.
pub(super) fn parts_of(query: &Query, clauses: bool) -> Vec<QueryPart> {
    let mut finder = Finder { clauses, visible: Vec::new(), outer: Vec::new(), path: Vec::new(), found: Vec::new() };
    finder.query(query);
    let part = StepPart::Result;
    let (query, span) = (query.clone(), query.span);
    finder.found.push(QueryPart { name: "result".into(), part, span, query, around: None, recursive: false });
    finder.found
}

struct Finder<'a> {
    clauses: bool,
    /// The names that WITH has given so far, the outermost first.
    visible: Vec<With>,
    /// The queries around, the innermost last.
    outer: Vec<&'a Select>,
    path: Vec<String>,
    found: Vec<QueryPart>,
}

impl<'a> Finder<'a> {
    fn query(&mut self, query: &'a Query) {
        if let Some(with) = &query.with {
            self.visible.push(With { recursive: with.recursive, elements: Vec::new() });
            for element in &with.elements {
                self.element(with, element);
            }
            // All of them may be used from here on.
            if let Some(visible) = self.visible.last_mut() {
                visible.elements.clone_from(&with.elements);
            }
        }
        self.body(&query.body);
        for item in &query.order_by {
            self.expr(&item.expr);
        }
        if query.with.is_some() {
            self.visible.pop();
        }
    }

    fn element(&mut self, with: &'a With, element: &'a WithElement) {
        self.path.push(element.name.text.clone());
        let recursive = with.recursive && uses(&element.query, &element.name);
        if recursive {
            // Its branches cannot be run separately; its rounds are.
            let last = self.visible.len() - 1;
            let before = std::mem::replace(&mut self.visible[last], with.clone());
            let query = with_names(&self.visible, all_of(&element.name));
            self.add(StepPart::With, element.query.span, query, (None, true));
            self.visible[last] = before;
        } else {
            self.query(&element.query);
            self.part(StepPart::With, &element.query);
        }
        self.path.pop();
        if let Some(visible) = self.visible.last_mut() {
            visible.elements.push(element.clone());
        }
    }

    /// A part that is a query; what appears inside it has been found.
    fn part(&mut self, part: StepPart, query: &Query) {
        let used = self.outer.last().map_or_else(Vec::new, |outer| outer_names(query, outer));
        let around = self.outer.last().and_then(|outer| beside_outer(outer, query, &used));
        let around = around.map(|around| with_names(&self.visible, around));
        self.add(part, query.span, with_names(&self.visible, query.clone()), (around, false));
    }

    fn add(&mut self, part: StepPart, span: Span, query: Query, (around, recursive): (Option<Query>, bool)) {
        self.found.push(QueryPart { name: self.path.join("."), part, span, query, around, recursive });
    }

    fn body(&mut self, body: &'a QueryBody) {
        match body {
            QueryBody::Select(select) => self.select(select),
            QueryBody::Values(rows) => rows.iter().flatten().for_each(|expr| self.expr(expr)),
            QueryBody::Table(..) => {}
            QueryBody::Nested(query) => self.query(query),
            QueryBody::SetOperation(operation) => {
                let word = match operation.op {
                    SetOp::Union => "UNION",
                    SetOp::Intersect => "INTERSECT",
                    SetOp::Except => "EXCEPT",
                };
                for (number, operand) in operation.operands.iter().enumerate() {
                    self.path.push(format!("{word} {}", number + 1));
                    self.body(operand);
                    let span = span_of(operand).unwrap_or(operation.span);
                    self.part(StepPart::Operand, &Query::plain(operand.clone(), span));
                    self.path.pop();
                }
            }
        }
    }

    fn select(&mut self, select: &'a Select) {
        for table in &select.from {
            self.table(table, select);
        }
        self.outer.push(select);
        for item in &select.items {
            if let SelectItem::Expr { expr, .. } = item {
                self.expr(expr);
            }
        }
        select.where_.iter().chain(&select.having).for_each(|expr| self.expr(expr));
        self.outer.pop();
        if self.clauses {
            self.clauses_of(select);
        }
    }

    fn clauses_of(&mut self, select: &Select) {
        if !select.from.is_empty() && (select.where_.is_some() || select.group_by.is_some()) {
            self.clause("FROM", StepPart::From, select.from_span, rows_of_from(select, false));
        }
        if let Some(where_) = &select.where_ {
            self.clause("WHERE", StepPart::Where, where_.span, rows_of_from(select, true));
        }
        if select.group_by.is_some() {
            self.clause("GROUP BY", StepPart::Group, select.from_span, groups_of(select, false));
        }
        if let Some(having) = &select.having {
            self.clause("HAVING", StepPart::Having, having.span, groups_of(select, true));
        }
    }

    fn clause(&mut self, name: &str, part: StepPart, span: Span, query: Query) {
        self.path.push(name.into());
        self.add(part, span, with_names(&self.visible, query), (None, false));
        self.path.pop();
    }

    fn table(&mut self, table: &'a TableExpr, select: &'a Select) {
        match table {
            TableExpr::Derived { query, lateral, alias } => {
                let number = 1 + self.found.iter().filter(|part| part.part == StepPart::Derived).count();
                let name = alias.name.as_ref().map_or_else(|| format!("derived {number}"), |name| name.text.clone());
                self.path.push(name);
                self.query(query);
                if *lateral {
                    self.lateral(query, select);
                } else {
                    self.part(StepPart::Derived, query);
                }
                self.path.pop();
            }
            TableExpr::Join(join) => {
                self.table(&join.left, select);
                self.table(&join.right, select);
                if let JoinCondition::On(condition) = &join.condition {
                    self.outer.push(select);
                    self.expr(condition);
                    self.outer.pop();
                }
            }
            TableExpr::Sampled(sampled) => self.table(&sampled.0, select),
            TableExpr::Named { .. }
            | TableExpr::File { .. }
            | TableExpr::Function { .. }
            | TableExpr::Call { .. }
            | TableExpr::Changes(_)
            | TableExpr::Delta(_) => {}
        }
    }

    /// A query in FROM that may use what appears to its left.
    fn lateral(&mut self, query: &Query, select: &Select) {
        let before = |table: &&TableExpr| !holds(table, query.span);
        let left = Select { from: select.from.iter().take_while(before).cloned().collect(), ..select.clone() };
        let used = outer_names(query, &left);
        let around = beside_outer(&left, query, &used).map(|around| with_names(&self.visible, around));
        self.add(StepPart::Derived, query.span, with_names(&self.visible, query.clone()), (around, false));
    }

    fn expr(&mut self, expr: &'a Expr) {
        if let Some(query) = expr.query() {
            let number = 1 + self.found.iter().filter(|part| part.part == StepPart::Subquery).count();
            self.path.push(format!("subquery {number}"));
            self.query(query);
            self.part(StepPart::Subquery, query);
            self.path.pop();
        }
        let mut children = Vec::new();
        expr.for_each_child(&mut |child| children.push(child));
        children.into_iter().for_each(|child| self.expr(child));
    }
}

/// Whether a query names this table anywhere.
fn uses(query: &Query, name: &Ident) -> bool {
    let mut found = false;
    query.for_each_table(&mut |table| found |= matches!(table, [only] if name.matches(&only.text)));
    found
}

/// The qualified names in a query that mean a table in FROM of the query around it.
fn outer_names(query: &Query, outer: &Select) -> Vec<Vec<Ident>> {
    let mut tables = Vec::new();
    outer.from.iter().for_each(|table| correlation_names(table, &mut tables));
    let mut found: Vec<Vec<Ident>> = Vec::new();
    query.for_each_expr(&mut |expr| {
        if let ExprKind::Name(name) = &expr.kind
            && let [table, column] = name.as_slice()
            && tables.iter().any(|known| table.matches(&known.text))
            && !found.iter().any(|known| known[0].matches(&table.text) && known[1].matches(&column.text))
        {
            found.push(name.clone());
        }
    });
    found
}

fn correlation_names(table: &TableExpr, names: &mut Vec<Ident>) {
    match table {
        TableExpr::Named { name, alias, .. } => names.extend(alias.name.as_ref().or(name.last()).cloned()),
        TableExpr::File { alias, .. }
        | TableExpr::Derived { alias, .. }
        | TableExpr::Function { alias, .. }
        | TableExpr::Call { alias, .. } => names.extend(alias.name.clone()),
        TableExpr::Changes(changes) => names.extend(changes.alias.name.as_ref().or(changes.table.last()).cloned()),
        TableExpr::Delta(delta) => names.extend(delta.alias.name.clone()),
        TableExpr::Sampled(sampled) => correlation_names(&sampled.0, names),
        TableExpr::Join(join) => {
            correlation_names(&join.left, names);
            correlation_names(&join.right, names);
        }
    }
}

/// Whether the query at this place appears in a table of FROM.
fn holds(table: &TableExpr, place: Span) -> bool {
    match table {
        TableExpr::Derived { query, .. } => query.span.range() == place.range(),
        TableExpr::Join(join) => holds(&join.left, place) || holds(&join.right, place),
        TableExpr::Sampled(sampled) => holds(&sampled.0, place),
        _ => false,
    }
}

/// Where a body appears, as far as its parts tell.
fn span_of(body: &QueryBody) -> Option<Span> {
    match body {
        QueryBody::Select(select) => Some(select.span),
        QueryBody::Values(rows) => {
            let (first, last) = (rows.first()?.first()?, rows.last()?.last()?);
            Some(first.span.to(last.span))
        }
        QueryBody::Table(_, span) => Some(*span),
        QueryBody::Nested(query) => Some(query.span),
        QueryBody::SetOperation(operation) => {
            let (first, last) = (operation.operands.first()?, operation.operands.last()?);
            Some(span_of(first)?.to(span_of(last)?))
        }
    }
}
