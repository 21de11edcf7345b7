use super::MemoryBudget;
use super::file::Block;
use crate::control::MemoryReservation;
use crate::diagnostic::Result;
use crate::filter::select;
use crate::kernel::Batch;
use crate::pipeline::Sequence;
use crate::types::index;
/// Rows of one block of a file; small batches are put together up to this many, or to an eighth of the share, overhead included.
const BLOCK_ROWS: usize = 32_768;
const BLOCKS_OF_SHARE: usize = 8;

/// What an array takes besides its values: of small batches, most of it.
const ARRAY_OVERHEAD: usize = 256;

/// Rows in memory or in a file.
#[derive(Clone, Debug)]
pub(crate) enum Segment {
    Memory(Batch),
    /// With the columns of the block that are wanted, where these are not all.
    File(Block, Option<Vec<usize>>),
}

impl Segment {
    /// Rows of the segment, read or not.
    pub(crate) fn rows(&self) -> usize {
        match self {
            Self::Memory(batch) => batch.rows,
            Self::File(block, _) => block.rows,
        }
    }

    /// The segment in memory; one of a file is read each time.
    pub(crate) fn read(&self) -> Result<Batch> {
        match self {
            Self::Memory(batch) => Ok(batch.clone()),
            Self::File(block, None) => block.read(),
            // All columns of a block that is read lie in one buffer, which a single one would keep.
            Self::File(block, Some(places)) => select(&block.read()?, places).copied(),
        }
    }

    fn select(&self, places: &[usize]) -> Self {
        match self {
            Self::Memory(batch) => Self::Memory(select(batch, places)),
            Self::File(block, None) => Self::File(block.clone(), Some(places.to_vec())),
            Self::File(block, Some(known)) => {
                Self::File(block.clone(), Some(places.iter().map(|at| known[*at]).collect()))
            }
        }
    }
}

/// Rows that an operator has gathered, in their order, with the memory they take.
#[derive(Debug, Default)]
pub(crate) struct Rows {
    pub(crate) segments: Vec<Segment>,
    held: Option<MemoryReservation>,
}

impl From<Vec<Batch>> for Rows {
    /// Rows whose memory is counted elsewhere.
    fn from(batches: Vec<Batch>) -> Self {
        Self { segments: batches.into_iter().map(Segment::Memory).collect(), held: None }
    }
}

impl Rows {
    /// Rows that are in memory or in files already.
    pub(crate) fn new(segments: Vec<Segment>, held: MemoryReservation) -> Self {
        Self { segments, held: Some(held) }
    }

    /// Batches that stay in memory.
    ///
    /// # Errors
    /// HY001 past the memory limit.
    pub(crate) fn counted(batches: Vec<Batch>, room: &MemoryBudget<'_>) -> Result<Self> {
        let mut held = room.nothing();
        held.add(batches.iter().map(Batch::bytes).sum())?;
        Ok(Self { held: Some(held), ..Self::from(batches) })
    }

    /// How many there are.
    pub(crate) fn count(&self) -> usize {
        self.segments.iter().map(Segment::rows).sum()
    }

    /// Whether some rows are in a file.
    pub(crate) fn is_spilled(&self) -> bool {
        self.segments.iter().any(|segment| matches!(segment, Segment::File(..)))
    }

    /// Bytes in memory and in files.
    pub(crate) fn bytes(&self) -> usize {
        let bytes = |segment: &Segment| match segment {
            Segment::Memory(batch) => batch.bytes(),
            Segment::File(block, _) => block.bytes(),
        };
        self.segments.iter().map(bytes).sum()
    }

    /// The number of columns; none without rows.
    pub(crate) fn width(&self) -> Result<usize> {
        Ok(match self.segments.first() {
            Some(Segment::Memory(batch)) => batch.columns.len(),
            Some(Segment::File(_, Some(places))) => places.len(),
            Some(Segment::File(block, None)) => block.read()?.columns.len(),
            None => 0,
        })
    }

    /// These columns of the same rows.
    pub(crate) fn select(mut self, places: &[usize]) -> Self {
        for segment in &mut self.segments {
            *segment = segment.select(places);
        }
        self
    }

    /// A look at these columns of the same rows, whose memory stays counted here.
    pub(crate) fn view(&self, places: &[usize]) -> Self {
        Self { segments: self.segments.iter().map(|segment| segment.select(places)).collect(), held: None }
    }

    /// Gives all rows, at most `batch_rows` at a time, with the place of each batch.
    pub(crate) fn each_batch(
        &self,
        batch_rows: usize,
        visit: &mut dyn FnMut(Sequence, Batch) -> Result<()>,
    ) -> Result<()> {
        for (number, segment) in self.segments.iter().enumerate() {
            let batch = segment.read()?;
            for (part, start) in (0..batch.rows).step_by(batch_rows.max(1)).enumerate() {
                let at = Sequence { morsel: index(number), batch: index(part) };
                visit(at, batch.slice(start, batch_rows.min(batch.rows - start)))?;
            }
        }
        Ok(())
    }

