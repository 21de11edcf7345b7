//! Types made of other types. A [`SqlType`] is a small word that is copied everywhere, so the parts of an ARRAY or ROW live in a table
//! of their own: each different type once, for the life of the process.

use super::SqlType;
use std::collections::HashSet;
use std::sync::{LazyLock, Mutex, PoisonError};

/// A field of a ROW type.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct RowField {
    /// Its name.
    pub name: String,
    /// Its type.
    pub sql_type: SqlType,
}

static ELEMENTS: LazyLock<Mutex<HashSet<&'static SqlType>>> = LazyLock::new(Mutex::default);
static ROWS: LazyLock<Mutex<HashSet<&'static [RowField]>>> = LazyLock::new(Mutex::default);

impl SqlType {
    /// The type of arrays of `element`.
    pub fn array_of(element: Self) -> Self {
        let mut known = ELEMENTS.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = known.get(&element) {
            return Self::Array(found);
        }
        let kept: &'static Self = Box::leak(Box::new(element));
        known.insert(kept);
        Self::Array(kept)
    }

    /// The type of rows of these fields.
    pub fn row_of(fields: Vec<RowField>) -> Self {
        let mut known = ROWS.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(found) = known.get(fields.as_slice()) {
            return Self::Row(found);
        }
        let kept: &'static [RowField] = Box::leak(fields.into_boxed_slice());
        known.insert(kept);
        Self::Row(kept)
    }

    /// The row type with unnamed fields of these types, called `field_1`, `field_2`, ….
    pub fn row_of_types(types: impl IntoIterator<Item = Self>) -> Self {
        let field = |(at, sql_type)| RowField { name: format!("field_{}", at + 1), sql_type };
        Self::row_of(types.into_iter().enumerate().map(field).collect())
    }
}

/// The common type of two rows: field by field, named as in the first.
pub(super) fn common_row(a: &[RowField], b: &[RowField]) -> Option<SqlType> {
    if a.len() != b.len() {
        return None;
    }
    let field = |(a, b): (&RowField, &RowField)| {
        Some(RowField { name: a.name.clone(), sql_type: a.sql_type.common(b.sql_type)? })
    };
    Some(SqlType::row_of(a.iter().zip(b).map(field).collect::<Option<_>>()?))
}
