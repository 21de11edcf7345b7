//! Indexes in the database file: written with the commit that makes their part or them, found by part and signature.

use super::cell_format::framed;
use super::store::{Store, StoredColumns, failed, stored_table};
use super::store_state::Parts;
use super::stored_index::{HEADER, StoredIndex, cells_of, number_of};
use super::stored_segment::{SegmentData, StoredSegment};
use crate::catalog::Catalog;
use crate::diagnostic::{Error, Result};
use crate::logical::ScanIndex;
use redb::{ReadableDatabase, ReadableTable, TableDefinition};
use std::collections::HashSet;
use std::sync::atomic::Ordering;
use std::sync::{Arc, PoisonError};

/// By part, index and block.
const INDEXES: TableDefinition<'_, (u64, u32, u32), &[u8]> = TableDefinition::new("indexes");

/// Fewer rows are sorted in less time than it takes to read them in order.
const LEAST_ROWS: usize = if cfg!(test) { 64 } else { 4096 };

/// Parts of the file with the numbers of their indexes.
pub(super) type Indexed = HashSet<(u64, u32)>;

impl Store {
    /// Makes the table of indexes, in a file that has none yet.
    pub(super) fn make_indexes(&self, write: &redb::WriteTransaction) -> Result<()> {
        write.open_table(INDEXES).map(|_| ()).map_err(|error| failed(self.path(), error))
    }

    /// Writes the indexes over columns of all large parts that the file does not have yet. O(rows · log rows) for the rows of such parts.
    /// An index over an expression is sorted by who needs it.
    pub(super) fn write_indexes(
        &self,
        write: &redb::WriteTransaction,
        (catalog, parts): (&Catalog, &Parts),
        known: &Indexed,
    ) -> Result<Indexed> {
        let bad = |error: redb::Error| failed(self.path(), error);
        let mut blocks = write.open_table(INDEXES).map_err(|error| bad(error.into()))?;
        let mut written = Indexed::new();
        for (_, table) in catalog.tables() {
            let (Some(definition), Some(stored)) = (&table.definition, stored_table(table)) else { continue };
            let shapes: Vec<ScanIndex> = definition
                .all_indexes()
                .iter()
                .filter_map(|index| ScanIndex::over_columns(definition, index))
                .collect();
            for part in stored.parts().iter().filter(|part| part.count() >= LEAST_ROWS) {
                let Some(id) = number_in_file(part, parts) else { continue };
                for shape in &shapes {
                    let number = number_of(&shape.signature);
                    if known.contains(&(id, number)) || !written.insert((id, number)) {
                        continue;
                    }
                    if blocks.get((id, number, HEADER)).map_err(|error| bad(error.into()))?.is_some() {
                        continue;
                    }
                    crate::control::checkpoint()?;
                    for (block, bytes) in cells_of(&*part.index(shape)?, &shape.signature) {
                        let bytes = framed(&bytes);
                        self.written.fetch_add(bytes.len() as u64, Ordering::Relaxed);
                        blocks.insert((id, number, block), bytes.as_slice()).map_err(|error| bad(error.into()))?;
                    }
                }
            }
        }
        Ok(written)
    }

    /// Takes the indexes of parts out of the file.
    pub(super) fn remove_indexes(&self, write: &redb::WriteTransaction, parts: &[u64]) -> Result<()> {
        let bad = |error: redb::Error| failed(self.path(), error);
        let mut blocks = write.open_table(INDEXES).map_err(|error| bad(error.into()))?;
        for id in parts {
            let range = (*id, 0, 0)..=(*id, u32::MAX, u32::MAX);
            blocks.retain_in(range, |_, _| false).map_err(|error| bad(error.into()))?;
        }
        Ok(())
    }
}

/// The number of a part in the file, once it has one.
fn number_in_file(part: &Arc<StoredSegment>, parts: &Parts) -> Option<u64> {
    match &*part.content().read().unwrap_or_else(PoisonError::into_inner) {
        SegmentData::Stored(cells) => Some(cells.part),
        SegmentData::Memory(_) => parts.number_of(part),
    }
}

impl StoredColumns {
    /// An index of the part, when the file has it.
    pub(super) fn index(&self, signature: &str) -> Result<Option<StoredIndex>> {
        let id = number_of(signature);
        let Some(header) = self.block(id, HEADER)? else { return Ok(None) };
        Ok(StoredIndex::new(&header, id, signature))
    }

    /// A block of an index.
    pub(super) fn index_block(&self, id: u32, number: u32) -> Result<Vec<u8>> {
        self.block(id, number)?.ok_or_else(|| self.damaged_index())
    }

    fn block(&self, id: u32, number: u32) -> Result<Option<Vec<u8>>> {
        let bad = |error: redb::Error| failed(self.store.path(), error);
        self.store.file.with(|file| {
            let read = file.begin_read().map_err(|error| bad(error.into()))?;
            let blocks = match read.open_table(INDEXES) {
                Ok(blocks) => blocks,
                // A file of an earlier format that is only read.
                Err(redb::TableError::TableDoesNotExist(_)) => return Ok(None),
                Err(error) => return Err(bad(error.into())),
            };
            let found = blocks.get((self.part, id, number)).map_err(|error| bad(error.into()))?;
            found.map(|bytes| Ok(self.store.checked(bytes.value(), "an index")?.to_vec())).transpose()
        })
    }

    /// The error of an index that cannot be read.
    pub(super) fn damaged_index(&self) -> Error {
        self.store.file.damaged("an index")
    }
}
