//! Large parts of a table that is not committed yet, written ahead of their commit.

use super::store::{CELLS, FACTS, Store, failed, stored_table};
use super::store_state::Fresh;
use super::stored_segment::{SegmentData, StoredSegment};
use crate::catalog::Catalog;
use crate::diagnostic::Result;
use arrow::array::{Array, ArrayRef};
use std::sync::{Arc, PoisonError};

/// Parts of so many rows are put aside before their transaction commits, when they come to so many bytes; of less in unit tests.
const ASIDE_ROWS: usize = if cfg!(test) { 64 } else { 32_768 };
const ASIDE_BYTES: usize = if cfg!(test) { 1 << 10 } else { 64 << 20 };

impl Store {
    /// Writes large parts of a table that is not committed yet, once they have come to some size, so that a long load needs no
    /// more memory than that. They are in no list of tables: when the transaction is undone, or the program dies, they are garbage.
    ///
    /// # Errors
    /// 58030 when the file cannot be written.
    pub fn put_aside(self: &Arc<Self>, catalog: &Catalog, (schema, table): (&str, &str)) -> Result<()> {
        let Some(table) = catalog.table(schema, table).and_then(stored_table) else { return Ok(()) };
        let in_memory =
            |part: &Arc<StoredSegment>| match &*part.content().read().unwrap_or_else(PoisonError::into_inner) {
                SegmentData::Memory(columns) if part.count() >= ASIDE_ROWS => Some((Arc::clone(part), columns.clone())),
                _ => None,
            };
        let parts: Vec<(Arc<StoredSegment>, Vec<ArrayRef>)> = table.parts().iter().filter_map(in_memory).collect();
        let columns = parts.iter().flat_map(|(_, columns)| columns);
        if columns.map(Array::get_array_memory_size).sum::<usize>() < ASIDE_BYTES {
            return Ok(());
        }
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let first = state.next_part;
        let fresh: Vec<Fresh> =
            parts.into_iter().zip(first..).map(|((part, columns), id)| (part, id, columns)).collect();
        let list = state.list(fresh.iter().map(|(_, id, _)| *id));
        self.file.with_again(|file| self.write_aside(file, &fresh, &list))?;
        state.next_part += fresh.len() as u64;
        state.aside.extend(fresh.iter().map(|(_, id, _)| *id));
        drop(state);
        self.keep_stored(fresh);
        Ok(())
    }

    fn write_aside(&self, file: &redb::Database, fresh: &[Fresh], list: &[u8]) -> Result<()> {
        let bad = |error: redb::Error| failed(self.file.path(), error);
        let mut write = file.begin_write().map_err(|error| bad(error.into()))?;
        // It need not survive anything before the commit that is to come.
        write.set_durability(redb::Durability::None).map_err(|error| bad(error.into()))?;
        {
            let mut cells = write.open_table(CELLS).map_err(|error| bad(error.into()))?;
            for (_, id, columns) in fresh {
                self.write_part(&mut cells, *id, columns)?;
            }
            let mut facts = write.open_table(FACTS).map_err(|error| bad(error.into()))?;
            facts.insert("parts", list).map_err(|error| bad(error.into()))?;
        }
        write.commit().map_err(|error| bad(error.into()))
    }
}
