use crate::diagnostic::{Error, Result, SqlState};
use arrow::array::{
    Array, ArrayRef, AsArray, BooleanArray, Datum, GenericByteViewArray, MutableArrayData, UInt32Array, make_array,
};
use arrow::compute;
use arrow::datatypes::{BinaryViewType, ByteViewType, DataType, StringViewType};
use arrow::error::ArrowError;
use rayon::ThreadPool;
use rayon::iter::{IntoParallelIterator, IntoParallelRefIterator, ParallelIterator};
use std::sync::Arc;

/// Buffers that arrays of texts may bring along, beyond one each, before their texts are copied together.
const MOST_BUFFERS: usize = 64;
/// Rows from which on it pays to put columns together side by side.
const PARALLEL_ROWS: usize = 1 << 14;

/// Rows on their way through a pipeline: arrays of one length.
#[derive(Clone, Debug, Default)]
pub struct Batch {
    pub columns: Vec<ArrayRef>,
    pub rows: usize,
}

impl Batch {
    /// A batch of columns that have `rows` rows each. A batch without columns has rows all the same.
    pub fn new(columns: Vec<ArrayRef>, rows: usize) -> Self {
        debug_assert!(columns.iter().all(|column| column.len() == rows), "arrays of one length");
        Self { columns, rows }
    }

    /// Some rows in a row, without a copy.
    pub fn slice(&self, offset: usize, rows: usize) -> Self {
        Self { columns: self.columns.iter().map(|column| column.slice(offset, rows)).collect(), rows }
    }

    /// The rows for which `mask` is TRUE; `kept` is how many there are.
    pub fn filter(&self, mask: &BooleanArray, kept: usize) -> Result<Self> {
        if kept == self.rows {
            return Ok(self.clone());
        }
        let mut filter = compute::FilterBuilder::new(mask);
        if self.columns.len() > 1 {
            filter = filter.optimize();
        }
        let filter = filter.build();
        let columns = self.columns.iter().map(|column| filter.filter(column.as_ref())).collect::<Result<_, _>>()?;
        Ok(Self { columns, rows: kept })
    }

    /// The rows at these places, in this order.
    pub fn take(&self, rows: &UInt32Array) -> Result<Self> {
        let columns = self.columns.iter().map(|column| compute::take(column, rows, None)).collect::<Result<_, _>>()?;
        Ok(Self { columns, rows: rows.len() })
    }

    /// [`Batch::take`]; with `threads`, the columns of many rows side by side.
    pub fn take_with(&self, rows: &UInt32Array, threads: Option<&ThreadPool>) -> Result<Self> {
        let Some(threads) = threads.filter(|_| rows.len() >= PARALLEL_ROWS && self.columns.len() > 1) else {
            return self.take(rows);
        };
        let take = |column: &ArrayRef| compute::take(column, rows, None);
        let columns = threads.install(|| self.columns.par_iter().map(take).collect::<Result<_, _>>())?;
        Ok(Self { columns, rows: rows.len() })
    }

    /// [`Batch::concat`] of as many rows as an operator has to hold at once, where there is memory for the copy besides what is held.
    ///
    /// # Errors
    /// HY001 where there is not.
    pub fn concat_within(batches: &[Self], threads: Option<&ThreadPool>) -> Result<Self> {
        crate::control::reserve(batches.iter().map(Self::copied_bytes).sum(), 1)?;
        Self::concat(batches, threads)
    }

    /// All rows of all batches, which have the same columns; with `threads`, the columns of many are put together side by side.
    pub fn concat(batches: &[Self], threads: Option<&ThreadPool>) -> Result<Self> {
        if let [one] = batches {
            return Ok(one.clone());
        }
        let rows: usize = batches.iter().map(|batch| batch.rows).sum();
        if rows > u32::MAX as usize {
            // Row numbers are 32 bits wide: see `types::index`.
            return Err(Error::new(SqlState::MEMORY, "one step of the statement gathers more than 4,294,967,295 rows"));
        }
        let width = batches.first().map_or(0, |batch| batch.columns.len());
        let column = |column: usize| {
            let parts: Vec<ArrayRef> = batches.iter().map(|batch| Arc::clone(&batch.columns[column])).collect();
            concat_arrays(parts)
        };
        let columns = match threads {
            Some(threads) if rows >= PARALLEL_ROWS => {
                threads.install(|| (0..width).into_par_iter().map(column).collect::<Result<_, _>>())?
            }
            _ => (0..width).map(column).collect::<Result<_, _>>()?,
        };
        Ok(Self { columns, rows })
    }

    /// The same rows in buffers of their own.
    pub fn copied(&self) -> Result<Self> {
        let copy = |column: &ArrayRef| -> Result<ArrayRef> {
            let data = column.to_data();
            let mut copy = MutableArrayData::new(vec![&data], false, column.len());
            copy.try_extend(0, 0, column.len())?;
            Ok(own_texts(&make_array(copy.freeze())))
        };
        Ok(Self { columns: self.columns.iter().map(copy).collect::<Result<_>>()?, rows: self.rows })
    }

