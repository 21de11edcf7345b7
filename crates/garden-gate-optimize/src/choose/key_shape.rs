use crate::logical::{Expr, SortKey};

/// What rows are ordered or joined by, as far as its cost depends on it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct KeyShape {
    pub(super) count: usize,
    /// Whether it is one key that is compared as a number, without being encoded.
    pub(super) is_number: bool,
}

impl KeyShape {
    /// Keys that are these expressions.
    pub(super) fn of<'e>(keys: impl IntoIterator<Item = &'e Expr>) -> Self {
        let (mut count, mut numbers) = (0, 0);
        for key in keys {
            count += 1;
            numbers += usize::from(key.sql_type().is_whole());
        }
        Self { count, is_number: (count, numbers) == (1, 1) }
    }

    /// Keys of an order.
    pub(super) fn of_sort(keys: &[SortKey]) -> Self {
        Self::of(keys.iter().map(|key| &key.expr))
    }
}
