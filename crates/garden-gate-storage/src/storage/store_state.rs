//! What a database file holds, and what a commit adds to it.

use super::cell_format::framed;
use super::index_cells::Indexed;
use super::statistics_text;
use super::stored_segment::StoredSegment;
use arrow::array::ArrayRef;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

/// A part with its number in the file and its columns.
pub(super) type Fresh = (Arc<StoredSegment>, u64, Vec<ArrayRef>);

/// What the file holds.
#[derive(Debug, Default)]
pub(super) struct State {
    pub(super) next_part: u64,
    /// For each stored part how many rows of it the file says are left.
    pub(super) left: HashMap<u64, usize>,
    /// Parts of tables that are not committed yet. After a crash nobody knows them, and they are garbage.
    pub(super) aside: BTreeSet<u64>,
    /// Parts that nobody uses any more.
    pub(super) garbage: Vec<u64>,
    /// Parts of the tables that the file lists.
    pub(super) listed: HashSet<u64>,
    /// Which statistics the file holds.
    pub(super) statistics: statistics_text::Signature,
    /// The number of the last commit that the file lists.
    pub(super) last_commit: u64,
    /// Indexes that the file is known to have.
    pub(super) indexed: Indexed,
}

impl State {
    /// The parts that the file holds: those committed and put aside, with some more, without those that nobody uses. It is kept
    /// in the file, so that opening it need not look at all of them.
    pub(super) fn list(&self, more: impl Iterator<Item = u64>) -> Vec<u8> {
        let stored: BTreeSet<u64> = self.left.keys().chain(&self.aside).copied().chain(more).collect();
        let used = stored.into_iter().filter(|id| !self.garbage.contains(id));
        framed(&used.flat_map(u64::to_le_bytes).collect::<Vec<u8>>())
    }
}

/// What a commit wrote.
pub(super) struct Written {
    pub(super) parts: Parts,
    pub(super) indexed: Indexed,
    pub(super) statistics: statistics_text::Signature,
}

/// Parts that a commit writes: those that are new to the file, and how many rows of each are left.
#[derive(Default)]
pub(super) struct Parts {
    pub(super) next_part: u64,
    pub(super) fresh: Vec<Fresh>,
    pub(super) left: Vec<(u64, usize)>,
    /// All that the list of tables refers to.
    pub(super) listed: HashSet<u64>,
    /// Those put aside of which a column was written anew.
    pub(super) replaced: Vec<(Arc<StoredSegment>, (u64, u32), ArrayRef)>,
}

impl Parts {
    /// The number that a part which is new to the file has in it.
    pub(super) fn number_of(&self, part: &StoredSegment) -> Option<u64> {
        let is_it = |(known, ..): &&Fresh| std::ptr::eq(known.content(), part.content());
        self.fresh.iter().find(is_it).map(|(_, id, _)| *id)
    }
}
