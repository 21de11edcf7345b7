//! Groups of integers that lie close together: the group of a key stands at its distance from the minimum.

use crate::diagnostic::Result;
use crate::types::index;

/// Marks a place whose key has not come.
const NONE: u32 = u32::MAX;
/// Places that there may be for each row that has come, and at least; past that the keys are scattered.
const PLACES_OF_ROW: usize = 16;
const FEW_PLACES: usize = 1 << 18;
/// Places that are added on either side, so that keys that ascend seldom make the array anew.
const ROOM: usize = 1 << 10;

/// Group numbers by key. O(1) a row, and O(places) each time their number doubles.
#[derive(Debug, Default)]
pub(super) struct DenseGroups {
    min: i64,
    groups: Vec<u32>,
    /// Rows that have come.
    rows: usize,
}

impl DenseGroups {
    /// Makes places for keys between two; `false` where there would be too many for so many more rows.
    ///
    /// # Errors
    /// HY001 where there is no memory for them besides what is held.
    pub(super) fn make_room(&mut self, (min, max): (i64, i64), rows: usize) -> Result<bool> {
        self.rows = self.rows.saturating_add(rows);
        let (mut from, mut to) = (i128::from(min), i128::from(max) + 1);
        if !self.groups.is_empty() {
            let known = i128::from(self.min);
            let end = known + self.groups.len() as i128;
            if from >= known && to <= end {
                return Ok(true);
            }
            // As much again on the side that grows.
            let more = (self.groups.len().max(ROOM)) as i128;
            from = if from < known { from.min(known - more).max(i128::from(i64::MIN)) } else { known };
            to = if to > end { to.max(end + more).min(i128::from(i64::MAX) + 1) } else { end };
        }
        let most = self.rows.saturating_mul(PLACES_OF_ROW).max(FEW_PLACES);
        let Ok(places) = usize::try_from(to - from) else { return Ok(false) };
        let (true, Ok(from)) = (places <= most, i64::try_from(from)) else { return Ok(false) };
        crate::control::reserve(places * size_of::<u32>(), 1)?;
        let mut groups = vec![NONE; places];
        if !self.groups.is_empty() {
            let shift = self.place(from).wrapping_neg();
            groups[shift..shift + self.groups.len()].copy_from_slice(&self.groups);
        }
        (self.min, self.groups) = (from, groups);
        Ok(true)
    }

    #[inline]
    fn place(&self, key: i64) -> usize {
        #[expect(clippy::cast_possible_truncation, reason = "the distance of a key that there is a place for")]
        let place = key.wrapping_sub(self.min).cast_unsigned() as usize;
        place
    }

    /// The group of a key that there is a place for; a new one is the next number, which `new` takes note of.
    #[inline]
    pub(super) fn group(&mut self, key: i64, new: impl FnOnce() -> u32) -> u32 {
        let place = self.place(key);
        let group = &mut self.groups[place];
        if *group == NONE {
            *group = new();
        }
        *group
    }

    /// The group of a key, where it has one.
    pub(super) fn find(&self, key: i64) -> Option<u32> {
        self.groups.get(self.place(key)).copied().filter(|group| *group != NONE)
    }

    /// Bytes that the table holds.
    pub(super) fn bytes(&self) -> usize {
        self.groups.capacity() * size_of::<u32>()
    }
}

/// The minimum and the maximum of keys.
pub(super) fn bounds(lanes: &[i64]) -> Option<(i64, i64)> {
    let first = *lanes.first()?;
    Some(lanes.iter().fold((first, first), |(min, max), lane| (min.min(*lane), max.max(*lane))))
}

/// The number of the next group.
pub(super) fn next_group(groups: &mut usize) -> u32 {
    *groups += 1;
    index(*groups - 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_keep_their_numbers_as_room_grows() {
        let mut dense = DenseGroups::default();
        let mut count = 0;
        for (keys, expected) in
            [([5_i64, 7, 5], [0_u32, 1, 0]), ([4_000, -3, 7], [2, 3, 1]), ([-60_000, 5, 4_000], [4, 0, 2])]
        {
            assert!(dense.make_room(bounds(&keys).unwrap(), keys.len()).unwrap());
            let found: Vec<u32> = keys.iter().map(|key| dense.group(*key, || next_group(&mut count))).collect();
            assert_eq!(found, expected);
        }
        assert_eq!(
            (dense.find(-3), dense.find(6), dense.find(i64::MAX), dense.find(i64::MIN)),
            (Some(3), None, None, None)
        );
        for far in [(0, i64::MAX), (i64::MIN, 0), (i64::MIN, i64::MAX), (0, 1 << 40)] {
            assert!(!dense.make_room(far, 2).unwrap(), "{far:?}");
        }
        assert_eq!(dense.find(4_000), Some(2));
        let mut ends = DenseGroups::default();
        assert!(
            ends.make_room((i64::MAX - 1, i64::MAX), 2).unwrap()
                && ends.make_room((i64::MAX - 9, i64::MAX), 2).unwrap()
        );
        assert_eq!(ends.group(i64::MAX, || 0), 0);
        let mut last = DenseGroups::default();
        assert!(last.make_room((i64::MAX - 900, i64::MAX - 800), 2).unwrap());
        assert!(last.make_room((i64::MAX - 1, i64::MAX), 2).unwrap());
        assert_eq!((last.group(i64::MAX, || 7), last.find(i64::MAX)), (7, Some(7)));
        let mut first = DenseGroups::default();
        assert!(first.make_room((i64::MIN + 900, i64::MIN + 901), 2).unwrap());
        assert!(first.make_room((i64::MIN, i64::MIN + 1), 2).unwrap());
        assert_eq!(first.group(i64::MIN, || 3), 3);
    }
}
