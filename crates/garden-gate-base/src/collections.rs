//! Hashed maps and sets with a hash for short keys: planning looks up column numbers and names all the time, for which the standard library's
//! hash is made with more care than they need.

/// The state of the hash: seeded per process, so that no input can be made to collide.
type State = foldhash::fast::RandomState;

/// A map from keys to values, in no order.
pub type HashMap<K, V> = std::collections::HashMap<K, V, State>;

/// A set of keys, in no order.
pub type HashSet<K> = std::collections::HashSet<K, State>;
