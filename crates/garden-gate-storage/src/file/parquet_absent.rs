//! In the place of Parquet files, in a build without the feature `parquet`: every use is 0A000.

use super::problem::Problem;
use super::{FileTable, Location};
use crate::diagnostic::{Error, Result};
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use arrow::error::ArrowError;
use std::fs::File;

/// Says which feature is off.
pub(super) fn open(at: &Location) -> Result<FileTable> {
    Err(Error::from_facts(&Problem::FeatureOff { what: "Parquet files", feature: "parquet" }).in_file(at.path(), None))
}

/// A writer that nothing makes.
pub(super) enum ParquetWriter {}

impl ParquetWriter {
    /// Says which feature is off.
    pub(super) fn new(_: File, _: SchemaRef) -> Result<Self, ArrowError> {
        let problem = Problem::FeatureOff { what: "Parquet files", feature: "parquet" };
        Err(ArrowError::NotYetImplemented(problem.to_string()))
    }

    /// Never called: there is no such writer.
    pub(super) fn write(&mut self, _: &RecordBatch) -> Result<(), ArrowError> {
        match *self {}
    }

    /// Never called.
    pub(super) fn finish(&mut self) -> Result<(), ArrowError> {
        match *self {}
    }
}
