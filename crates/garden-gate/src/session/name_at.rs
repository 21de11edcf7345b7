//! What is known of the name at a place of a text.

use super::{Completion, CompletionKind, Session};
use crate::catalog::ColumnStatistics;
use crate::control;
use crate::syntax::{TokenClass, token_classes};
use std::sync::Arc;

/// A name in a text, and what is known of what it means there.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct KnownName {
    /// What it is.
    pub kind: CompletionKind,
    /// The name, as what it means is called.
    pub name: String,
    /// Where it stands, in bytes.
    pub range: std::ops::Range<usize>,
    /// What is known of it in a few words: the type of a column, the rows of a table.
    pub detail: String,
    /// Of a column of a table: whether the table refuses NULL in it. An outer join around it may still give NULL.
    pub not_null: bool,
    /// Of a column of a table: its values.
    pub statistics: Option<Arc<ColumnStatistics>>,
}

impl Session {
    /// What the name at a place of a text means, given in bytes; nothing when there is no name, or nobody knows it. Nothing runs. The
    /// statistics of a column are gathered when they are not there: O(rows).
    ///
    /// ```
    /// # let mut session = garden_gate::Database::in_memory().session();
    /// session.run("CREATE TABLE bed (bed_id INTEGER NOT NULL, name VARCHAR(20))")?;
    /// let known = session.name_at("SELECT b.bed_id FROM bed AS b", 10).expect("the column is known");
    /// assert_eq!((known.detail.as_str(), known.not_null, known.range), ("INTEGER", true, 9..15));
    /// # Ok::<(), garden_gate::Error>(())
    /// ```
    pub fn name_at(&self, text: &str, at: usize) -> Option<KnownName> {
        control::large_stack(|| {
            let touches = |range: &std::ops::Range<usize>| (range.start..=range.end).contains(&at);
            let mut tokens = token_classes(text).into_iter();
            let (range, _) = tokens.find(|(range, class)| *class == TokenClass::Name && touches(range))?;
            let word = text.get(range.clone())?;
            let items = self.completions(text, range.end).items;
            let Completion { kind, text: name, detail } =
                items.into_iter().find(|item| item.text.eq_ignore_ascii_case(word))?;
            let mut known = KnownName { kind, name, range, detail, not_null: false, statistics: None };
            if kind == CompletionKind::Column {
                self.add_column_facts(text, &mut known);
            }
            Some(known)
        })
    }

    fn add_column_facts(&self, text: &str, known: &mut KnownName) {
        let name = known.name.trim_matches('"');
        let origin = self.columns_at(text, known.range.end).find_map(|bound| {
            let column = bound.output.iter().find(|column| column.name.eq_ignore_ascii_case(name))?;
            Some(bound.columns.get(column.id).origin.clone())
        });
        let Some((source, place)) = origin.flatten() else { return };
        let catalog = self.catalog();
        let table = catalog.tables().map(|(_, table)| table).find(|table| Arc::ptr_eq(&table.source, &source));
        let definition = table.and_then(|table| table.definition.as_ref());
        known.not_null = definition.is_some_and(|found| found.columns.get(place).is_some_and(|column| column.not_null));
        // What cannot be read has no statistics.
        known.statistics = source.statistics(place).ok();
    }
}
