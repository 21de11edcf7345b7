use super::Session;
use super::access::Access;
use super::result_set::{ResultColumn, ResultSet};
use crate::catalog::FileOptions;
use crate::choose::Factors;
use crate::control::Limits;
use crate::diagnostic::{Error, Result, SqlState};
use crate::kernel::{Batch, array_of};
use crate::logical::RewriteRule;
use crate::types::{SqlType, Value, Zone, approximate, zone_of_interval};
use std::time::{Duration, Instant};

/// What SET can change.
#[derive(Clone, Debug)]
pub(crate) struct Settings {
    pub(crate) workers: usize,
    pub(crate) batch_rows: usize,
    memory_limit: Option<u64>,
    spill_threshold: u64,
    time_limit: u64,
    wait_limit: u64,
    /// Bytes of a line of a text file at most.
    line_limit: u64,
    recursion_limit: u64,
    /// What costs are multiplied by.
    factors: Factors,
    /// Rewrite rules that are omitted.
    pub(crate) without_rules: Vec<RewriteRule>,
    /// Whether plans go by what ANALYZE found, however much has changed since.
    pub(crate) keep_statistics: bool,
    /// Whether rows come with notes on style.
    pub(crate) style_notes: bool,
    /// The time zone of times without one, and in which instants are shown.
    pub(crate) zone: Zone,
}

/// A setting: name, meaning, how it is shown and set.
struct Setting {
    name: &'static str,
    meaning: &'static str,
    show: fn(&Settings) -> Value,
    set: fn(&mut Settings, &Value) -> Option<()>,
}

const SETTINGS: &[Setting] = &[
    Setting {
        name: "batch_rows",
        meaning: "rows of a batch, 1 to 8192",
        show: |settings| size(settings.batch_rows),
        set: |settings, value| within(value, 1, 8192).map(|rows| settings.batch_rows = rows),
    },
    Setting {
        name: "hash_cost_factor",
        meaning: "what the costs of hash joins are multiplied by, 0.001 to 1000",
        show: |settings| Value::Double(settings.factors.hash),
        set: |settings, value| factor(value).map(|factor| settings.factors.hash = factor),
    },
    Setting {
        name: "index_cost_factor",
        meaning: "what the costs of reading by an index are multiplied by, 0.001 to 1000",
        show: |settings| Value::Double(settings.factors.index),
        set: |settings, value| factor(value).map(|factor| settings.factors.index = factor),
    },
    Setting {
        name: "keep_statistics",
        meaning: "whether plans go by old statistics until ANALYZE, FALSE (computed anew when a fifth has changed) or TRUE",
        show: |settings| Value::Boolean(settings.keep_statistics),
        set: |settings, value| truth(value).map(|keep| settings.keep_statistics = keep),
    },
    Setting {
        name: "line_limit",
        meaning: "bytes that a row of a text file has at most, such as '64 MB'",
        show: |settings| Value::Text(show_bytes(settings.line_limit)),
        set: |settings, value| bytes(value).filter(|bytes| *bytes > 0).map(|bytes| settings.line_limit = bytes),
    },
    Setting {
        name: "loop_cost_factor",
        meaning: "what the costs of nested loops without an index are multiplied by, 0.001 to 1000",
        show: |settings| Value::Double(settings.factors.nested_loop),
        set: |settings, value| factor(value).map(|factor| settings.factors.nested_loop = factor),
    },
    Setting {
        name: "memory_limit",
        meaning: "memory a statement may hold, such as '512 MB'; sorts, groupings, hash joins and windows spill to disk then; 0 for no limit",
        show: |settings| settings.memory_limit.map_or(Value::Integer(0), |bytes| Value::Text(show_bytes(bytes))),
        set: |settings, value| bytes(value).map(|bytes| settings.memory_limit = (bytes > 0).then_some(bytes)),
    },
    Setting {
        name: "recursion_limit",
        meaning: "rounds a recursion may take; 0 for no limit",
        show: |settings| Value::Integer(i64::try_from(settings.recursion_limit).unwrap_or(i64::MAX)),
        set: |settings, value| within(value, 0, usize::MAX).map(|rounds| settings.recursion_limit = rounds as u64),
    },
    Setting {
        name: "sort_cost_factor",
        meaning: "what the costs of sorting are multiplied by, 0.001 to 1000",
        show: |settings| Value::Double(settings.factors.sort),
        set: |settings, value| factor(value).map(|factor| settings.factors.sort = factor),
    },
    Setting {
        name: "spill_threshold",
        meaning: "memory that a worker of a sort, grouping, hash join or window holds before it goes over to a file; 0 for half of what is left of memory_limit",
        show: |settings| match settings.spill_threshold {
            0 => Value::Integer(0),
            bytes => Value::Text(show_bytes(bytes)),
        },
        set: |settings, value| bytes(value).map(|bytes| settings.spill_threshold = bytes),
    },
    Setting {
        name: "style_notes",
        meaning: "whether rows come with notes on style and speed as well, FALSE or TRUE; plans always do",
        show: |settings| Value::Boolean(settings.style_notes),
        set: |settings, value| truth(value).map(|notes| settings.style_notes = notes),
    },
    Setting {
        name: "time_limit",
        meaning: "milliseconds a statement may take; 0 for no limit",
        show: |settings| Value::Integer(i64::try_from(settings.time_limit).unwrap_or(i64::MAX)),
        set: |settings, value| within(value, 0, usize::MAX).map(|millis| settings.time_limit = millis as u64),
    },
    Setting {
        name: "time_zone",
        meaning: "of times without a zone: '+02:00', 'Europe/Vienna'",
        show: |settings| Value::Text(settings.zone.to_string()),
        set: |settings, value| zone(value).map(|zone| settings.zone = zone),
    },
    Setting {
        name: "wait_limit",
        meaning: "milliseconds a statement waits at most for another session that writes; 0 for no limit",
        show: |settings| Value::Integer(i64::try_from(settings.wait_limit).unwrap_or(i64::MAX)),
        set: |settings, value| within(value, 0, usize::MAX).map(|millis| settings.wait_limit = millis as u64),
    },
    Setting {
        name: "without_rules",
        meaning: "rewrite rules to omit, by the names that a plan shows, separated by commas; '' for none",
        show: |settings| {
            Value::Text(settings.without_rules.iter().map(|rule| rule.name()).collect::<Vec<_>>().join(", "))
        },
        set: |settings, value| rules(value).map(|rules| settings.without_rules = rules),
    },
    Setting {
        name: "workers",
        meaning: "threads a statement may run on, 1 to 256",
        show: |settings| size(settings.workers),
        set: |settings, value| within(value, 1, 256).map(|workers| settings.workers = workers),
    },
];

