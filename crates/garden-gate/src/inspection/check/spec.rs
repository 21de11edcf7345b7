//! A check file as it is written: TOML, in which an unknown key is an error.

use crate::types::Value;
use serde::de::value::MapAccessDeserializer;
use serde::de::{self, MapAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::collections::BTreeMap;
use std::fmt;

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct FileSpec {
    #[serde(default)]
    pub(super) data: Vec<String>,
    pub(super) setup: Option<String>,
    pub(super) setup_file: Option<String>,
    #[serde(default)]
    pub(super) settings: BTreeMap<String, Scalar>,
    #[serde(default, rename = "check")]
    pub(super) checks: Vec<CheckSpec>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct CheckSpec {
    pub(super) name: String,
    pub(super) sql: Option<String>,
    pub(super) file: Option<String>,
    #[serde(default)]
    pub(super) params: BTreeMap<String, Scalar>,
    #[serde(default)]
    pub(super) over: BTreeMap<String, Vec<Scalar>>,
    pub(super) rows: Option<String>,
    pub(super) rows_file: Option<String>,
    #[serde(default)]
    pub(super) ordered: bool,
    pub(super) row_count: Option<u64>,
    pub(super) error: Option<String>,
    pub(super) same_rows_as: Option<String>,
    pub(super) same_plan_as: Option<String>,
    #[serde(default)]
    pub(super) no_notes: bool,
    pub(super) plan: Option<PlanExpectation>,
}

/// What is expected of a plan: its text, or rules.
#[derive(Clone, Debug)]
pub(super) enum PlanExpectation {
    Text(String),
    Rules(Box<PlanSpec>),
}

/// By what it looks like, so that an unknown key among the rules is reported as such.
impl<'de> Deserialize<'de> for PlanExpectation {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct TextOrRules;
        impl<'de> Visitor<'de> for TextOrRules {
            type Value = PlanExpectation;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("the text of a plan, or a table of what it must be like")
            }

            fn visit_str<E: de::Error>(self, text: &str) -> Result<Self::Value, E> {
                Ok(PlanExpectation::Text(text.to_owned()))
            }

            fn visit_map<A: MapAccess<'de>>(self, rules: A) -> Result<Self::Value, A::Error> {
                PlanSpec::deserialize(MapAccessDeserializer::new(rules))
                    .map(|rules| PlanExpectation::Rules(Box::new(rules)))
            }
        }
        deserializer.deserialize_any(TextOrRules)
    }
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct PlanSpec {
    #[serde(default)]
    pub(super) uses_index: Vec<String>,
    #[serde(default)]
    pub(super) no_table_scan: Vec<String>,
    pub(super) join_methods: Option<Vec<String>>,
    pub(super) join_order: Option<Vec<String>>,
    pub(super) max_estimate_error: Option<f64>,
    pub(super) max_cost: Option<f64>,
    pub(super) text: Option<String>,
    /// By which factor the rows of an operator may differ from those of the text.
    pub(super) rows_within: Option<f64>,
}

/// A value of TOML; texts are typed by where they are used.
#[derive(Clone, Debug, Deserialize)]
#[serde(untagged)]
pub(super) enum Scalar {
    Truth(bool),
    Whole(i64),
    Fraction(f64),
    Text(String),
}

impl Scalar {
    /// The value as a query gives it; a fraction keeps the digits that were written.
    pub(super) fn value(&self) -> Value {
        match self {
            Self::Truth(truth) => Value::Boolean(*truth),
            Self::Whole(number) => Value::Integer(*number),
            // The shortest digits that mean the number: those that were written.
            Self::Fraction(number) => Value::Untyped(number.to_string()),
            Self::Text(text) => Value::Untyped(text.clone()),
        }
    }
}

impl FileSpec {
    /// What is wrong with the checks though each is well formed.
    pub(super) fn problem(&self) -> Option<String> {
        if self.setup.is_some() && self.setup_file.is_some() {
            return Some("setup and setup_file are both given".into());
        }
        let named = |name: &String| self.checks.iter().any(|check| check.name == *name);
        for (at, check) in self.checks.iter().enumerate() {
            let wrong = |what: &str| Some(format!("check {:?}: {what}", check.name));
            if self.checks[..at].iter().any(|other| other.name == check.name) {
                return wrong("there are two of this name");
            }
            match (&check.sql, &check.file) {
                (None, None) => return wrong("neither sql nor file is given"),
                (Some(_), Some(_)) => return wrong("sql and file are both given"),
                _ => {}
            }
            if check.rows.is_some() && check.rows_file.is_some() {
                return wrong("rows and rows_file are both given");
            }
            for other in check.same_rows_as.iter().chain(&check.same_plan_as) {
                if !named(other) {
                    return wrong(&format!("there is no check {other:?}"));
                }
            }
            if let Some(PlanExpectation::Rules(rules)) = &check.plan
                && rules.rows_within.is_some_and(|factor| factor < 1.0)
            {
                return wrong("rows_within is a factor, 1 at least");
            }
            if check.over.values().any(Vec::is_empty) {
                return wrong("a list of over has no values");
            }
            if check.error.is_some() && (check.rows.is_some() || check.row_count.is_some() || check.plan.is_some()) {
                return wrong("a statement that fails has no rows and no plan");
            }
        }
        None
    }
}
