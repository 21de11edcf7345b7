//! Queries made around parts of a query, so that the parts can be run separately.

use crate::diagnostic::Span;
use crate::syntax::ast::{
    Alias, Call, Expr, ExprKind, GroupBy, GroupingElement, Ident, Join, JoinCondition, JoinKind, Query, QueryBody,
    Select, SelectItem, TableAlias, TableExpr, With,
};
use crate::types::{SqlType, Value};

/// The part after the WITH clauses that it appears in, the outermost first.
pub(super) fn with_names(visible: &[With], query: Query) -> Query {
    visible.iter().rev().fold(query, |inner, with| {
        let span = inner.span;
        Query { with: Some(with.clone()), ..Query::plain(QueryBody::Nested(Box::new(inner)), span) }
    })
}

/// `TABLE name`
pub(super) fn all_of(name: &Ident) -> Query {
    Query::plain(QueryBody::Table(vec![name.clone()], name.span), name.span)
}

/// All rows of FROM, or those that WHERE keeps.
pub(super) fn rows_of_from(select: &Select, with_where: bool) -> Query {
    let span = select.from_span;
    let where_ = select.where_.clone().filter(|_| with_where);
    Select { where_, ..Select::plain(vec![SelectItem::All(span)], select.from.clone(), span) }.into_query()
}

/// The groups: their keys, and how many rows each has; those that HAVING keeps, or all.
pub(super) fn groups_of(select: &Select, with_having: bool) -> Query {
    let span = select.from_span;
    let mut keys: Vec<Expr> = Vec::new();
    for element in select.group_by.iter().flat_map(|group_by: &GroupBy| &group_by.elements) {
        GroupingElement::for_each_expr(element, &mut |expr| keys.push(expr.clone()));
    }
    let name = Ident { text: "COUNT".into(), quoted: false, span };
    let count = Call::of_all(name);
    let mut items: Vec<SelectItem> = keys.into_iter().map(|expr| SelectItem::Expr { expr, alias: None }).collect();
    let alias = Alias { name: Ident { text: "rows".into(), quoted: false, span }, with_as: true };
    let expr = Expr { kind: ExprKind::Call(Box::new(count)), span, depth: 1 };
    items.push(SelectItem::Expr { expr, alias: Some(alias) });
    let having = select.having.clone().filter(|_| with_having);
    let (where_, group_by) = (select.where_.clone(), select.group_by.clone());
    let windows = select.windows.clone();
    let from = select.from.clone();
    Select { where_, group_by, having, windows, ..Select::plain(items, from, span) }.into_query()
}

/// The rows of the query around a part, each with those that the part has for it: the columns that the part names, or all.
pub(super) fn beside_outer(outer: &Select, part: &Query, used: &[Vec<Ident>]) -> Option<Query> {
    let span = part.span;
    let mut tables = outer.from.iter().cloned();
    let first = tables.next()?;
    let left = tables.fold(first, |left, right| joined(left, right, (JoinKind::Inner, JoinCondition::Cross), span));
    let name = Ident { text: "step".into(), quoted: false, span };
    let alias = TableAlias { name: Some(name.clone()), columns: None };
    let right = TableExpr::Derived { query: Box::new(part.clone()), lateral: true, alias };
    let always = Expr { kind: ExprKind::Literal(Value::Boolean(true), SqlType::Boolean), span, depth: 1 };
    let from = joined(left, right, (JoinKind::Left, JoinCondition::On(always)), span);
    let mut items: Vec<SelectItem> = used
        .iter()
        .map(|name| {
            let expr = Expr { kind: ExprKind::Name(name.clone()), span: name[0].span, depth: 1 };
            SelectItem::Expr { expr, alias: None }
        })
        .collect();
    if items.is_empty() {
        items.push(SelectItem::All(span));
    } else {
        items.push(SelectItem::AllOf(vec![name], span));
    }
    Some(Select::plain(items, vec![from], span).into_query())
}

fn joined(left: TableExpr, right: TableExpr, (kind, condition): (JoinKind, JoinCondition), span: Span) -> TableExpr {
    TableExpr::Join(Box::new(Join { kind, mirrored: false, left, right, condition, span }))
}
