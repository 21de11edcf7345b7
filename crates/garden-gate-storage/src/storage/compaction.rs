//! Room in the file that nothing uses: given back when it is asked for, and when a file is closed to which much has been written.

use super::cell_format::framed;
use super::open_file::FileAccess;
use super::store::{CELLS, FACTS, MASKS, Store, failed, remove};
use crate::diagnostic::{Error, Result, SqlState};
use std::collections::BTreeSet;
use std::sync::PoisonError;
use std::sync::atomic::Ordering;

/// A file is compacted when it is closed once such a part of it has been written: then that cost about as much.
const WRITTEN_SHARE: u64 = 8;

/// What compacting a database file made of it, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FileSize {
    /// Before.
    pub before: u64,
    /// After.
    pub after: u64,
}

impl Store {
    /// Moves what the file holds to its beginning, and cuts off the rest.
    ///
    /// # Errors
    /// 58030 when the file cannot be written, or is read meanwhile.
    pub fn compact(&self) -> Result<FileSize> {
        let before = self.bytes();
        self.file.with_again(|file| self.clear(file))?;
        self.file.alone(|file| {
            // A pass moves what lies after; when nothing moves any more, the file is as small as it gets.
            while file.compact().map_err(|error| self.not_compacted(error))? {}
            Ok(())
        })?;
        self.written.store(0, Ordering::Relaxed);
        Ok(FileSize { before, after: self.bytes() })
    }

    /// Takes out what no table that the file lists has, and nobody reads. What is listed stays, whoever still uses it.
    fn clear(&self, file: &redb::Database) -> Result<()> {
        let bad = |error: redb::Error| failed(self.path(), error);
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let gone: Vec<u64> = state.garbage.iter().copied().filter(|id| !state.listed.contains(id)).collect();
        if gone.is_empty() {
            return Ok(());
        }
        let write = file.begin_write().map_err(|error| bad(error.into()))?;
        {
            let mut cells = write.open_table(CELLS).map_err(|error| bad(error.into()))?;
            let mut masks = write.open_table(MASKS).map_err(|error| bad(error.into()))?;
            remove(&gone, &mut cells, &mut masks).map_err(bad)?;
            let mut facts = write.open_table(FACTS).map_err(|error| bad(error.into()))?;
            let left: BTreeSet<u64> = state.left.keys().chain(&state.aside).copied().collect();
            let list: Vec<u8> = left.into_iter().filter(|id| !gone.contains(id)).flat_map(u64::to_le_bytes).collect();
            facts.insert("parts", framed(&list).as_slice()).map_err(|error| bad(error.into()))?;
        }
        self.remove_indexes(&write, &gone)?;
        write.commit().map_err(|error| bad(error.into()))?;
        for id in gone {
            state.left.remove(&id);
            state.aside.remove(&id);
            state.garbage.retain(|known| *known != id);
        }
        Ok(())
    }

    fn not_compacted(&self, error: redb::CompactionError) -> Error {
        match error {
            redb::CompactionError::Storage(error) => failed(self.path(), error),
            other => {
                let message = format!("the database file cannot be compacted now: {other}");
                Error::new(SqlState::FILE_ACCESS, message).caused_by(other).in_file(self.path(), None)
            }
        }
    }

    fn bytes(&self) -> u64 {
        self.path().metadata().map_or(0, |metadata| metadata.len())
    }
}

impl Drop for Store {
    fn drop(&mut self) {
        // What is lost when it fails is room only.
        let written = self.written.load(Ordering::Relaxed);
        if self.access() == FileAccess::ReadOnly || written == 0 {
            return;
        }
        if written > self.bytes() / WRITTEN_SHARE {
            drop(self.compact());
        } else {
            drop(self.file.with_again(|file| self.clear(file)));
        }
    }
}
