//! Numbers by keys of which a part of those between a minimum and a maximum are there.

/// What a key without a number has.
pub(super) const NONE: u32 = u32::MAX;

/// A bit for each key between the minimum and the maximum; a key that is there has the number at the place that counts the bits before
/// its own.
///
/// ```text
/// keys      10      12  13          16
/// bits       1   0   1   1   0   0   1    a word of 64
/// numbers    7       2   9           4    after `before` numbers of the words before this
/// ```
///
/// A quarter of a byte a key that may be there and four bytes one that is: of the orders of a few months every place lies in the second
/// level of the cache. Most keys that are not there are known by their bit (a semi-join reduction that is exact; Bloom, CACM 1970).
#[derive(Debug)]
pub(super) struct SparsePlaces {
    min: i64,
    bits: Vec<u64>,
    /// How many bits are set in the words before each.
    before: Vec<u32>,
    /// Of every key that is there, and [`NONE`] at the end for those that are not.
    numbers: Vec<u32>,
}

impl SparsePlaces {
    /// Places for `keys`, which lie less than `places` after `min`; none has a number yet.
    pub(super) fn of(min: i64, places: usize, keys: impl Iterator<Item = i64>) -> Self {
        let mut bits = vec![0_u64; places.div_ceil(64)];
        for key in keys {
            let at = distance(key, min);
            bits[at / 64] |= 1 << (at % 64);
        }
        let mut count = 0_u32;
        let mut before = Vec::with_capacity(bits.len());
        for word in &bits {
            before.push(count);
            count += word.count_ones();
        }
        Self { min, bits, before, numbers: vec![NONE; count as usize + 1] }
    }

    /// Where the number of a key is: at the end when it has none.
    #[inline]
    fn place(&self, key: i64) -> usize {
        let at = distance(key, self.min);
        let Some(word) = self.bits.get(at / 64) else { return self.numbers.len() - 1 };
        let bit = 1_u64 << (at % 64);
        if word & bit == 0 {
            return self.numbers.len() - 1;
        }
        (self.before[at / 64] + (word & (bit - 1)).count_ones()) as usize
    }

    /// The places of those keys that are there, and their numbers.
    pub(super) fn pairs(&self, keys: &[i64]) -> (Vec<u32>, Vec<u32>) {
        let (mut places, mut numbers) = (Vec::new(), Vec::new());
        for (key, place) in keys.iter().zip(0_u32..) {
            let number = self.place(*key);
            // As a rule few are there, so that the branch is guessed.
            if number + 1 != self.numbers.len() {
                places.push(place);
                numbers.push(self.numbers[number]);
            }
        }
        (places, numbers)
    }

    /// The number of a key; that of no key for keys that were never added.
    #[inline]
    pub(super) fn find(&self, key: i64) -> u32 {
        self.numbers[self.place(key)]
    }

    /// The number of one of the keys the places were made for.
    #[inline]
    pub(super) fn entry(&mut self, key: i64) -> &mut u32 {
        let place = self.place(key);
        &mut self.numbers[place]
    }

    /// Memory held, in bytes.
    pub(super) fn bytes(&self) -> usize {
        self.bits.len() * 12 + self.numbers.len() * 4
    }
}

/// How far a key lies from the minimum; far off where it lies before it.
#[inline]
pub(super) fn distance(key: i64, min: i64) -> usize {
    usize::try_from(key.wrapping_sub(min).cast_unsigned()).unwrap_or(usize::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_that_are_there_have_numbers_and_others_have_none() {
        for min in [i64::MIN, -70, 0, i64::MAX - 1000] {
            let keys: Vec<i64> = [0, 1, 63, 64, 65, 128, 200, 999].map(|at| min + at).to_vec();
            let mut places = SparsePlaces::of(min, 1000, keys.iter().copied());
            for (key, number) in keys.iter().zip(5..) {
                assert_eq!(places.find(*key), NONE);
                *places.entry(*key) = number;
            }
            for key in (0..1000).map(|at| min + at) {
                let number =
                    keys.iter().position(|known| *known == key).map_or(NONE, |at| u32::try_from(at).unwrap() + 5);
                assert_eq!(places.find(key), number, "{key}");
            }
            let outside = [min.wrapping_sub(1), min.wrapping_add(1024), i64::MAX, i64::MIN];
            for key in outside.into_iter().filter(|key| !keys.contains(key)) {
                assert_eq!(places.find(key), NONE, "{key}");
            }
        }
    }
}
