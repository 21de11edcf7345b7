//! Numbers by 64-bit keys, where these lie far apart.

use super::keys::mix;

/// What a key without a number has.
pub(super) const NONE: u32 = u32::MAX;

/// A key and its number; [`NONE`] where the slot is free.
#[derive(Clone, Copy, Debug)]
struct Slot {
    key: i64,
    number: u32,
}

const FREE: Slot = Slot { key: 0, number: NONE };

/// A hash table of integers with open addressing, at most half full: a key stands in the first free slot from the place of its hash on.
///
/// ```text
/// slots   │ 17: 3 │ free │ 42: 0 │ 58: 1 │ free │ …      16 bytes each, four in a line of the cache
///                          ▲ 42 and 58 have one place
/// ```
///
/// A lookup reads one line of the cache nearly always, and lookups one after the other do not wait for each other; a table of control bytes
/// beside the slots reads two. With that bench `tpch` took 390 ms for q09, and 307 with these and [`super::sparse_places::SparsePlaces`].
#[derive(Debug)]
pub(super) struct IntegerSlots {
    /// As many as a power of two.
    slots: Vec<Slot>,
    used: usize,
}

impl IntegerSlots {
    /// Bytes of a slot; a key has between two and four slots.
    pub(super) const SLOT_BYTES: usize = size_of::<Slot>();

    /// With room for so many keys.
    pub(super) fn with_capacity(keys: usize) -> Self {
        let slots = (2 * keys).next_power_of_two().max(16);
        Self { slots: vec![FREE; slots], used: 0 }
    }

    /// Keys for which there is room.
    pub(super) fn free(&self) -> usize {
        (self.slots.len() / 2).saturating_sub(self.used)
    }

    /// The place of a key, or of the free slot where it would be.
    #[inline]
    fn place(&self, key: i64, hash: u64) -> usize {
        let mask = self.slots.len() - 1;
        let mut at = truncated(hash) & mask;
        while self.slots[at].number != NONE && self.slots[at].key != key {
            at = (at + 1) & mask;
        }
        at
    }

    /// The number of a key with this hash, or [`NONE`].
    #[inline]
    pub(super) fn find(&self, key: i64, hash: u64) -> u32 {
        self.slots[self.place(key, hash)].number
    }

    /// The number of a key with this hash, which a new one gets from `number`.
    #[inline]
    pub(super) fn entry(&mut self, key: i64, hash: u64, number: impl FnOnce() -> u32) -> &mut u32 {
        let mut at = self.place(key, hash);
        if self.slots[at].number == NONE {
            if self.free() == 0 {
                self.grow();
                at = self.place(key, hash);
            }
            self.used += 1;
            self.slots[at] = Slot { key, number: number() };
        }
        &mut self.slots[at].number
    }

    #[cold]
    fn grow(&mut self) {
        let larger = vec![FREE; self.slots.len() * 2];
        for slot in std::mem::replace(&mut self.slots, larger) {
            if slot.number != NONE {
                let at = self.place(slot.key, mix(slot.key));
                self.slots[at] = slot;
            }
        }
    }

    /// Memory held, in bytes.
    pub(super) fn bytes(&self) -> usize {
        self.slots.len() * Self::SLOT_BYTES
    }
}

#[inline]
#[expect(clippy::cast_possible_truncation, reason = "the lower bits of a hash are a hash")]
fn truncated(hash: u64) -> usize {
    hash as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_have_their_numbers_when_the_table_grows_and_others_have_none() {
        let mut slots = IntegerSlots::with_capacity(0);
        let keys: Vec<i64> = (0..5000).map(|at| at * 1_000_003 - 77).chain([i64::MIN, i64::MAX, 0]).collect();
        for (key, number) in keys.iter().zip(0..) {
            assert_eq!(*slots.entry(*key, mix(*key), || number), number);
            assert_eq!(*slots.entry(*key, mix(*key), || 9), number, "a known key keeps its number");
        }
        for (key, number) in keys.iter().zip(0..) {
            assert_eq!(slots.find(*key, mix(*key)), number);
        }
        assert_eq!(slots.find(1, mix(1)), NONE);
        assert!(slots.free() > 0 && slots.bytes() >= 2 * 5000 * IntegerSlots::SLOT_BYTES);
    }
}
