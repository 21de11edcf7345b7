/// A small generator of numbers that look random and are always the same (Steele et al., OOPSLA 2014: splitmix64).
pub(super) struct Random(u64);

impl Random {
    /// The numbers that follow from a seed.
    pub(super) fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut bits = self.0;
        bits = (bits ^ (bits >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        bits = (bits ^ (bits >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        bits ^ (bits >> 31)
    }

    /// A number from `low` up to, not including, `high`.
    pub(super) fn within(&mut self, low: i64, high: i64) -> i64 {
        let span = high.saturating_sub(low).max(1).unsigned_abs();
        low + (self.next() % span).cast_signed()
    }

    /// Small numbers are more frequent: the lesser of two draws.
    pub(super) fn skewed(&mut self, low: i64, high: i64) -> i64 {
        self.within(low, high).min(self.within(low, high))
    }

    /// True in `percent` of 100 cases.
    pub(super) fn chance(&mut self, percent: i64) -> bool {
        self.within(0, 100) < percent
    }

    /// One of several, each as often as the others.
    pub(super) fn pick<'a, T>(&mut self, items: &'a [T]) -> &'a T {
        let at = usize::try_from(self.within(0, i64::try_from(items.len()).unwrap_or(1))).unwrap_or(0);
        &items[at]
    }
}