fn size(value: usize) -> Value {
    Value::Integer(i64::try_from(value).unwrap_or(i64::MAX))
}

/// Rewrite rules by their names; `None` when one is unknown.
fn rules(value: &Value) -> Option<Vec<RewriteRule>> {
    let (Value::Text(text) | Value::Untyped(text)) = value else { return None };
    let names = text.split(',').map(str::trim).filter(|name| !name.is_empty());
    names.map(RewriteRule::from_name).collect()
}

fn show_bytes(bytes: u64) -> String {
    match bytes {
        _ if bytes.is_multiple_of(1_000_000_000) => format!("{} GB", bytes / 1_000_000_000),
        _ if bytes.is_multiple_of(1_000_000) => format!("{} MB", bytes / 1_000_000),
        _ => format!("{bytes}"),
    }
}

/// An integer, also as text.
fn within(value: &Value, low: usize, high: usize) -> Option<usize> {
    let number = match value {
        Value::Integer(number) => usize::try_from(*number).ok()?,
        Value::Text(text) | Value::Untyped(text) => text.trim().parse().ok()?,
        _ => return None,
    };
    (low..=high).contains(&number).then_some(number)
}

/// A time zone: a name, an offset, or an interval from UTC.
fn zone(value: &Value) -> Option<Zone> {
    match value {
        Value::Text(text) | Value::Untyped(text) => Zone::parse(text),
        Value::Micros(micros) => zone_of_interval(*micros).ok(),
        _ => None,
    }
}

/// A truth value, also as text.
fn truth(value: &Value) -> Option<bool> {
    match value {
        Value::Boolean(truth) => Some(*truth),
        Value::Text(text) | Value::Untyped(text) if text.trim().eq_ignore_ascii_case("true") => Some(true),
        Value::Text(text) | Value::Untyped(text) if text.trim().eq_ignore_ascii_case("false") => Some(false),
        _ => None,
    }
}

/// A number that costs are multiplied by, also as text.
fn factor(value: &Value) -> Option<f64> {
    let factor: f64 = match value {
        Value::Text(text) | Value::Untyped(text) => text.trim().parse().ok()?,
        number => number.ordinal()?,
    };
    (0.001..=1000.0).contains(&factor).then_some(factor)
}

