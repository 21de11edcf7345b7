//! Encoded keys, one after the other, in memory and in the file.

use crate::types::index;

#[derive(Debug, Default)]
pub(super) struct SortedKeys {
    /// Where each key ends among the bytes.
    ends: Vec<usize>,
    bytes: Vec<u8>,
}

impl SortedKeys {
    /// Keys that come in their order.
    pub(super) fn of<'k>(keys: impl Iterator<Item = &'k [u8]>) -> Self {
        let mut all = Self::default();
        for key in keys {
            all.bytes.extend(key);
            all.ends.push(all.bytes.len());
        }
        all
    }

    /// Adds keys that come after all these.
    pub(super) fn append(&mut self, other: &Self) {
        let before = self.bytes.len();
        self.bytes.extend(&other.bytes);
        self.ends.extend(other.ends.iter().map(|end| before + end));
    }

    /// How many keys there are.
    pub(super) fn len(&self) -> usize {
        self.ends.len()
    }

    /// Bytes in memory.
    pub(super) fn size(&self) -> usize {
        self.ends.capacity() * size_of::<usize>() + self.bytes.capacity()
    }

    /// A key.
    pub(super) fn get(&self, at: usize) -> &[u8] {
        let from = if at == 0 { 0 } else { self.ends[at - 1] };
        &self.bytes[from..self.ends[at]]
    }

    /// The keys in their order.
    pub(super) fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.len()).map(|at| self.get(at))
    }

    /// The length that all keys have, or none and the length of each; then their bytes, byte by byte of all keys where they have one length:
    /// neighbours begin alike, and alike bytes side by side take little room once they are compressed.
    pub(super) fn write(&self, out: &mut Vec<u8>) {
        let width = self.iter().next().map_or(0, <[u8]>::len);
        if width > 0 && self.iter().all(|key| key.len() == width) {
            out.extend(index(width).to_le_bytes());
            (0..width).for_each(|at| out.extend(self.iter().map(|key| key[at])));
            return;
        }
        out.extend(0_u32.to_le_bytes());
        self.iter().for_each(|key| out.extend(index(key.len()).to_le_bytes()));
        out.extend(&self.bytes);
    }

    /// So many keys from what [`SortedKeys::write`] made; `None` when bytes are missing or left over.
    pub(super) fn read(bytes: &[u8], count: usize) -> Option<Self> {
        let (width, bytes) = bytes.split_at_checked(4)?;
        let width = numbers(width).next()? as usize;
        if width > 0 {
            if bytes.len() != count.checked_mul(width)? {
                return None;
            }
            let mut keys = vec![0; bytes.len()];
            for (at, column) in bytes.chunks_exact(count.max(1)).enumerate() {
                column.iter().zip(keys[at..].iter_mut().step_by(width)).for_each(|(byte, place)| *place = *byte);
            }
            return Some(Self { ends: (1..=count).map(|key| key * width).collect(), bytes: keys });
        }
        let (lengths, bytes) = bytes.split_at_checked(count.checked_mul(4)?)?;
        let mut end = 0_usize;
        let ends: Vec<usize> = numbers(lengths)
            .map(|length| {
                end += length as usize;
                end
            })
            .collect();
        (end == bytes.len()).then(|| Self { ends, bytes: bytes.to_vec() })
    }
}

/// Numbers of four bytes each, the lowest byte first.
pub(super) fn numbers(bytes: &[u8]) -> impl Iterator<Item = u32> {
    bytes.chunks_exact(4).map(|four| u32::from_le_bytes([four[0], four[1], four[2], four[3]]))
}
