//! What is known of a table's periods and of its history.

use super::ConstraintFacts;
use crate::catalog::{
    FOREVER, HistoryRule, KeyConstraint, Period, Roll, SYSTEM_TIME, SystemTime, TableDefinition, WhenFull,
};
use crate::diagnostic::Result;
use crate::storage::StoredTable;
use crate::types::{Value, format_day_time, format_year_month};

/// The history of a versioned table.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct HistoryFacts {
    /// How it is cut and kept, as SET HISTORY says it; empty for one stretch that is never dropped.
    pub rule: String,
    /// The earliest moment that can be asked for; `None` when nothing was ever taken away.
    pub from: Option<Value>,
    /// Its stretches, the oldest first.
    pub stretches: Vec<HistoryInterval>,
}

/// History between two rolls.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct HistoryInterval {
    /// Versions of rows that have ended.
    pub rows: u64,
    /// Bytes of their columns in memory.
    pub bytes: u64,
    /// When the first of them ended.
    pub oldest: Option<Value>,
    /// When the last of them ended.
    pub newest: Option<Value>,
}

/// The periods of a table, as they are written.
pub(super) fn period_facts(definition: &TableDefinition) -> Vec<ConstraintFacts> {
    let text = |name: &str, start: usize, end: usize| {
        let column = |at: usize| definition.columns[at].name.as_str();
        let text = format!("PERIOD FOR {name} ({}, {})", column(start), column(end));
        ConstraintFacts { name: name.to_owned(), text }
    };
    let own = definition.periods.iter().map(|Period { name, start, end }| text(name, *start, *end));
    let system = definition.system_time.iter().map(|SystemTime { start, end, .. }| text(SYSTEM_TIME, *start, *end));
    own.chain(system).collect()
}

/// The columns of a key, with `period WITHOUT OVERLAPS`.
pub(super) fn key_words(definition: &TableDefinition, key: &KeyConstraint) -> String {
    let mut words: Vec<String> = key.scalar_columns().iter().map(|at| definition.columns[*at].name.clone()).collect();
    let period = definition.periods.iter().find(|period| Some(period.end) == key.period_end);
    words.extend(period.map(|period| format!("{} WITHOUT OVERLAPS", period.name)));
    words.join(", ")
}

/// The name of the period that ends in a column, after the columns of a foreign key.
pub(super) fn period_words(definition: &TableDefinition, end: Option<usize>) -> String {
    let period = definition.periods.iter().find(|period| Some(period.end) == end);
    period.map_or_else(String::new, |period| format!(", PERIOD {}", period.name))
}

/// What the history of a table comes to; `None` where it keeps none.
pub(super) fn history_facts(table: &StoredTable, definition: &TableDefinition) -> Result<Option<HistoryFacts>> {
    let Some(period) = definition.versioning() else { return Ok(None) };
    let moment = |micros: i64| Value::Instant(micros.min(FOREVER));
    let facts = table.history().facts(period, definition.columns.len())?;
    let stretch = |facts: &crate::storage::HistoryIntervalFacts| HistoryInterval {
        rows: facts.rows,
        bytes: facts.bytes,
        oldest: facts.ends.map(|(first, _)| moment(first)),
        newest: facts.ends.map(|(_, last)| moment(last)),
    };
    Ok(Some(HistoryFacts {
        rule: rule_words(&period.rule),
        from: table.history().from.map(moment),
        stretches: facts.iter().map(stretch).collect(),
    }))
}

fn rule_words(rule: &HistoryRule) -> String {
    let roll = rule.roll.map(|roll| match roll {
        Roll::Rows(rows) => format!("ROLL EVERY {rows} ROWS"),
        Roll::Months(months) => format!("ROLL EVERY INTERVAL '{}' YEAR TO MONTH", format_year_month(months)),
        Roll::Micros(micros) => format!("ROLL EVERY INTERVAL '{}' DAY TO SECOND", format_day_time(micros)),
    });
    let keep = rule.keep.map(|keep| format!("KEEP {keep}"));
    let full = (rule.when_full == WhenFull::Note).then(|| "WHEN FULL NOTE".to_owned());
    roll.into_iter().chain(keep).chain(full).collect::<Vec<_>>().join(", ")
}