    /// Bytes that a copy of its rows takes: texts stay where they are.
    fn copied_bytes(&self) -> usize {
        let bytes = |column: &ArrayRef| {
            if let DataType::Utf8View | DataType::BinaryView = column.data_type() {
                column.len() * size_of::<u128>()
            } else {
                column.to_data().get_slice_memory_size().unwrap_or(0)
            }
        };
        self.columns.iter().map(bytes).sum()
    }

    /// Memory that its own rows take, in bytes: of a slice, only the slice.
    pub fn bytes(&self) -> usize {
        let bytes = |column: &ArrayRef| {
            if let DataType::Utf8View = column.data_type() {
                text_bytes(column.as_string_view())
            } else if let DataType::BinaryView = column.data_type() {
                text_bytes(column.as_binary_view())
            } else {
                column.to_data().get_slice_memory_size().unwrap_or(0)
            }
        };
        self.columns.iter().map(bytes).sum()
    }
}

fn text_bytes<T: ByteViewType>(texts: &GenericByteViewArray<T>) -> usize {
    texts.len() * size_of::<u128>() + texts.total_buffer_bytes_used()
}

/// A column whose texts bring along few bytes that are not theirs: they may be views of what else stood in a file.
pub fn own_texts(column: &ArrayRef) -> ArrayRef {
    fn own<T: ByteViewType>(texts: &GenericByteViewArray<T>) -> Option<ArrayRef> {
        let held: usize = texts.data_buffers().iter().map(|buffer| buffer.len()).sum();
        let own = texts.total_buffer_bytes_used();
        (held > own + own / 4).then(|| Arc::new(texts.gc()) as ArrayRef)
    }
    let own = if let DataType::Utf8View = column.data_type() {
        own(column.as_string_view())
    } else if let DataType::BinaryView = column.data_type() {
        own(column.as_binary_view())
    } else {
        None
    };
    own.unwrap_or_else(|| Arc::clone(column))
}

/// One array of all parts. A text array holds on to every buffer of the arrays it was taken from, whether a text of it is left or not;
/// put together as they are, arrays of many buffers would make one with the buffers of all, and so on at the next step.
fn concat_arrays(mut parts: Vec<ArrayRef>) -> Result<ArrayRef, ArrowError> {
    fn buffers<T: ByteViewType>(part: &ArrayRef) -> usize {
        part.as_byte_view::<T>().data_buffers().len()
    }
    fn compact<T: ByteViewType>(parts: &mut [ArrayRef]) {
        if parts.iter().map(buffers::<T>).sum::<usize>() > MOST_BUFFERS + parts.len() {
            for part in parts.iter_mut().filter(|part| buffers::<T>(part) > 1) {
                *part = Arc::new(part.as_byte_view::<T>().gc());
            }
        }
    }
    match parts.first().map(|part| part.data_type()) {
        Some(DataType::Utf8View) => compact::<StringViewType>(&mut parts),
        Some(DataType::BinaryView) => compact::<BinaryViewType>(&mut parts),
        _ => {}
    }
    let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
    compute::concat(&parts)
}

/// The value of an expression for a batch: one value a row, or one for all.
#[derive(Clone, Debug)]
pub enum Lane {
    Array(ArrayRef),
    /// An array of length 1.
    Constant(ArrayRef),
}

impl Lane {
    /// The values; of a constant one.
    #[inline]
    pub fn array(&self) -> &ArrayRef {
        match self {
            Self::Array(array) | Self::Constant(array) => array,
        }
    }

    /// Whether one value stands for all rows.
    #[inline]
    pub fn is_constant(&self) -> bool {
        matches!(self, Self::Constant(_))
    }

    /// The same values as one array of `rows` rows.
    pub fn into_array(self, rows: usize) -> Result<ArrayRef> {
        match self {
            Self::Array(array) => Ok(array),
            Self::Constant(array) if rows == 1 => Ok(array),
            Self::Constant(array) => Ok(compute::take(&array, &UInt32Array::from(vec![0; rows]), None)?),
        }
    }

    /// Wraps a result of lanes: constant when all of them were.
    pub fn like(array: ArrayRef, constant: bool) -> Self {
        if constant { Self::Constant(array) } else { Self::Array(array) }
    }
}

impl Datum for Lane {
    fn get(&self) -> (&dyn Array, bool) {
        (self.array().as_ref(), self.is_constant())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::StringViewArray;

    #[test]
    fn texts_put_together_again_and_again_keep_few_buffers() {
        let text = |row: usize| format!("a text that is too long for a view, number {row}");
        let mut batch =
            Batch::new(vec![Arc::new((0..200).map(|row| Some(text(row))).collect::<StringViewArray>())], 200);
        for _ in 0..4 {
            let rows: Vec<Batch> = (0..200).map(|row| batch.slice(row, 1)).collect();
            batch = Batch::concat(&rows, None).unwrap();
        }
        let texts = batch.columns[0].as_string_view();
        assert!(texts.data_buffers().len() <= 200, "{} buffers", texts.data_buffers().len());
        assert_eq!((texts.value(0), texts.value(199)), (text(0).as_str(), text(199).as_str()));
    }
}
