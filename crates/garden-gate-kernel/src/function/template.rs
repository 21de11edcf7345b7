//! `CAST … FORMAT` (clause 9.52).

use super::{Arguments, Problem};
use crate::keys::{from_integer_lanes, integer_lanes};
use crate::types::Template;
use arrow::array::{Array, ArrayRef, AsArray};

/// CAST with FORMAT, to or from a text (ISO/IEC 9075-2, 9.45).
pub(super) fn cast(arguments: &Arguments<'_>) -> Result<ArrayRef, Problem> {
    let template = arguments.lanes[1].array().as_string_view();
    let text = if template.is_empty() || template.is_null(0) { "" } else { template.value(0) };
    let misfit = |text: &str| Problem::NoSuchValue { text: text.into(), target: arguments.result };
    let template = Template::parse(text).map_err(|_| misfit(text))?;
    if arguments.result.is_text() {
        let array = arguments.array(0)?;
        let lanes = integer_lanes(&array).unwrap_or_default();
        let from = arguments.types[0];
        return arguments.texts(|row| Ok(array.is_valid(row).then(|| template.write(lanes[row], from))));
    }
    let current = integer_lanes(arguments.lanes[2].array()).and_then(|lanes| lanes.first().copied()).unwrap_or(1);
    let texts = arguments.text(0);
    let mut values = Vec::with_capacity(arguments.rows);
    let mut valid = Vec::with_capacity(arguments.rows);
    for row in 0..arguments.rows {
        valid.push(texts.get(row).is_some());
        values.push(match texts.get(row) {
            None => 0,
            Some(text) => template.read(text.trim(), arguments.result, current).ok_or_else(|| misfit(text))?,
        });
    }
    Ok(from_integer_lanes(values, Some(valid.into()), &arguments.result.arrow()))
}