/// Bytes: a number, or a number with kB, MB or GB.
fn bytes(value: &Value) -> Option<u64> {
    let text = match value {
        Value::Integer(number) => return u64::try_from(*number).ok(),
        Value::Text(text) | Value::Untyped(text) => text.trim().to_lowercase(),
        _ => return None,
    };
    let units = [("kb", 1_000), ("mb", 1_000_000), ("gb", 1_000_000_000), ("", 1)];
    let (digits, factor) = units.into_iter().find_map(|(unit, factor)| Some((text.strip_suffix(unit)?, factor)))?;
    digits.trim().parse::<u64>().ok()?.checked_mul(factor)
}

impl Default for Settings {
    fn default() -> Self {
        let workers = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(256);
        Self {
            workers,
            batch_rows: 8192,
            memory_limit: Some(4_000_000_000),
            spill_threshold: 0,
            time_limit: 0,
            wait_limit: 30_000,
            line_limit: crate::file::LINE_LIMIT,
            recursion_limit: 1000,
            factors: Factors::default(),
            without_rules: Vec::new(),
            keep_statistics: false,
            style_notes: false,
            zone: Zone::UTC,
        }
    }
}

/// A value as it is written in a statement.
fn shown(value: &Value) -> String {
    match value {
        Value::Text(text) | Value::Untyped(text) => format!("'{}'", text.replace('\'', "''")),
        other => other.to_string(),
    }
}

impl Settings {
    /// Changes one setting.
    ///
    /// # Errors
    /// 42000 for an unknown name, HY024 for a value it can't have.
    pub(crate) fn set(&mut self, name: &str, value: &Value) -> Result<()> {
        let Some(setting) = SETTINGS.iter().find(|setting| setting.name.eq_ignore_ascii_case(name)) else {
            let names: Vec<&str> = SETTINGS.iter().map(|setting| setting.name).collect();
            let near = crate::diagnostic::nearest(name, names.iter().copied());
            let help = match near {
                Some(near) => format!("did you mean {near:?}?"),
                None => format!(
                    "LET {name} = {} makes a variable, :{name} reads it; the settings are {}",
                    shown(value),
                    names.join(", ")
                ),
            };
            return Err(Error::new(SqlState::SYNTAX_OR_RULE, format!("no setting {name:?}")).with_help(help));
        };
        (setting.set)(self, value).ok_or_else(|| {
            let message = format!("{} can't be {value}", setting.name);
            Error::new(SqlState::INVALID_SETTING, message).with_help(format!("{}: {}", setting.name, setting.meaning))
        })
    }

    /// Name, value and meaning of every setting.
    pub(crate) fn list(&self) -> Vec<[Value; 3]> {
        let row =
            |setting: &Setting| [setting.name.into(), (setting.show)(self).to_string().into(), setting.meaning.into()];
        SETTINGS.iter().map(row).collect()
    }

    /// How long a statement waits for another session that writes.
    pub(super) fn wait_limit(&self) -> Option<Duration> {
        (self.wait_limit > 0).then(|| Duration::from_millis(self.wait_limit))
    }

    /// The options of a file with the limits of the session.
    pub(super) fn limited(&self, options: &FileOptions) -> FileOptions {
        FileOptions { line_limit: Some(self.line_limit), ..options.clone() }
    }

    /// What the planner multiplies costs by, and the memory it plans for.
    pub(super) fn factors(&self) -> Factors {
        let memory = self.memory_limit.map_or(f64::INFINITY, approximate);
        Factors { memory, ..self.factors }
    }

    /// The limits of a statement: the narrower of what is set and what the program allows.
    pub(super) fn limits(&self, access: &Access) -> Limits {
        let time = (self.time_limit > 0).then(|| Duration::from_millis(self.time_limit));
        let memory = self.memory_limit.into_iter().chain(access.memory).min();
        Limits {
            time: time.into_iter().chain(access.time).min(),
            memory: memory.map(|bytes| usize::try_from(bytes).unwrap_or(usize::MAX)),
            spill: (self.spill_threshold > 0).then(|| usize::try_from(self.spill_threshold).unwrap_or(usize::MAX)),
            recursion: (self.recursion_limit > 0).then_some(self.recursion_limit),
            gauge: access.gauge,
        }
    }
}

impl Session {
    /// All settings as rows.
    pub(super) fn settings_rows(&self, started: Instant) -> Result<ResultSet> {
        let column = |name: &str| ResultColumn::new(name, SqlType::TEXT);
        let row = |values: [Value; 3]| {
            let arrays = values.iter().map(|value| array_of(value, SqlType::TEXT)).collect::<Result<_>>()?;
            Ok(Batch::new(arrays, 1))
        };
        Ok(ResultSet {
            columns: ["setting", "value", "meaning"].map(column).to_vec(),
            batches: self.settings().list().into_iter().map(row).collect::<Result<_>>()?,
            elapsed: started.elapsed(),
            ..ResultSet::default()
        })
    }
}
