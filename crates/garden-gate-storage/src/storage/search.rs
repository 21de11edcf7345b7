//! Searching sorted keys.

/// Guesses before the search goes on by halves.
const GUESSES: usize = 4;
/// How near a guess is assumed to be.
const NEAR: usize = 32;

/// How many of the keys, which ascend, are less than `least`. Where it appears is guessed from the keys at either end: O(1) for keys that are
/// spread evenly, O(log n) for any (interpolation search: Perl, Itai & Avni, CACM 1978).
pub(super) fn count_below(keys: &[u64], least: u64) -> usize {
    // All before `low` are less, and none from `high` on.
    let (mut low, mut high) = (0, keys.len());
    for _ in 0..GUESSES {
        if high - low <= NEAR {
            break;
        }
        let (first, last) = (keys[low], keys[high - 1]);
        if first >= least {
            return low;
        }
        if last < least {
            return high;
        }
        let guess = low + share_of(high - 1 - low, least - first, last - first);
        if keys[guess] < least {
            low = guess + 1;
            if guess + NEAR < high && keys[guess + NEAR] >= least {
                high = guess + NEAR;
            }
        } else {
            high = guess;
            if guess >= low + NEAR && keys[guess - NEAR] < least {
                low = guess - NEAR + 1;
            }
        }
    }
    low + keys[low..high].partition_point(|key| *key < least)
}

/// `part / whole` of so many, rounded down or a little further; `part` is no more than `whole`, which is not 0.
fn share_of(many: usize, part: u64, whole: u64) -> usize {
    // The product has to fit: the last digits of large numbers hardly matter.
    let shift = (u64::BITS - whole.leading_zeros()).saturating_sub(32);
    let many = u64::try_from(many).unwrap_or(u64::MAX).min(u64::from(u32::MAX));
    usize::try_from((part >> shift) * many / (whole >> shift)).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::count_below;

    #[test]
    fn counts_what_a_walk_counts() {
        let dense: Vec<u64> = (0..5000).map(|n| n * 3).collect();
        let skewed: Vec<u64> = (0..5000_u64).map(|n| n.pow(4)).collect();
        let equal = vec![7; 3000];
        let ends: Vec<u64> = std::iter::repeat_n(0, 2000).chain(std::iter::repeat_n(u64::MAX, 2000)).collect();
        let wide: Vec<u64> = (0..4000).map(|n| n << 52 | 5).collect();
        let far: Vec<u64> = (0..999).chain([u64::MAX - 1, u64::MAX]).collect();
        for keys in [vec![], vec![4], dense, skewed, equal, ends, wide, far] {
            let near = keys.iter().step_by(37).flat_map(|key| [key.saturating_sub(1), *key, key.saturating_add(1)]);
            for least in near.chain([0, 1, 6, 7, 8, 1 << 40, u64::MAX]) {
                let expected = keys.iter().take_while(|key| **key < least).count();
                assert_eq!(count_below(&keys, least), expected, "{least} among {} keys", keys.len());
            }
        }
    }
}
