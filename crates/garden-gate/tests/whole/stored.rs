//! The tables of a run, and the forms in which a database may have them.

use super::evaluate::Tables;
use super::generate::{COLUMNS, TABLES};
use super::other::{self, VALUES};
use super::tree::{Cell, Kind};
use crate::random_queries::Draw;
use garden_gate::arrow::array::{ArrayRef, RecordBatch};
use garden_gate::{
    Column, Database, Session,
    source::{Segment, TableSource},
};
use std::path::Path;
use std::sync::Arc;

/// Small tables with NULLs and ties. Often one has no row, or one.
pub(super) fn tables(draw: &mut Draw) -> Tables {
    let mut tables = Tables::new();
    for name in TABLES {
        let rows = (0..*draw.pick(&[0_usize, 0, 1, 1, 2, 3, 4, 6])).map(|key| {
            let mut number = || draw.small().map_or(Cell::Null, Cell::Number);
            let (n, m) = (number(), number());
            let text =
                if draw.below(4) == 0 { Cell::Null } else { Cell::Text(draw.word(&["", "a", "b", "ab"]).into()) };
            let other = if draw.below(4) == 0 { Cell::Null } else { Cell::Other(draw.below(VALUES)) };
            vec![Cell::Number(i64::try_from(key).unwrap()), n, m, text, other]
        });
        let rows = rows.collect();
        tables.insert(name.into(), (COLUMNS.iter().map(|(column, _)| (*column).to_owned()).collect(), rows));
    }
    tables
}

/// Where the rows of a table are.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum As {
    /// Stored by INSERT, with a key and an index on each column.
    Indexed,
    /// Arrays that a program gave.
    Segments,
    /// A source of a program's own.
    Source,
    File(&'static str),
    /// Stored by INSERT and changed before and after; the session reads the moment at which they were so.
    Past,
}

impl As {
    pub(super) fn of(number: u64) -> Self {
        let forms = [
            Self::Indexed,
            Self::Segments,
            Self::Past,
            Self::Indexed,
            Self::Source,
            Self::File("arrow"),
            Self::File("parquet"),
        ];
        forms[usize::try_from(number % 7).unwrap_or(0)]
    }
}

#[derive(Debug)]
struct Source {
    columns: Vec<Column>,
    segments: Vec<Segment>,
}

impl TableSource for Source {
    fn columns(&self) -> &[Column] {
        &self.columns
    }

    fn rows(&self) -> u64 {
        self.segments.iter().map(|segment| segment.rows as u64).sum()
    }

    fn read(&self, columns: &[usize]) -> garden_gate::Result<Vec<Segment>> {
        let some = |segment: &Segment| Segment {
            columns: columns.iter().map(|at| Arc::clone(&segment.columns[*at])).collect(),
            rows: segment.rows,
        };
        Ok(self.segments.iter().map(some).collect())
    }
}

fn literal(cell: &Cell) -> String {
    match cell {
        Cell::Number(number) => number.to_string(),
        Cell::Text(text) => format!("'{text}'"),
        Cell::Other(value) => other::chosen().literal(*value),
        Cell::Null | Cell::Truth(_) => "NULL".into(),
    }
}

/// A session that sees the tables in one of the forms; files go to `folder`.
pub(super) fn session(tables: &Tables, form: As, folder: &Path) -> Session {
    // A file has no intervals, times of a zone and addresses: such types are stored.
    let other = other::chosen().name;
    let is_text_in_files = ["INTERVAL", "TIME WITH", "IPADDRESS"].iter().any(|name| other.starts_with(name));
    let form = if matches!(form, As::File(_)) && is_text_in_files { As::Indexed } else { form };
    let made = Database::in_memory();
    let mut session = made.session();
    session.allow_writing(folder).unwrap();
    let types = COLUMNS.map(|(name, kind)| match kind {
        Kind::Number | Kind::Truth => format!("{name} INTEGER"),
        Kind::Text => format!("{name} VARCHAR"),
        Kind::Other => format!("{name} {other}"),
    });
    let db = Database::in_memory();
    for (name, (_, rows)) in tables {
        let versioned = if form == As::Past { " WITH SYSTEM VERSIONING" } else { "" };
        session.run(format!("CREATE TABLE {name} ({}){versioned}", types.join(", "))).unwrap();
        for row in rows {
            let row: Vec<String> = row.iter().map(literal).collect();
            session.run(format!("INSERT INTO {name} VALUES ({})", row.join(", "))).unwrap();
        }
        match form {
            As::Indexed => {
                // Rules that lean on keys need one.
                session.run(format!("ALTER TABLE {name} ADD PRIMARY KEY ({})", COLUMNS[0].0)).unwrap();
                for (column, _) in COLUMNS {
                    session.run(format!("CREATE INDEX {name}_{column}_ix ON {name} ({column})")).unwrap();
                }
            }
            As::Past => {
                // Rows that came and went, and versions of those that stayed.
                let (key, number) = (COLUMNS[0].0, COLUMNS[1].0);
                for change in [
                    format!("INSERT INTO {name} ({key}, {number}) VALUES (77, 1), (78, NULL)"),
                    format!("DELETE FROM {name} WHERE {key} > 70"),
                    format!("UPDATE {name} SET {key} = {key}"),
                ] {
                    session.run(&change).unwrap();
                }
            }
            As::Segments | As::Source => {
                let rows = session.query(format!("SELECT * FROM {name}"), ()).unwrap();
                let columns: Vec<Column> =
                    rows.columns().iter().map(|column| Column::new(&column.name, column.sql_type)).collect();
                let segment = |batch: RecordBatch| -> Segment {
                    let columns: Vec<ArrayRef> = batch.columns().to_vec();
                    Segment { columns, rows: batch.num_rows() }
                };
                let segments: Vec<Segment> = rows.batches().unwrap().into_iter().map(segment).collect();
                if form == As::Source {
                    db.add_source(name, Arc::new(Source { columns, segments })).unwrap();
                } else {
                    db.add_segments(name, &columns, segments).unwrap();
                }
            }
            As::File(ending) => {
                let path = folder.join(format!("{name}.{ending}"));
                session.run(format!("INSERT INTO FILE '{}' SELECT * FROM {name}", path.display())).unwrap();
                db.add_file(name, path).unwrap();
            }
        }
    }
    if form == As::Past {
        let rows = session.query("SELECT MAX(commit_number) FROM INFORMATION_SCHEMA.COMMITS", ()).unwrap();
        let then: i64 = rows.rows().next().unwrap().get(0).unwrap();
        for name in tables.keys() {
            let (key, number) = (COLUMNS[0].0, COLUMNS[1].0);
            session.run(format!("UPDATE {name} SET {number} = 3; DELETE FROM {name} WHERE {key} < 3")).unwrap();
            session.run(format!("INSERT INTO {name} ({key}) VALUES (99)")).unwrap();
        }
        session.run(format!("SET AS OF = COMMIT {then}")).unwrap();
    }
    if matches!(form, As::Indexed | As::Past) { session } else { db.session() }
}
