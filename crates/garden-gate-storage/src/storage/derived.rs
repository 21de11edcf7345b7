//! What is computed from the columns of a part and can be computed again: rows by their keys, sorted rows, columns without deleted
//! rows. Of parts in memory all of it is kept; of parts in a database file as much as there is room for, the oldest going first.

use std::collections::VecDeque;
use std::fmt::Debug;
use std::sync::{Arc, Mutex, PoisonError, RwLock, Weak};

/// Something that may be forgotten.
pub(super) trait Evictable: Debug + Send + Sync {
    /// Lets go of everything; those who use a piece of it keep that.
    fn forget(&self);
}

/// Pieces by their keys, with the bytes each takes. Those who look one up do not wait for each other.
#[derive(Debug)]
pub(super) struct Derived<K, V>(RwLock<Vec<(K, V, usize)>>);

impl<K, V> Default for Derived<K, V> {
    fn default() -> Self {
        Self(RwLock::default())
    }
}

impl<K: PartialEq, V: Clone> Derived<K, V> {
    /// The piece of a key, if it is there. O(pieces of the part).
    pub(super) fn find(&self, is_it: impl Fn(&K) -> bool) -> Option<V> {
        let pieces = self.0.read().unwrap_or_else(PoisonError::into_inner);
        pieces.iter().find(|(key, ..)| is_it(key)).map(|(_, piece, _)| piece.clone())
    }

    /// Keeps a piece that was computed.
    pub(super) fn keep(&self, key: K, piece: V, bytes: usize) {
        let mut pieces = self.0.write().unwrap_or_else(PoisonError::into_inner);
        // Two workers may have made the same.
        if !pieces.iter().any(|(known, ..)| *known == key) {
            pieces.push((key, piece, bytes));
        }
    }

    /// Bytes of all pieces.
    pub(super) fn bytes(&self) -> usize {
        self.0.read().unwrap_or_else(PoisonError::into_inner).iter().map(|(.., bytes)| bytes).sum()
    }
}

impl<K: Debug + Send + Sync, V: Debug + Send + Sync> Evictable for Derived<K, V> {
    fn forget(&self) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

/// How much is kept in all.
#[derive(Debug)]
pub(super) struct CacheBudget {
    most: usize,
    kept: Mutex<CacheEntry>,
}

/// What is kept, the oldest first, and its bytes together.
#[derive(Debug, Default)]
struct CacheEntry {
    pieces: VecDeque<(Weak<dyn Evictable>, usize)>,
    bytes: usize,
}

impl CacheBudget {
    /// Keeps at most so many bytes.
    pub(super) fn new(most: usize) -> Self {
        Self { most, kept: Mutex::default() }
    }

    /// Takes note of what has been kept, and forgets the oldest when it gets too much. O(1) on average.
    pub(super) fn note(&self, what: Weak<dyn Evictable>, bytes: usize) {
        let mut oldest: Vec<Arc<dyn Evictable>> = Vec::new();
        {
            let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            kept.pieces.push_back((what, bytes));
            kept.bytes += bytes;
            while kept.bytes > self.most
                && kept.pieces.len() > 1
                && let Some((what, bytes)) = kept.pieces.pop_front()
            {
                kept.bytes -= bytes;
                oldest.extend(what.upgrade());
            }
        }
        // Outside of the lock: letting go of a large piece takes time.
        oldest.iter().for_each(|what| what.forget());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_oldest_go_when_there_is_no_room() {
        let room = CacheBudget::new(100);
        let pieces: Vec<Arc<Derived<u8, u8>>> = (0..4).map(|_| Arc::default()).collect();
        for (piece, bytes) in pieces.iter().zip([40, 50, 30, 200]) {
            piece.keep(1, 7, bytes);
            let what: Arc<dyn Evictable> = Arc::clone(piece) as Arc<dyn Evictable>;
            room.note(Arc::downgrade(&what), bytes);
        }
        // 40 + 50 + 30 is too much: the first goes; with 200 more, all but that itself.
        let kept: Vec<Option<u8>> = pieces.iter().map(|piece| piece.find(|key| *key == 1)).collect();
        assert_eq!(kept, [None, None, None, Some(7)]);
        assert_eq!(pieces[3].bytes(), 200);
    }
}
