//! Hashed maps and sets with a hash for short keys: planning looks up column numbers and names, and the standard library's hash, made for
//! hostile input of any length, took a tenth of the time of planning a query of five joins.

/// The state of the hash: seeded per process, so that no input can be made to collide.
type State = foldhash::fast::RandomState;

/// A map from keys to values, in no order.
pub type HashMap<K, V> = std::collections::HashMap<K, V, State>;

/// A set of keys, in no order.
pub type HashSet<K> = std::collections::HashSet<K, State>;
