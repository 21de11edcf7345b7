//! Columns of a database file that were read or written last, up to a limit.

use arrow::array::{Array, ArrayRef};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

/// Bytes of columns kept in memory.
const CACHE_BYTES: usize = 256 << 20;

/// By the number of their part and their place in it; the oldest is let go of first.
#[derive(Debug, Default)]
pub(super) struct ColumnCache {
    columns: HashMap<(u64, u32), ArrayRef>,
    order: VecDeque<(u64, u32)>,
    bytes: usize,
}

impl ColumnCache {
    /// A column that was read lately.
    pub(super) fn get(&self, key: (u64, u32)) -> Option<ArrayRef> {
        self.columns.get(&key).map(Arc::clone)
    }

    /// Keeps a column; those read first go when there are too many.
    pub(super) fn put(&mut self, key: (u64, u32), column: &ArrayRef) {
        if self.columns.insert(key, Arc::clone(column)).is_none() {
            self.order.push_back(key);
            self.bytes += column.get_array_memory_size();
        }
        while self.bytes > CACHE_BYTES {
            let Some(oldest) = self.order.pop_front() else { return };
            if let Some(column) = self.columns.remove(&oldest) {
                self.bytes = self.bytes.saturating_sub(column.get_array_memory_size());
            }
        }
    }
}
