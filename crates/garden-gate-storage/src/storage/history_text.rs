//! Periods, and the history of versioned tables, as the list of tables holds them.

use super::catalog_text::PartText;
use super::history::{History, HistoryInterval};
use super::stored_segment::StoredSegment;
use crate::catalog::{HistoryRule, Period, Roll, SystemTime, TableDefinition, WhenFull};
use crate::diagnostic::Result;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A period: its name and the places of its columns.
#[derive(Serialize, Deserialize)]
pub(super) struct PeriodText(String, usize, usize);

impl PeriodText {
    /// A period, as the file keeps it.
    pub(super) fn of(period: &Period) -> Self {
        Self(period.name.clone(), period.start, period.end)
    }

    /// The reverse.
    pub(super) fn period(self) -> Period {
        Period { name: self.0, start: self.1, end: self.2 }
    }
}

#[derive(Serialize, Deserialize)]
pub(super) struct SystemTimeText {
    start: usize,
    end: usize,
    versioned: bool,
    roll: Option<RollText>,
    keep: Option<u32>,
    #[serde(default)]
    drops_nothing: bool,
    /// Files of history: when each stretch began, and its parts.
    stretches: Vec<(i64, Vec<PartText>)>,
    /// The earliest moment that can be asked for.
    from: Option<i64>,
}

#[derive(Serialize, Deserialize)]
enum RollText {
    Rows(u64),
    Months(i32),
    Micros(i64),
}

impl SystemTimeText {
    /// The history of a table, as the file keeps it; `None` where it has none. `number` gives each part its number in the file.
    pub(super) fn of(
        definition: &TableDefinition,
        history: &History,
        number: &mut impl FnMut(&Arc<StoredSegment>) -> Result<u64>,
    ) -> Result<Option<Self>> {
        let Some(SystemTime { start, end, versioned, rule }) = definition.system_time.clone() else { return Ok(None) };
        let mut stretches = Vec::new();
        for stretch in &history.stretches {
            let parts = stretch.parts.iter();
            let parts = parts.map(|part| Ok(PartText(number(part)?, part.mask().0, Some(part.count()))));
            stretches.push((stretch.began, parts.collect::<Result<_>>()?));
        }
        let roll = rule.roll.map(|roll| match roll {
            Roll::Rows(rows) => RollText::Rows(rows),
            Roll::Months(months) => RollText::Months(months),
            Roll::Micros(micros) => RollText::Micros(micros),
        });
        let (keep, drops_nothing) = (rule.keep, rule.when_full == WhenFull::Note);
        Ok(Some(Self { start, end, versioned, roll, keep, drops_nothing, stretches, from: history.from }))
    }

    /// The period, and the history that was kept of it.
    pub(super) fn read(
        self,
        width: usize,
        part: &mut impl FnMut(PartText, usize) -> Result<Arc<StoredSegment>>,
    ) -> Result<(SystemTime, History)> {
        let roll = self.roll.map(|roll| match roll {
            RollText::Rows(rows) => Roll::Rows(rows),
            RollText::Months(months) => Roll::Months(months),
            RollText::Micros(micros) => Roll::Micros(micros),
        });
        let when_full = if self.drops_nothing { WhenFull::Note } else { WhenFull::DropOldest };
        let rule = HistoryRule { roll, keep: self.keep, when_full };
        let mut stretches = Vec::new();
        for (began, parts) in self.stretches {
            let parts = parts.into_iter().map(|text| part(text, width)).collect::<Result<_>>()?;
            stretches.push(HistoryInterval { began, parts });
        }
        let period = SystemTime { start: self.start, end: self.end, versioned: self.versioned, rule };
        Ok((period, History { stretches, from: self.from }))
    }
}
