//! Makes a failing query small: parts are taken away as long as it still fails in the same way.

use super::tree::{Aggregate, Body, Cell, Expr, From, Kind, Query, Select, Window, WindowFunction};

/// Every part of an expression that belongs to the same query, parents first.
pub(crate) fn walk<'e>(expr: &'e Expr, visit: &mut impl FnMut(&'e Expr)) {
    visit(expr);
    for child in children(expr) {
        walk(child, visit);
    }
}

fn aggregate_parts(aggregate: &Aggregate) -> Vec<&Expr> {
    aggregate.argument.iter().chain(&aggregate.filter).map(AsRef::as_ref).collect()
}

fn window_parts(window: &Window) -> Vec<&Expr> {
    let mut parts: Vec<&Expr> = window.partition.iter().chain(window.order.iter().map(|order| &order.expr)).collect();
    match &window.function {
        WindowFunction::Shift(_, expr, ..)
        | WindowFunction::Edge(_, expr, _)
        | WindowFunction::Nth(expr, ..)
        | WindowFunction::Below(expr, ..) => {
            parts.push(expr);
        }
        WindowFunction::Aggregate(aggregate) => parts.extend(aggregate_parts(aggregate)),
        WindowFunction::Rank(_) | WindowFunction::Ntile(_) => {}
    }
    parts
}

fn children(expr: &Expr) -> Vec<&Expr> {
    match expr {
        Expr::Column(..) | Expr::Key(_) | Expr::Literal(..) | Expr::Grouping(_) | Expr::Scalar(_) | Expr::Exists(_) => {
            Vec::new()
        }
        Expr::Arithmetic(_, a, b)
        | Expr::Concat(a, b)
        | Expr::Compare(_, a, b)
        | Expr::Distinct(a, b, _)
        | Expr::NullIf(a, b) => vec![a, b],
        Expr::And(terms) | Expr::Or(terms) | Expr::Coalesce(terms) | Expr::Function(_, terms) => terms.iter().collect(),
        Expr::InQuery(terms, _, _) => terms.iter().collect(),
        Expr::Not(a) | Expr::Guarded(a, _) | Expr::IsNull(a, _) | Expr::Is(a, ..) | Expr::Quantified(_, _, a, _) => {
            vec![a]
        }
        Expr::Between(a, b, c) => vec![a, b, c],
        Expr::In(a, items, _) => std::iter::once(a.as_ref()).chain(items).collect(),
        Expr::Case(branches, otherwise) => {
            branches.iter().flat_map(|(when, then)| [when, then]).chain(otherwise.as_deref()).collect()
        }
        Expr::Aggregate(aggregate) => aggregate_parts(aggregate),
        Expr::Window(window) => window_parts(window),
    }
}

/// Every query that lies one step below: with a part taken away, or an expression made simpler.
pub(crate) fn smaller(query: &Query) -> Vec<Query> {
    let mut all = Vec::new();
    for at in 0..query.with.len() {
        let mut next = query.clone();
        next.with.remove(at);
        all.push(next);
        for with in smaller(&query.with[at].1) {
            if with.width() == query.with[at].1.width() {
                let mut next = query.clone();
                next.with[at].1 = with;
                all.push(next);
            }
        }
    }
    if query.order.is_some() || query.window.is_some() {
        all.push(Query { window: None, ..query.clone() });
        all.push(Query { order: None, window: None, ..query.clone() });
    }
    if query.recursive.is_some() {
        all.push(Query { recursive: None, ..query.clone() });
    }
    for body in smaller_bodies(&query.body) {
        let order = query.order.clone().map(|order| order.into_iter().take(body.width()).collect());
        all.push(Query { body, order, ..query.clone() });
    }
    all
}

