//! Tables in memory: lists of segments, read column by column, with statistics worked out when they are first asked for.

mod catalog_text;
mod column_cache;
mod column_table;
mod derived;
mod guarded_file;
mod histogram;
mod index;
mod memory_table;
mod object_text;
mod part;
mod partners;
mod search;
mod statistics;
mod statistics_text;
mod store;
mod stored_table;
mod zone_map;

pub(crate) use column_table::ColumnTable;
pub(crate) use index::{IndexRead, KeyRange};
pub(crate) use memory_table::MemoryTable;
pub(crate) use statistics::collect_group;
pub(crate) use store::Store;
pub(crate) use stored_table::{Place, StoredTable};
pub(crate) use zone_map::LaneRange;

use crate::catalog::TableSource;
use crate::file::{Content, FileTable};
use std::sync::Arc;

/// The rows of a file as a table.
pub(crate) fn table_of(file: FileTable) -> Arc<dyn TableSource> {
    match file.content {
        Content::Segments(segments) => Arc::new(MemoryTable::new(file.columns, segments)),
        Content::OnDemand { rows, loader } => Arc::new(ColumnTable::new(file.columns, rows, loader)),
    }
}
