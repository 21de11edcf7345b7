//! An index of a part as the file keeps it: its keys in order, cut into blocks, so that a lookup reads a few of them and not the whole.
//!
//! ```text
//! header   signature · first key of each block             (block number u32::MAX)
//! block    count · row numbers · lengths of keys · keys     (numbers have four bytes)
//! ```
//!
//! Each is a cell of its own after a CRC-32; blocks are compressed.

use super::index::PartIndex;
use super::key_range::ByteRange;
use super::packed_column::{compressed, decompressed};
use super::sorted_keys::{SortedKeys, numbers};
use super::store::StoredColumns;
use crate::diagnostic::Result;
use crate::types::index;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Rows of a block.
const BLOCK_ROWS: usize = 4096;
/// After so many reads of blocks an index is read whole, and kept.
const MOST_READS: usize = 64;
/// The number of the header among the blocks.
pub(super) const HEADER: u32 = u32::MAX;

/// An index of which the header is in memory.
#[derive(Debug)]
pub(super) struct StoredIndex {
    firsts: SortedKeys,
    id: u32,
    reads: AtomicUsize,
}

/// Some rows in the order of their keys.
#[derive(Debug)]
struct Block {
    rows: Vec<u32>,
    keys: SortedKeys,
}

fn counted(bytes: &[u8]) -> Option<(usize, &[u8])> {
    let (count, rest) = bytes.split_at_checked(4)?;
    Some((numbers(count).next()? as usize, rest))
}

/// The number of an index among those of its part. Two of one number are told apart by their signatures.
pub(super) fn number_of(signature: &str) -> u32 {
    crc32fast::hash(signature.as_bytes())
}

/// Header and blocks of an index, with the number of each.
pub(super) fn cells_of(known: &PartIndex, signature: &str) -> Vec<(u32, Vec<u8>)> {
    let rows = known.order();
    let mut cells = Vec::new();
    for (number, block) in rows.chunks(BLOCK_ROWS).enumerate() {
        let from = number * BLOCK_ROWS;
        let mut bytes = index(block.len()).to_le_bytes().to_vec();
        block.iter().for_each(|row| bytes.extend(row.to_le_bytes()));
        SortedKeys::of((from..from + block.len()).map(|at| known.key(at))).write(&mut bytes);
        cells.push((index(number), compressed(bytes)));
    }
    let mut header = index(signature.len()).to_le_bytes().to_vec();
    header.extend(signature.as_bytes());
    header.extend(index(cells.len()).to_le_bytes());
    SortedKeys::of((0..rows.len()).step_by(BLOCK_ROWS).map(|at| known.key(at))).write(&mut header);
    cells.push((HEADER, header));
    cells
}

impl StoredIndex {
    /// From its header; `None` when that is of another index.
    pub(super) fn new(header: &[u8], id: u32, signature: &str) -> Option<Self> {
        let (length, rest) = counted(header)?;
        let (own, rest) = rest.split_at_checked(length)?;
        let (count, rest) = counted(rest)?;
        let firsts = SortedKeys::read(rest, count)?;
        (own == signature.as_bytes()).then(|| Self { firsts, id, reads: AtomicUsize::new(0) })
    }

    fn block(&self, cells: &StoredColumns, number: usize) -> Result<Block> {
        let bytes = cells.index_block(self.id, index(number))?;
        super::cell_format::check_codec(&bytes)?;
        let read = || {
            let bytes = decompressed(&bytes)?;
            let (count, rest) = counted(&bytes)?;
            let (rows, rest) = rest.split_at_checked(count.checked_mul(4)?)?;
            Some(Block { rows: numbers(rows).collect(), keys: SortedKeys::read(rest, count)? })
        };
        read().ok_or_else(|| cells.damaged_index())
    }

    /// Whether it has been read so often that it pays to have it in memory.
    pub(super) fn is_worn(&self) -> bool {
        self.reads.load(Ordering::Relaxed) >= MOST_READS
    }

    /// The rows whose keys lie in these ranges, deleted ones among them, in the order of their keys. O(log rows) and the blocks they lie in.
    pub(super) fn rows_in(&self, cells: &StoredColumns, ranges: &[ByteRange]) -> Result<Vec<u32>> {
        let mut found = Vec::new();
        let mut known: Option<(usize, Block)> = None;
        let blocks = self.firsts.len();
        for range in ranges {
            let below = (0..blocks).take_while(|at| range.is_above(self.firsts.get(*at))).count();
            for number in below.saturating_sub(1)..blocks {
                if !range.reaches(self.firsts.get(number)) {
                    break;
                }
                if known.as_ref().is_none_or(|(last, _)| *last != number) {
                    self.reads.fetch_add(1, Ordering::Relaxed);
                    known = Some((number, self.block(cells, number)?));
                }
                let Some((_, block)) = &known else { break };
                let within = (0..block.keys.len()).filter(|at| {
                    let key = block.keys.get(*at);
                    !range.is_above(key) && range.reaches(key)
                });
                found.extend(within.map(|at| block.rows[at]));
            }
        }
        Ok(found)
    }

    /// The index as a whole.
    pub(super) fn whole(&self, cells: &StoredColumns) -> Result<PartIndex> {
        let mut order = Vec::new();
        let mut keys = SortedKeys::default();
        for number in 0..self.firsts.len() {
            let block = self.block(cells, number)?;
            keys.append(&block.keys);
            order.extend(block.rows);
        }
        Ok(PartIndex::of_sorted(order, keys))
    }
}