fn smaller_bodies(body: &Body) -> Vec<Body> {
    match body {
        Body::Set(op, keep, left, right) => {
            let mut all = vec![left.as_ref().clone(), right.as_ref().clone()];
            let width = left.width();
            for next in smaller_bodies(left).into_iter().filter(|next| next.width() == width) {
                all.push(Body::Set(op, *keep, Box::new(next), right.clone()));
            }
            for next in smaller_bodies(right).into_iter().filter(|next| next.width() == width) {
                all.push(Body::Set(op, *keep, left.clone(), Box::new(next)));
            }
            all
        }
        Body::Values(rows) => {
            let without = |at: usize| {
                let mut rows = rows.clone();
                rows.remove(at);
                Body::Values(rows)
            };
            if rows.len() > 1 { (0..rows.len()).map(without).collect() } else { Vec::new() }
        }
        Body::Select(select) => {
            smaller_selects(select).into_iter().map(|select| Body::Select(Box::new(select))).collect()
        }
    }
}

fn smaller_selects(select: &Select) -> Vec<Select> {
    let mut all = Vec::new();
    let mut push = |change: &dyn Fn(&mut Select)| {
        let mut next = select.clone();
        change(&mut next);
        if next != *select {
            all.push(next);
        }
    };
    push(&|next| next.condition = None);
    push(&|next| next.having = None);
    push(&|next| next.distinct = false);
    push(&|next| next.group = None);
    for at in 0..select.from.len() {
        push(&|next| drop(next.from.remove(at)));
        for from in smaller_froms(&select.from[at]) {
            push(&|next| next.from[at] = from.clone());
        }
    }
    if select.items.len() > 1 {
        for at in 0..select.items.len() {
            push(&|next| drop(next.items.remove(at)));
        }
    }
    for at in 0..select.items.len() {
        for expr in smaller_exprs(&select.items[at]) {
            push(&|next| next.items[at] = expr.clone());
        }
    }
    for expr in select.condition.iter().flat_map(smaller_exprs) {
        push(&|next| next.condition = Some(expr.clone()));
    }
    for expr in select.having.iter().flat_map(smaller_exprs) {
        push(&|next| next.having = Some(expr.clone()));
    }
    if let Some(group) = &select.group {
        push(&|next| next.group.as_mut().unwrap().sets = None);
        for at in 0..group.sets.as_ref().map_or(0, Vec::len) {
            push(&|next| drop(next.group.as_mut().unwrap().sets.as_mut().unwrap().remove(at)));
        }
    }
    all
}

fn smaller_froms(from: &From) -> Vec<From> {
    match from {
        From::Table(..) | From::Series(..) => Vec::new(),
        From::Derived(query, alias, lateral) => smaller(query)
            .into_iter()
            .filter(|next| next.width() == query.width())
            .map(|next| From::Derived(Box::new(next), alias.clone(), *lateral))
            .collect(),
        From::Join(kind, a, b, on) => {
            let mut all = vec![a.as_ref().clone(), b.as_ref().clone()];
            for next in smaller_froms(a) {
                all.push(From::Join(kind, Box::new(next), b.clone(), on.clone()));
            }
            for next in smaller_froms(b) {
                all.push(From::Join(kind, a.clone(), Box::new(next), on.clone()));
            }
            for next in on.iter().flat_map(smaller_exprs) {
                all.push(From::Join(kind, a.clone(), b.clone(), Some(next)));
            }
            all
        }
    }
}

/// The kind of value an expression has, as far as its form tells.
fn kind(expr: &Expr) -> Option<Kind> {
    Some(match expr {
        Expr::Literal(_, kind) => *kind,
        Expr::Arithmetic(..) | Expr::Grouping(_) | Expr::Function("ABS" | "CHAR_LENGTH", _) => Kind::Number,
        Expr::Concat(..) | Expr::Function("UPPER", _) => Kind::Text,
        Expr::Case(branches, _) => kind(&branches[0].1)?,
        Expr::Coalesce(terms) | Expr::Function(_, terms) => kind(&terms[0])?,
        Expr::NullIf(a, _) => kind(a)?,
        Expr::Column(_, column) => match column.as_bytes()[0] {
            b't' => Kind::Text,
            b'o' => Kind::Other,
            b'c' => return None,
            _ => Kind::Number,
        },
        Expr::Key(_) | Expr::Scalar(_) | Expr::Aggregate(_) | Expr::Window(_) => return None,
        _ => Kind::Truth,
    })
}

