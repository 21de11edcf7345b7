//! A database file that is only read: what the key-value crate writes all the same, as when it repairs a file whose program was killed, stays in
//! memory. Any number of processes may read a file at once, as long as none writes to it.

use redb::backends::FileBackend;
use redb::{BackendError, StorageBackend};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::fs::File;
use std::io;
use std::ops::Bound;
use std::sync::{Mutex, PoisonError};

const PAGE: u64 = 4096;
const PAGE_BYTES: usize = 4096;

#[derive(Debug)]
pub(super) struct ReadOnlyFile {
    file: FileBackend,
    changes: Mutex<Changes>,
}

#[derive(Debug)]
struct Changes {
    length: u64,
    /// How much of the file itself still counts.
    kept: u64,
    pages: HashMap<u64, Box<[u8]>>,
}

impl ReadOnlyFile {
    /// A file that is never written: changes stay in memory.
    pub(super) fn new(file: File) -> io::Result<Self> {
        let length = file.metadata()?.len();
        let file = FileBackend::new(file).map_err(io::Error::other)?;
        Ok(Self { file, changes: Mutex::new(Changes { length, kept: length, pages: HashMap::new() }) })
    }

    /// The bytes of a page as the file has them, zeros after its end.
    fn original(&self, page: u64, kept: u64) -> io::Result<Box<[u8]>> {
        let mut bytes = vec![0; PAGE_BYTES].into_boxed_slice();
        let there = usize::try_from(kept.saturating_sub(page * PAGE).min(PAGE)).unwrap_or(PAGE_BYTES);
        if there > 0 {
            self.file.read(page * PAGE, &mut bytes[..there])?;
        }
        Ok(bytes)
    }
}

/// The pages of a range: of each its number, where in it the range begins, and how many bytes of it are meant.
fn pages(offset: u64, length: usize) -> impl Iterator<Item = (u64, usize, usize)> {
    let end = offset + length as u64;
    (offset / PAGE..end.div_ceil(PAGE)).map(move |page| {
        let from = offset.max(page * PAGE);
        let until = end.min((page + 1) * PAGE);
        let within = |at: u64| usize::try_from(at).unwrap_or(PAGE_BYTES);
        (page, within(from - page * PAGE), within(until - from))
    })
}

impl StorageBackend for ReadOnlyFile {
    fn len(&self) -> io::Result<u64> {
        Ok(self.changes.lock().unwrap_or_else(PoisonError::into_inner).length)
    }

    fn read(&self, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let changes = self.changes.lock().unwrap_or_else(PoisonError::into_inner);
        let end = offset + out.len() as u64;
        if end > changes.length {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        if changes.pages.is_empty() && end <= changes.kept {
            drop(changes);
            return self.file.read(offset, out);
        }
        let mut done = 0;
        for (page, from, count) in pages(offset, out.len()) {
            let part = &mut out[done..done + count];
            match changes.pages.get(&page) {
                Some(bytes) => part.copy_from_slice(&bytes[from..from + count]),
                None => part.copy_from_slice(&self.original(page, changes.kept)?[from..from + count]),
            }
            done += count;
        }
        Ok(())
    }

    fn set_len(&self, length: u64) -> io::Result<()> {
        let mut changes = self.changes.lock().unwrap_or_else(PoisonError::into_inner);
        if length < changes.length {
            changes.pages.retain(|page, _| page * PAGE < length);
            if let Some(bytes) = changes.pages.get_mut(&(length / PAGE)) {
                bytes[usize::try_from(length % PAGE).unwrap_or(0)..].fill(0);
            }
        }
        changes.kept = changes.kept.min(length);
        changes.length = length;
        Ok(())
    }

    fn sync_data(&self) -> io::Result<()> {
        Ok(())
    }

    fn write(&self, offset: u64, data: &[u8]) -> io::Result<()> {
        let mut changes = self.changes.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = changes.kept;
        let mut done = 0;
        for (page, from, count) in pages(offset, data.len()) {
            let bytes = match changes.pages.entry(page) {
                Entry::Occupied(kept) => kept.into_mut(),
                Entry::Vacant(place) => place.insert(self.original(page, kept)?),
            };
            bytes[from..from + count].copy_from_slice(&data[done..done + count]);
            done += count;
        }
        changes.length = changes.length.max(offset + data.len() as u64);
        Ok(())
    }

    fn close(&self) -> io::Result<()> {
        self.file.close()
    }

    // Whoever reads shares the file with others who read, whatever the crate would do with it.

    fn try_lock_range(&self, start: Bound<u64>, end: Bound<u64>) -> Result<bool, BackendError> {
        self.file.try_lock_shared_range(start, end)
    }

    fn try_lock_shared_range(&self, start: Bound<u64>, end: Bound<u64>) -> Result<bool, BackendError> {
        self.file.try_lock_shared_range(start, end)
    }

    fn lock_range(&self, start: Bound<u64>, end: Bound<u64>) -> Result<(), BackendError> {
        self.file.lock_shared_range(start, end)
    }

    fn lock_shared_range(&self, start: Bound<u64>, end: Bound<u64>) -> Result<(), BackendError> {
        self.file.lock_shared_range(start, end)
    }

    fn unlock_range(&self, start: Bound<u64>, end: Bound<u64>) -> Result<(), BackendError> {
        self.file.unlock_range(start, end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn writes_are_seen_and_never_reach_the_file() {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        let original: Vec<u8> = (0..10_000_u32).map(|at| u8::try_from(at % 251).unwrap()).collect();
        file.write_all(&original).unwrap();
        let only = ReadOnlyFile::new(File::open(file.path()).unwrap()).unwrap();
        let mut expected = original.clone();
        for (offset, data) in [(0, vec![1; 3]), (4090, vec![2; 20]), (9_995, vec![3; 5_000]), (12_288, vec![4; 1])] {
            only.write(offset as u64, &data).unwrap();
            expected.resize(expected.len().max(offset + data.len()), 0);
            expected[offset..offset + data.len()].copy_from_slice(&data);
        }
        let read = |only: &ReadOnlyFile, length: usize| {
            let mut bytes = vec![9; length];
            only.read(0, &mut bytes).unwrap();
            bytes
        };
        assert_eq!(read(&only, expected.len()), expected);
        only.set_len(5_000).unwrap();
        only.set_len(11_000).unwrap();
        expected.truncate(5_000);
        expected.resize(11_000, 0);
        assert_eq!(read(&only, 11_000), expected);
        assert!(only.read(10_999, &mut [0; 2]).is_err());
        assert_eq!(std::fs::read(file.path()).unwrap(), original);
    }
}
