//! Tables in memory: lists of segments, read column by column, with statistics computed when they are first asked for.

mod append;
mod aside;
mod catalog_text;
mod cell_format;
mod column_cache;
mod column_table;
mod commit_text;
mod compaction;
mod conforming;
mod derived;
mod guarded_file;
mod histogram;
mod history;
mod history_text;
mod index;
mod index_cells;
mod index_read;
mod key_range;
mod memory_table;
mod moment;
mod object_text;
mod open_file;
mod packed_column;
mod part;
mod partners;
mod period_search;
mod read_only_file;
mod search;
mod sorted_keys;
mod statistics;
mod statistics_text;
mod store;
mod stored_index;
mod stored_table;
mod zone_map;

pub(crate) use column_table::ColumnTable;
pub use compaction::FileSize;
pub(crate) use conforming::{conforming, is_made_of};
pub(crate) use history::{History, StretchFacts};
pub(crate) use key_range::{IndexRead, KeyRange};
pub(crate) use memory_table::MemoryTable;
pub(crate) use moment::MomentFacts;
pub(crate) use open_file::FileAccess;
pub(crate) use period_search::{PeriodSearch, Wanted};
pub(crate) use statistics::collect_group;
pub(crate) use store::Store;
pub(crate) use stored_table::{Place, StoredTable};
pub(crate) use zone_map::LaneRange;

use crate::catalog::TableSource;
use crate::diagnostic::Result;
use crate::file::{Content, FileTable};
use std::sync::Arc;

/// The rows of a file as a table.
///
/// # Errors
/// 22003 with row and column of a value that its type forbids.
pub(crate) fn table_of(file: FileTable) -> Result<Arc<dyn TableSource>> {
    Ok(match file.content {
        Content::Segments { segments, reasons } => {
            Arc::new(MemoryTable::new(file.columns, segments).with_text_reasons(reasons))
        }
        Content::Foreign { segments, path } => {
            let segments = conforming(&file.columns, segments).map_err(|error| error.in_file(&path, None))?;
            Arc::new(MemoryTable::new(file.columns, segments))
        }
        Content::OnDemand { rows, loader } => Arc::new(ColumnTable::new(file.columns, rows, loader)),
    })
}
