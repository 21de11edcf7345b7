//! Whether the database is whole: every column can be read, and every row keeps the constraints of its table.

use super::Session;
use super::change::stored;
use super::constraints::check_key;
use crate::bind::{MissingParameters, Parameters};
use crate::catalog::Catalog;
use crate::diagnostic::{Error, Result};
use crate::kernel::Batch;

/// What became of looking at one table.
#[derive(Debug)]
#[non_exhaustive]
pub struct TableCheck {
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// How many rows it has.
    pub rows: u64,
    /// The first thing that is wrong with it.
    pub problem: Option<Error>,
}

impl Session {
    /// Reads every table that the database keeps, column by column (each is stored with a checksum), and checks all constraints over
    /// all rows, those too that a load with CHECKS OFF has left unproven. O(rows); one table is held in memory at a time.
    pub fn verify(&self) -> Vec<TableCheck> {
        let catalog = self.catalog();
        let mut checks = Vec::new();
        for (schema, table) in catalog.tables().filter(|(_, table)| table.definition.is_some()) {
            checks.push(TableCheck {
                schema: schema.to_owned(),
                name: table.name.clone(),
                rows: table.source.rows(),
                problem: self.verify_table(&catalog, schema, &table.name).err(),
            });
        }
        checks
    }

    pub(super) fn verify_table(&self, catalog: &Catalog, schema: &str, name: &str) -> Result<()> {
        let (source, definition) = stored(catalog, schema, name)?;
        let columns = source.columns_whole()?;
        let rows = Batch::new(columns, usize::try_from(crate::catalog::TableSource::rows(&*source)).unwrap_or(0));
        let (files, parameters) = (self.files(), Parameters::new());
        let around = self.around(catalog, &files, &parameters, MissingParameters::Refuse);
        let changer = self.changer(catalog, &around);
        changer.check_rows((schema, name), &definition, &rows)?;
        for key in &definition.keys {
            check_key(name, &definition, key, (&source, &rows))?;
        }
        definition.references.iter().try_for_each(|key| changer.check_reference(name, &definition, key, &rows))
    }
}
