//! `IN (list)` (clause 8.4): TRUE if some item is equal, else UNKNOWN if the operand or an item is NULL, else FALSE.

use super::evaluate::{compare, evaluate};
use super::keys::integer_lanes;
use super::{Batch, Lane, constant::array_of};
use crate::diagnostic::Result;
use crate::logical::{CompareOp, Expr};
use crate::types::Value;
use arrow::array::{Array, AsArray, BooleanArray};
use arrow::compute;
use hashbrown::HashSet;
use std::sync::Arc;

/// Below this many items, comparing one after the other is no slower than a set.
const SET_FROM: usize = 5;

/// `operand IN (list)`: long lists of constants are a set that each batch probes, the values of others are compared one by one.
pub(super) fn in_list(operand: &Expr, list: &[Expr], batch: &Batch) -> Result<Lane> {
    let lane = evaluate(operand, batch)?;
    if list.len() >= SET_FROM
        && !lane.is_constant()
        && let Some(result) = in_set(&lane, operand, list)?
    {
        return Ok(Lane::Array(Arc::new(result)));
    }
    let mut found: Option<BooleanArray> = None;
    let mut constant = lane.is_constant();
    for item in list {
        let item = evaluate(item, batch)?;
        constant &= item.is_constant();
        let equal = compare(CompareOp::Equal, &lane, &item)?;
        let equal = if constant {
            equal.array().as_boolean().clone()
        } else {
            equal.into_array(batch.rows)?.as_boolean().clone()
        };
        found = Some(match found {
            None => equal,
            Some(sofar) if sofar.len() == equal.len() => compute::or_kleene(&sofar, &equal)?,
            Some(sofar) => {
                let sofar = Lane::Constant(Arc::new(sofar)).into_array(batch.rows)?;
                compute::or_kleene(sofar.as_boolean(), &equal)?
            }
        });
    }
    let found = found.unwrap_or_else(|| BooleanArray::from(vec![false]));
    Ok(Lane::like(Arc::new(found), constant))
}

/// Looks up in a set of constants; `None` when an item is not constant or the type has no set here.
fn in_set(lane: &Lane, operand: &Expr, list: &[Expr]) -> Result<Option<BooleanArray>> {
    let Some(values) = list.iter().map(Expr::constant).collect::<Option<Vec<_>>>() else { return Ok(None) };
    let has_null = values.iter().any(|value| value.is_null());
    let array = lane.array();
    // UNKNOWN instead of FALSE when an item is NULL.
    let outcome = |found: bool| if found || !has_null { Some(found) } else { None };
    if operand.sql_type().is_text() {
        let texts =
            values.iter().filter_map(|value| if let Value::Text(text) = value { Some(text.as_str()) } else { None });
        let set: HashSet<&str, foldhash::fast::RandomState> = texts.collect();
        return Ok(Some(
            array.as_string_view().iter().map(|text| text.and_then(|text| outcome(set.contains(text)))).collect(),
        ));
    }
    let Some(lanes) = integer_lanes(array) else { return Ok(None) };
    let mut set = HashSet::<i64, foldhash::fast::RandomState>::default();
    for value in values.iter().filter(|value| !value.is_null()) {
        set.extend(integer_lanes(&array_of(value, operand.sql_type())?).iter().flat_map(|lanes| lanes.iter().copied()));
    }
    let nulls = array.nulls();
    let result = lanes.iter().enumerate().map(|(row, value)| {
        if nulls.is_some_and(|nulls| nulls.is_null(row)) { None } else { outcome(set.contains(value)) }
    });
    Ok(Some(result.collect()))
}
