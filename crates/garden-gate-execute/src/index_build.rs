//! Indexes that a plan reads and that are neither in memory nor in the file: before a measured run they are sorted, so that the time it
//! takes is nobody else's.

use super::streaming::internal;
use crate::diagnostic::Result;
use crate::logical::{Scan, ScanIndex};
use crate::physical::{BuiltIndex, Measures, Node, Operator};
use crate::storage::StoredTable;
use std::any::Any;
use std::sync::Arc;
use std::time::Instant;

/// Sorts what is missing of every index of the plan. O(rows · log rows) for the parts of tables that lack it.
pub(super) fn build_indexes(root: &Node, measures: &Measures) -> Result<()> {
    let mut used: Vec<(&Scan, &ScanIndex)> = Vec::new();
    root.walk(&mut |node| {
        if let Operator::Scan { scan, access: Some(access), .. } = &node.operator {
            used.extend(access.every().map(|access| (scan.as_ref(), &access.index)));
        } else if let Operator::IndexJoin(join) = &node.operator {
            used.push((&join.scan, &join.index))
        }
    });
    for (scan, index) in used {
        let source: Arc<dyn Any + Send + Sync> = Arc::clone(&scan.source) as _;
        let table = source.downcast::<StoredTable>().map_err(|_| internal("an index of a table that is not stored"))?;
        let started = Instant::now();
        let rows = table.build_index(index)?;
        if rows > 0 {
            let elapsed_ms = started.elapsed().as_secs_f64() * 1e3;
            measures.add_built(BuiltIndex { index: index.name.clone(), table: scan.table.clone(), rows, elapsed_ms });
        }
    }
    Ok(())
}
