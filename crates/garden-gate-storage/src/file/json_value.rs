use crate::types::Value;
use serde_json::{Number, Value as Json};

/// A value as JSON. Exact numbers keep all their digits; ARRAY and ROW are arrays; what JSON has no form for is the text of its SQL literal.
#[must_use]
pub fn json_value(value: &Value) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Boolean(truth) => Json::Bool(*truth),
        Value::Integer(number) => Json::from(*number),
        Value::Numeric(_) | Value::Double(_) => {
            let text = value.to_string();
            text.parse::<Number>().map_or(Json::String(text), Json::Number)
        }
        Value::Array(values) | Value::Row(values) => values.iter().map(json_value).collect(),
        Value::Text(_)
        | Value::Untyped(_)
        | Value::Date(_)
        | Value::Time(_)
        | Value::TimeTz(_)
        | Value::Timestamp(_)
        | Value::Instant(_)
        | Value::Binary(_)
        | Value::Uuid(_)
        | Value::IpAddress(_)
        | Value::Months(_)
        | Value::Micros(_) => Json::String(value.to_string()),
    }
}