fn smaller_exprs(expr: &Expr) -> Vec<Expr> {
    let mut all = Vec::new();
    if matches!(expr, Expr::Literal(..)) {
        return all;
    }
    let own = kind(expr);
    if let Some(own) = own {
        let one = match own {
            Kind::Number => Cell::Number(1),
            Kind::Text => Cell::Text("a".into()),
            Kind::Truth => Cell::Truth(true),
            Kind::Other => Cell::Other(1),
        };
        all.push(Expr::Literal(one, own));
        all.push(Expr::Literal(Cell::Null, own));
    }
    // A part instead of the whole, where it has the same kind.
    all.extend(children(expr).into_iter().filter(|child| kind(child) == own).cloned());
    if let Expr::And(terms) | Expr::Or(terms) = expr {
        for at in 0..terms.len() {
            let mut left = terms.clone();
            left.remove(at);
            if left.len() > 1 {
                all.push(if matches!(expr, Expr::And(_)) { Expr::And(left) } else { Expr::Or(left) });
            }
        }
    }
    // Each child made simpler in place.
    let count = children(expr).len();
    for at in 0..count {
        for next in smaller_exprs(children(expr)[at]) {
            let mut copy = expr.clone();
            if replace(&mut copy, at, next) {
                all.push(copy);
            }
        }
    }
    let inside: Option<&Query> = match expr {
        Expr::Scalar(query) | Expr::Exists(query) | Expr::InQuery(_, query, _) | Expr::Quantified(_, _, _, query) => {
            Some(query)
        }
        _ => None,
    };
    if let Some(query) = inside {
        for next in smaller(query).into_iter().filter(|next| next.width() == query.width()) {
            let mut copy = expr.clone();
            if let Expr::Scalar(query)
            | Expr::Exists(query)
            | Expr::InQuery(_, query, _)
            | Expr::Quantified(_, _, _, query) = &mut copy
            {
                **query = next;
            }
            all.push(copy);
        }
    }
    all
}

/// Puts another expression in the place of the child with this number.
fn replace(expr: &mut Expr, at: usize, next: Expr) -> bool {
    let slot: Option<&mut Expr> = match expr {
        Expr::Arithmetic(_, a, b)
        | Expr::Concat(a, b)
        | Expr::Compare(_, a, b)
        | Expr::Distinct(a, b, _)
        | Expr::NullIf(a, b) => Some(if at == 0 { a } else { b }),
        Expr::And(terms) | Expr::Or(terms) | Expr::Coalesce(terms) | Expr::Function(_, terms) => terms.get_mut(at),
        Expr::InQuery(terms, _, _) => terms.get_mut(at),
        Expr::Not(a) | Expr::Guarded(a, _) | Expr::IsNull(a, _) | Expr::Is(a, ..) | Expr::Quantified(_, _, a, _) => {
            Some(a)
        }
        Expr::Between(a, b, c) => Some([a, b, c][at]),
        Expr::In(a, items, _) => {
            if at == 0 {
                Some(a)
            } else {
                items.get_mut(at - 1)
            }
        }
        Expr::Case(branches, otherwise) => {
            let count = branches.len() * 2;
            if at < count {
                let branch = &mut branches[at / 2];
                Some(if at.is_multiple_of(2) { &mut branch.0 } else { &mut branch.1 })
            } else {
                otherwise.as_deref_mut()
            }
        }
        _ => None,
    };
    slot.map(|slot| *slot = next).is_some()
}

/// The smallest query found that still fails; stops after so many tries.
pub(crate) fn shrink(query: &Query, fails: &mut impl FnMut(&Query) -> bool) -> Query {
    let mut best = query.clone();
    let mut tries = 0;
    'again: loop {
        let mut candidates = smaller(&best);
        candidates.sort_by_key(|candidate| candidate.sql().len());
        for candidate in candidates {
            tries += 1;
            if tries > 20_000 {
                return best;
            }
            if candidate.sql().len() < best.sql().len() && fails(&candidate) {
                best = candidate;
                continue 'again;
            }
        }
        return best;
    }
}
