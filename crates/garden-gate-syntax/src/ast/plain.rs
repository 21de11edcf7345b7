//! Queries that are made, not read.

use super::{Query, QueryBody, Select, SelectItem, TableExpr};
use crate::diagnostic::Span;

impl Select {
    /// `SELECT items FROM tables`, in the place of what is written at `span`.
    pub fn plain(items: Vec<SelectItem>, from: Vec<TableExpr>, span: Span) -> Self {
        Self {
            distinct: None,
            items,
            from,
            from_span: span,
            where_: None,
            group_by: None,
            having: None,
            windows: Vec::new(),
            span,
        }
    }

    /// A query that is only this SELECT.
    pub fn into_query(self) -> Query {
        let span = self.span;
        Query::plain(QueryBody::Select(Box::new(self)), span)
    }
}

impl Query {
    /// A body without WITH or an order.
    pub fn plain(body: QueryBody, span: Span) -> Self {
        Self { with: None, body, order_by: Vec::new(), offset: None, fetch: None, guide: None, span }
    }
}
