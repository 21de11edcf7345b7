//! Keys of one table as those of another whose columns have other types of numbers.

use crate::diagnostic::Result;
use crate::types::SqlType;
use arrow::array::{Array, ArrayRef, BooleanArray};
use arrow::compute::{CastOptions, cast_with_options, kernels::cmp, nullif};
use std::sync::Arc;

/// Whether rows can refer to rows by columns of these types: the same ones, or numbers that are compared exactly.
pub(super) fn are_comparable(from: SqlType, to: SqlType) -> bool {
    let fixed = |sql_type| matches!(sql_type, SqlType::Char(_) | SqlType::Binary(_));
    let padded_alike = from == to || !fixed(from) && !fixed(to);
    from.arrow() == to.arrow() && padded_alike || from.is_exact() && to.is_exact()
}

/// The keys as values of these types; what a type does not hold exactly is NULL, which finds nothing. O(rows).
pub(super) fn keys_as(keys: Vec<ArrayRef>, types: impl Iterator<Item = SqlType>) -> Result<Vec<ArrayRef>> {
    keys.into_iter().zip(types).map(|(key, sql_type)| key_as(key, sql_type)).collect()
}

fn key_as(key: ArrayRef, sql_type: SqlType) -> Result<ArrayRef> {
    let wanted = sql_type.arrow();
    if *key.data_type() == wanted {
        return Ok(key);
    }
    let options = CastOptions { safe: true, ..CastOptions::default() };
    let made = cast_with_options(&key, &wanted, &options)?;
    let back = cast_with_options(&made, key.data_type(), &options)?;
    let differs: BooleanArray = cmp::distinct(&back, &key)?;
    let exact = if differs.true_count() == 0 { made } else { nullif(&made, &differs)? };
    Ok(Arc::clone(&exact))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Decimal64Array, Int32Array, Int64Array};

    #[test]
    fn what_does_not_fit_exactly_is_null() {
        let wide: ArrayRef = Arc::new(Int64Array::from(vec![Some(1), Some(i64::MAX), None]));
        let narrow: ArrayRef = Arc::new(Int32Array::from(vec![Some(1), None, None]));
        assert_eq!(keys_as(vec![wide], [SqlType::Integer].into_iter()).unwrap()[0].as_ref(), narrow.as_ref());
        let prices: ArrayRef = Arc::new(Decimal64Array::from(vec![100, 150]).with_precision_and_scale(5, 2).unwrap());
        let whole: ArrayRef = Arc::new(Int32Array::from(vec![Some(1), None]));
        assert_eq!(keys_as(vec![prices], [SqlType::Integer].into_iter()).unwrap()[0].as_ref(), whole.as_ref());
        assert!(
            are_comparable(SqlType::Integer, SqlType::BigInt) && !are_comparable(SqlType::Integer, SqlType::Double)
        );
        assert!(!are_comparable(SqlType::Char(2), SqlType::Char(3)) && are_comparable(SqlType::Date, SqlType::Date));
    }
}
