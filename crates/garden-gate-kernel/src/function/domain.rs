//! What CAST to a domain asks of values.

use super::{Arguments, Problem};
use arrow::array::{Array, ArrayRef, AsArray};

/// The values; a condition that is FALSE for one is an error, one that is UNKNOWN is not (clause 4.12).
pub(super) fn held(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let truth = arguments.array(1)?;
    let truth = truth.as_boolean();
    let broken = (0..arguments.rows).any(|row| truth.is_valid(row) && !truth.value(row));
    if !broken {
        return arguments.array(0);
    }
    let word = |at: usize| arguments.text(at).get(0).unwrap_or_default().to_owned();
    Err(Problem::OutsideDomain { domain: word(2), check: word(3) })
}
