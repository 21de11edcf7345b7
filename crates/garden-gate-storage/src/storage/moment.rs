//! The rows of a versioned table that were there at some moment of a range, as a table of its own: parts that were there throughout as they are,
//! parts of which some rows were there with a mask, and none of the others. Parts are shared with the table and its history, and so is what is
//! known of them: their indexes serve the past too.

use super::history::lanes;
use super::stored_segment::StoredSegment;
use super::stored_table::StoredTable;
use crate::catalog::{SystemTime, TableSource};
use crate::diagnostic::Result;
use crate::types::index;
use std::sync::{Arc, PoisonError, Weak};

/// A first and a last moment; both count.
type Moments = (i64, i64);

/// What a moment was made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct MomentFacts {
    /// Rows of history in parts that were looked at.
    pub read: u64,
    /// Rows of history in parts that ended before or began after.
    pub pruned: u64,
}

/// Tables of moments that somebody still reads.
pub(super) type KnownMoments = Vec<(Moments, Weak<StoredTable>, MomentFacts)>;

impl StoredTable {
    /// The versions with start <= last and end > first. O(parts), and O(rows) of the parts of which some rows were there.
    ///
    /// It has no keys: a key may be younger than the history.
    pub fn at(&self, period: &SystemTime, moments: Moments) -> Result<(Arc<Self>, MomentFacts)> {
        let known = || {
            let mut known = self.moments.lock().unwrap_or_else(PoisonError::into_inner);
            known.retain(|(_, table, _)| table.strong_count() > 0);
            known.iter().find(|(of, ..)| *of == moments).and_then(|(_, table, facts)| Some((table.upgrade()?, *facts)))
        };
        if let Some(known) = known() {
            return Ok(known);
        }
        let (mut parts, mut facts) = (Vec::new(), MomentFacts::default());
        for part in self.history.parts() {
            let alive = alive(part, period, moments)?;
            match alive {
                Alive::None => facts.pruned += part.count() as u64,
                Alive::All | Alive::Some(_) => facts.read += part.count() as u64,
            }
            parts.extend(alive.of(part));
        }
        for part in self.parts() {
            parts.extend(alive(part, period, moments)?.of(part));
        }
        let table = Arc::new(self.of_parts(parts));
        let entry = (moments, Arc::downgrade(&table), facts);
        self.moments.lock().unwrap_or_else(PoisonError::into_inner).push(entry);
        Ok((table, facts))
    }

    /// Whether a source is this table at some moment.
    pub fn has_moment(&self, source: &Arc<dyn TableSource>) -> bool {
        let known = self.moments.lock().unwrap_or_else(PoisonError::into_inner);
        known.iter().any(|(_, table, _)| std::ptr::addr_eq(table.as_ptr(), Arc::as_ptr(source)))
    }
}

/// Which rows of a part were there.
enum Alive {
    All,
    None,
    /// All but these.
    Some(Vec<u32>),
}

impl Alive {
    fn of(self, part: &Arc<StoredSegment>) -> Option<Arc<StoredSegment>> {
        match self {
            Self::All => Some(Arc::clone(part)),
            Self::None => None,
            Self::Some(gone) => part.without(&gone).map(Arc::new),
        }
    }
}

fn alive(part: &StoredSegment, period: &SystemTime, (first, last): Moments) -> Result<Alive> {
    crate::control::checkpoint()?;
    let (Some(starts), Some(ends)) = (part.bounds(period.start)?, part.bounds(period.end)?) else {
        return Ok(Alive::None);
    };
    if starts.0 > last || ends.1 <= first {
        return Ok(Alive::None);
    }
    if starts.1 <= last && ends.0 > first {
        return Ok(Alive::All);
    }
    let (starts, ends) = (part.whole(period.start)?, part.whole(period.end)?);
    let (starts, ends) = (lanes(&starts), lanes(&ends));
    let outside = starts.iter().zip(ends).enumerate().filter(|(_, (start, end))| **start > last || **end <= first);
    Ok(Alive::Some(outside.map(|(row, _)| index(row)).collect()))
}
