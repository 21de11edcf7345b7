//! How the integer keys of a join lie, and what is held of them therefore.

use super::integer_slots::IntegerSlots;
use super::keys::lane_bounds;
use crate::diagnostic::Result;
use arrow::array::ArrayRef;

/// Keys that lie between a minimum and a maximum of which there are no more than so many for each row are places of an array.
const PLACES_OF_ROW: usize = 4;
const FEW_PLACES: usize = 1 << 10;

/// Of which there are no more than so many for each row, or for each row that will look for its key, a bit says whether the key is there: a place costs three
/// sixteenths of a byte, and a slot of a hash table 32 to 64 bytes. Keys that are not there, most of them as a rule, cost a look at a bit
/// (bench `tpch`, q08: 128 ms with slots, 70 with bits).
const BITS_OF_ROW: usize = 512;
const BITS_OF_PROBE: usize = 4;
const MOST_BITS: usize = 1 << 27;

/// How integer keys lie: from the minimum, and how many there are up to the maximum.
#[derive(Clone, Copy)]
pub(super) enum Layout {
    Dense { min: i64, places: usize },
    Sparse { min: i64, places: usize },
    Scattered,
}

impl Layout {
    /// Bytes of a table over so many rows no two of which have one key.
    fn bytes(&self, rows: usize) -> usize {
        let table = match self {
            Self::Dense { places, .. } => places * 4,
            Self::Sparse { places, .. } => places / 64 * 12 + rows * 4,
            Self::Scattered => rows.saturating_mul(3 * IntegerSlots::SLOT_BYTES),
        };
        table.saturating_add(rows * 4)
    }

    /// This layout, or slots, which take less where places are many, when there is no memory for it.
    pub(super) fn that_fits(self, rows: usize) -> Result<Self> {
        if crate::control::reserve(self.bytes(rows), 1).is_ok() {
            return Ok(self);
        }
        crate::control::reserve(Self::Scattered.bytes(rows), 1)?;
        Ok(Self::Scattered)
    }
}

/// How a join table of `rows` rows by this key is laid out, when about `probes` rows will ask.
pub(super) fn layout_of(key: &ArrayRef, rows: usize, probes: usize) -> Layout {
    let bounds = lane_bounds(key).and_then(|(min, max)| {
        let places = usize::try_from(max.checked_sub(min)?).ok()?.checked_add(1)?;
        Some((min, places))
    });
    match bounds {
        Some((min, places)) if places <= rows.saturating_mul(PLACES_OF_ROW).max(FEW_PLACES) => {
            Layout::Dense { min, places }
        }
        Some((min, places))
            if places <= rows.saturating_mul(BITS_OF_ROW).max(probes.saturating_mul(BITS_OF_PROBE).min(MOST_BITS)) =>
        {
            Layout::Sparse { min, places }
        }
        _ => Layout::Scattered,
    }
}
