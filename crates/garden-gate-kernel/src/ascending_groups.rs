//! Groups of integers that come in ascending order, as those of a table that was loaded by its key do.

use super::keys::integer_lanes;
use crate::types::index;
use arrow::array::{Array, ArrayRef};

/// The keys so far, each greater than the one before it: a key is known or new by the last one. O(1) a row, and 8 bytes a group, where places of
/// keys take four for each key between the first and the last (bench `tpch`, q18).
#[derive(Debug, Default)]
pub(super) struct AscendingGroups {
    pub(super) keys: Vec<i64>,
    /// Rows that have come.
    pub(super) rows: usize,
}

impl AscendingGroups {
    /// The group of each row; `false`, and nothing done, when a key is less than one before it, or NULL.
    pub(super) fn assign(&mut self, key: &ArrayRef, ids: &mut Vec<u32>) -> bool {
        let lanes = integer_lanes(key).unwrap_or_default();
        let Some(first) = lanes.first() else { return true };
        let ascends = self.keys.last().is_none_or(|last| last <= first) && key.null_count() == 0;
        if !ascends || lanes.windows(2).any(|pair| pair[0] > pair[1]) {
            return false;
        }
        self.rows += lanes.len();
        let mut last = self.keys.last().copied();
        let mut group = index(self.keys.len()).wrapping_sub(1);
        ids.extend(lanes.iter().map(|lane| {
            if last != Some(*lane) {
                self.keys.push(*lane);
                last = Some(*lane);
                group = group.wrapping_add(1);
            }
            group
        }));
        true
    }

    /// Several lists of ascending keys as one, and the place in it of each key of each list.
    pub(super) fn merged(lists: &[&[i64]]) -> (Self, Vec<Vec<u32>>) {
        let mut next = vec![0; lists.len()];
        let mut maps: Vec<Vec<u32>> = lists.iter().map(|list| Vec::with_capacity(list.len())).collect();
        let mut keys: Vec<i64> = Vec::with_capacity(lists.iter().map(|list| list.len()).sum());
        while let Some(least) = lists.iter().zip(&next).filter_map(|(list, at)| list.get(*at)).min().copied() {
            for ((list, at), map) in lists.iter().zip(&mut next).zip(&mut maps) {
                if list.get(*at) == Some(&least) {
                    map.push(index(keys.len()));
                    *at += 1;
                }
            }
            keys.push(least);
        }
        let rows = keys.len();
        (Self { keys, rows }, maps)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::Int64Array;
    use std::sync::Arc;

    #[test]
    fn keys_that_ascend_are_numbered_and_others_are_refused() {
        let array = |keys: &[Option<i64>]| -> ArrayRef { Arc::new(Int64Array::from(keys.to_vec())) };
        let mut groups = AscendingGroups::default();
        let mut ids = Vec::new();
        for (keys, taken) in [
            (vec![Some(-5), Some(-5), Some(0)], true),
            (vec![Some(0), Some(7)], true),
            (vec![], true),
            (vec![Some(8), Some(7)], false),
            (vec![Some(6)], false),
            (vec![Some(9), None], false),
            (vec![Some(i64::MAX)], true),
        ] {
            assert_eq!(groups.assign(&array(&keys), &mut ids), taken, "{keys:?}");
        }
        assert_eq!(ids, [0, 0, 1, 1, 2, 3]);
        assert_eq!(groups.keys, [-5, 0, 7, i64::MAX]);
    }

    #[test]
    fn lists_are_merged_by_their_keys() {
        let (merged, maps) = AscendingGroups::merged(&[&[1, 4, 6], &[], &[2, 4, 9]]);
        assert_eq!(merged.keys, [1, 2, 4, 6, 9]);
        assert_eq!(maps, [vec![0, 2, 3], vec![], vec![1, 2, 4]]);
    }
}
