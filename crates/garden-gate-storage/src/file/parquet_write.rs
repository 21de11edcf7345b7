//! Rows written to a Parquet file whose pages have checksums. The `parquet` crate writes each row group into memory, and the
//! group goes to the file with a checksum in the header of each of its pages.

use super::page_checksums::{MovedPage, with_checksums};
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use bytes::Bytes;
use parquet::arrow::{ArrowSchemaConverter, ArrowWriter, add_encoded_arrow_schema_to_metadata};
use parquet::basic::Compression;
use parquet::column::writer::ColumnCloseResult;
use parquet::errors::{ParquetError, Result};
use parquet::file::metadata::{ColumnChunkMetaData, OffsetIndexBuilder, ParquetMetaData};
use parquet::file::page_index::offset_index::OffsetIndexMetaData;
use parquet::file::properties::{WriterProperties, WriterPropertiesPtr};
use parquet::file::writer::SerializedFileWriter;
use std::fs::File;
use std::sync::Arc;

/// Rows of a row group.
const GROUP_ROWS: usize = 1 << 20;
/// Bytes of a row group in memory at most, about.
const GROUP_BYTES: usize = 128 << 20;

#[cfg(feature = "compression")]
const COMPRESSION: Compression = Compression::SNAPPY;
#[cfg(not(feature = "compression"))]
const COMPRESSION: Compression = Compression::UNCOMPRESSED;

pub(super) struct ParquetWriter {
    schema: SchemaRef,
    properties: WriterPropertiesPtr,
    file: SerializedFileWriter<File>,
    group: ArrowWriter<Vec<u8>>,
    rows: usize,
}

impl ParquetWriter {
    /// A writer of row groups.
    pub(super) fn new(file: File, schema: SchemaRef) -> Result<Self> {
        let mut properties = WriterProperties::builder().set_compression(COMPRESSION).build();
        let group = new_group(&schema, &properties)?;
        add_encoded_arrow_schema_to_metadata(&schema, &mut properties);
        let columns = ArrowSchemaConverter::new().convert(&schema)?;
        let properties = Arc::new(properties);
        let file = SerializedFileWriter::new(file, columns.root_schema_ptr(), Arc::clone(&properties))?;
        Ok(Self { schema, properties, file, group, rows: 0 })
    }

    /// Adds rows; a row group is written when it has its number of them.
    pub(super) fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        let mut start = 0;
        while start < batch.num_rows() {
            let rows = (batch.num_rows() - start).min(GROUP_ROWS - self.rows);
            self.group.write(&batch.slice(start, rows))?;
            self.rows += rows;
            start += rows;
            if self.rows == GROUP_ROWS || self.group.in_progress_size() > GROUP_BYTES {
                self.flush()?;
            }
        }
        Ok(())
    }

    /// Writes the last row group and the footer.
    pub(super) fn finish(&mut self) -> Result<()> {
        if self.rows > 0 {
            self.flush()?;
        }
        self.file.finish().map(drop)
    }

    /// Puts the group that is in memory into the file.
    fn flush(&mut self) -> Result<()> {
        let metadata = self.group.finish()?;
        let bytes = std::mem::take(self.group.inner_mut());
        self.group = new_group(&self.schema, &self.properties)?;
        self.rows = 0;
        for (number, of_group) in metadata.row_groups().iter().enumerate() {
            let mut group = self.file.next_row_group()?;
            for (place, column) in of_group.columns().iter().enumerate() {
                let (start, length) = column.byte_range();
                let range = to_usize(start)?..to_usize(start + length)?;
                let chunk = bytes.get(range).ok_or_else(|| fault("a column chunk lies outside its row group"))?;
                let (chunk, pages) =
                    with_checksums(chunk).ok_or_else(|| fault("a page has a header of another form"))?;
                let indexes = PageIndexes { metadata: &metadata, group: number, column: place };
                let close = closed(column, (&chunk, &pages), of_group.num_rows(), indexes)?;
                group.append_column(&Bytes::from(chunk), close)?;
            }
            group.close()?;
        }
        Ok(())
    }
}

/// What the writer says of a row group's pages.
#[derive(Clone, Copy)]
struct PageIndexes<'m> {
    metadata: &'m ParquetMetaData,
    group: usize,
    column: usize,
}

/// What is said of a column chunk, with its pages where they are now, counted from its beginning.
fn closed(
    column: &ColumnChunkMetaData,
    (chunk, pages): (&[u8], &[MovedPage]),
    rows: i64,
    indexes: PageIndexes<'_>,
) -> Result<ColumnCloseResult> {
    let (start, old) = column.byte_range();
    let added = to_i64(chunk.len())? - i64::try_from(old).map_err(|_| fault("too long a column chunk"))?;
    let page_at = |offset: i64| {
        let from = u64::try_from(offset).ok().and_then(|offset| usize::try_from(offset.checked_sub(start)?).ok());
        let place = from.and_then(|from| pages.binary_search_by_key(&from, |page| page.from).ok());
        place.map(|place| pages[place]).ok_or_else(|| fault("a page begins where none was written"))
    };
    let moved = |offset: i64| to_i64(page_at(offset)?.to);
    let metadata = column
        .clone()
        .into_builder()
        .set_total_compressed_size(column.compressed_size() + added)
        .set_total_uncompressed_size(column.uncompressed_size() + added)
        .set_data_page_offset(moved(column.data_page_offset())?)
        .set_dictionary_page_offset(column.dictionary_page_offset().map(moved).transpose()?)
        .build()?;
    let PageIndexes { metadata: all, group, column: place } = indexes;
    let index = all.page_index();
    let column_index = index.and_then(|index| index.column_index(group, place).cloned());
    let offset_index = index.and_then(|index| index.offset_index(group, place));
    let offset_index = offset_index.map(|index| moved_index(index, rows, &page_at)).transpose()?;
    Ok(ColumnCloseResult {
        bytes_written: chunk.len() as u64,
        rows_written: u64::try_from(rows).unwrap_or(0),
        metadata,
        bloom_filter: None,
        column_index,
        offset_index,
    })
}

/// The list of a chunk's data pages with their new places.
fn moved_index(
    index: &OffsetIndexMetaData,
    rows: i64,
    page_at: &impl Fn(i64) -> Result<MovedPage>,
) -> Result<OffsetIndexMetaData> {
    let mut made = OffsetIndexBuilder::new();
    let locations = index.page_locations();
    for (number, location) in locations.iter().enumerate() {
        let page = page_at(location.offset)?;
        let length = i32::try_from(page.length).map_err(|_| fault("too long a page"))?;
        let next = locations.get(number + 1).map_or(rows, |next| next.first_row_index);
        made.append_row_count(next - location.first_row_index);
        made.append_offset_and_size(to_i64(page.to)?, length);
        let unencoded = index.unencoded_byte_array_data_bytes().and_then(|all| all.get(number).copied());
        made.append_unencoded_byte_array_data_bytes(unencoded);
    }
    Ok(made.build())
}

fn new_group(schema: &SchemaRef, properties: &WriterProperties) -> Result<ArrowWriter<Vec<u8>>> {
    ArrowWriter::try_new(Vec::new(), Arc::clone(schema), Some(properties.clone()))
}

fn to_usize(value: u64) -> Result<usize> {
    usize::try_from(value).map_err(|_| fault("too long a file"))
}

fn to_i64(value: usize) -> Result<i64> {
    i64::try_from(value).map_err(|_| fault("too long a column chunk"))
}

fn fault(what: &str) -> ParquetError {
    ParquetError::General(what.into())
}
