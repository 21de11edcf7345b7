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
mod matching_rows;
mod memory_table;
mod moment;
mod object_text;
mod open_file;
mod packed_column;
mod period_search;
mod read_only_file;
mod search;
mod sorted_keys;
mod statistics;
mod statistics_text;
mod store;
mod store_state;
mod stored_index;
mod stored_segment;
mod stored_table;
mod zone_map;

pub use column_table::ColumnTable;
pub use compaction::FileSize;
pub use conforming::{conforming, conforming_segment, is_made_of};
pub use guarded_file::Opener;
pub use history::{History, HistoryIntervalFacts};
pub use key_range::{IndexRead, KeyRange};
pub use matching_rows::MatchingRows;
pub use memory_table::MemoryTable;
pub use moment::MomentFacts;
pub use open_file::FileAccess;
pub use period_search::{PeriodSearch, Wanted};
pub use statistics::collect_group;
pub use store::Store;
pub use stored_table::{Place, StoredTable};
pub use zone_map::LaneRange;

use crate::catalog::TableSource;
use crate::diagnostic::Result;
use crate::file::{FileContent, FileTable};
use rayon::ThreadPool;
use std::sync::Arc;

/// The rows of a file as a table; columns that are read when they are needed are read side by side by `threads`, while these are there.
///
/// # Errors
/// 22003 with row and column of a value that its type forbids.
pub fn table_of(file: FileTable, threads: Option<&Arc<ThreadPool>>) -> Result<Arc<dyn TableSource>> {
    Ok(match file.content {
        FileContent::Segments { segments, reasons } => {
            Arc::new(MemoryTable::new(file.columns, segments).with_text_reasons(reasons))
        }
        FileContent::Foreign { segments, path } => {
            let segments = conforming(&file.columns, segments).map_err(|error| error.in_file(&path, None))?;
            Arc::new(MemoryTable::new(file.columns, segments))
        }
        FileContent::OnDemand { rows, loader } => {
            Arc::new(ColumnTable::new(file.columns, rows, loader).with_threads(threads))
        }
    })
}