    /// The rows after the first `offset`, at most `fetch` of them.
    pub(crate) fn cut(mut self, mut offset: usize, fetch: Option<usize>) -> Result<Self> {
        let mut left = fetch.unwrap_or(usize::MAX);
        let mut kept = Vec::new();
        for segment in std::mem::take(&mut self.segments) {
            let skipped = offset.min(segment.rows());
            offset -= skipped;
            let rows = (segment.rows() - skipped).min(left);
            left -= rows;
            if rows == segment.rows() {
                kept.push(segment);
            } else if rows > 0 {
                kept.push(Segment::Memory(segment.read()?.slice(skipped, rows)));
            }
        }
        self.segments = kept;
        Ok(self)
    }

    /// Puts the other rows after these.
    pub(crate) fn append(&mut self, other: Self) {
        self.segments.extend(other.segments);
        match (&mut self.held, other.held) {
            (Some(held), Some(more)) => held.join(more),
            (held @ None, more) => *held = more,
            (Some(_), None) => {}
        }
    }

    /// All rows in memory, and what holds them there.
    ///
    /// # Errors
    /// HY001 past the memory limit.
    pub(crate) fn into_memory(self, room: &MemoryBudget<'_>) -> Result<(Vec<Batch>, MemoryReservation)> {
        let mut held = self.held.unwrap_or_else(|| room.nothing());
        let read = |segment: Segment| {
            room.control.check()?;
            let batch = segment.read()?;
            if matches!(segment, Segment::File(..)) {
                held.add(batch.bytes())?;
            }
            Ok(batch)
        };
        let batches = self.segments.into_iter().map(read).collect::<Result<_>>()?;
        Ok((batches, held))
    }
}

/// Gathers rows, and goes over to a file when it holds more than its share.
pub(crate) struct RowsBuilder<'a> {
    room: MemoryBudget<'a>,
    segments: Vec<(Sequence, Segment)>,
    /// The first segment that is not in the file.
    unwritten: usize,
    held: MemoryReservation,
}

impl<'a> RowsBuilder<'a> {
    /// Gathers rows within a budget; past it they go to a file.
    pub(crate) fn new(room: MemoryBudget<'a>) -> Self {
        Self { held: room.nothing(), room, segments: Vec::new(), unwritten: 0 }
    }

    /// Takes rows whose place is after that of all before.
    ///
    /// # Errors
    /// 58030 when the file can't be written; HY001 when there is to be none.
    pub(crate) fn push(&mut self, at: Sequence, batch: Batch) -> Result<()> {
        let bytes = batch.bytes() + batch.rows * self.room.overhead + batch.columns.len() * ARRAY_OVERHEAD;
        if self.room.share == usize::MAX {
            self.held.add(bytes)?;
        } else {
            self.held.note(bytes);
        }
        self.segments.push((at, Segment::Memory(batch)));
        if self.room.is_full(self.held.bytes(), 1) {
            self.room.note_held(self.held.bytes());
            self.write()?;
        }
        Ok(())
    }

    /// Writes what is in memory. Small batches of one morsel, between which no other worker's can come, become one block.
    fn write(&mut self) -> Result<()> {
        let mut pending: Vec<Batch> = Vec::new();
        let mut at = Sequence::default();
        let mut blocks = Vec::new();
        let mut put = |at: Sequence, pending: &mut Vec<Batch>| -> Result<()> {
            if !pending.is_empty() {
                let block = self.room.write(&Batch::concat(pending, None)?)?;
                blocks.push((at, Segment::File(block, None)));
                pending.clear();
            }
            Ok(())
        };
        let gathered: usize = self.segments[self.unwritten..].iter().map(|(_, segment)| segment.rows()).sum();
        let row_bytes = self.held.bytes() / gathered.max(1) + 1;
        let most = (self.room.share / BLOCKS_OF_SHARE / row_bytes).clamp(1, BLOCK_ROWS);
        for (place, segment) in self.segments.drain(self.unwritten..) {
            let Segment::Memory(batch) = segment else { continue };
            let rows: usize = pending.iter().map(|batch| batch.rows).sum();
            if place.morsel != at.morsel || rows + batch.rows > most {
                put(at, &mut pending)?;
            }
            if pending.is_empty() {
                at = place;
            }
            pending.push(batch);
        }
        put(at, &mut pending)?;
        self.segments.extend(blocks);
        self.unwritten = self.segments.len();
        self.held.release();
        Ok(())
    }

    /// The rows of several builders, in their order.
    pub(crate) fn finish(builders: Vec<Self>, room: &MemoryBudget<'_>) -> Rows {
        let (mut all, mut held) = (Vec::new(), room.nothing());
        for builder in builders {
            all.extend(builder.segments);
            held.join(builder.held);
        }
        room.note_held(held.bytes());
        all.sort_by_key(|(at, _)| *at);
        Rows::new(all.into_iter().map(|(_, segment)| segment).collect(), held)
    }

    /// The rows gathered here, in the order they came.
    pub(crate) fn into_rows(self) -> Rows {
        self.room.note_held(self.held.bytes());
        Rows::new(self.segments.into_iter().map(|(_, segment)| segment).collect(), self.held)
    }
}
