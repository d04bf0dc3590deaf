//! Files that are written nowhere and counted: what weighing a table knows of them.

use std::path::PathBuf;

use ::parquet::arrow::arrow_writer::ArrowColumnChunk;
use arrow_schema::SchemaRef;
use typhos_core::filter::Filter;
use typhos_load::TargetError;

use super::encoder::{ParquetEncoder, RowGroups};
use super::footprint::Footprint;
use super::form::{Form, leaves};
use super::nowhere::Nowhere;
use super::writers::{Writers, writers};

/// Opens a Parquet target that keeps nothing but sizes, and for a question what a reader has to read.
pub fn nowhere(
    form: Form,
    rows: SchemaRef,
    filter: Option<&Filter>,
) -> Result<(ParquetEncoder, Counted<'_>), TargetError> {
    let path = no_path();
    let (encoder, writers) = writers(&path, vec![Nowhere::default()], form)?;
    let leaves = rows.fields().iter().map(|field| vec![0; leaves(field.data_type())]);
    let columns = leaves.collect();
    let footprint = filter.map(|filter| (filter, Footprint::default()));
    Ok((encoder, Counted { writers, rows, columns, footprint }))
}

/// A file that is written nowhere, and counted.
pub struct Counted<'f> {
    writers: Writers<Nowhere>,
    rows: SchemaRef,
    columns: Vec<Vec<u64>>,
    footprint: Option<(&'f Filter, Footprint)>,
}

/// What a file that is written nowhere would take.
pub struct Sizes {
    /// Bytes of the pages and dictionaries of each leaf of each column.
    pub columns: Vec<Vec<u64>>,
    /// Bytes of the whole file.
    pub file: u64,
    pub footprint: Option<Footprint>,
}

impl Counted<'_> {
    pub fn append(&mut self, encoded: RowGroups) -> Result<(), TargetError> {
        for group in &encoded.groups {
            let leaf: Vec<_> = group.chunks.iter().map(ArrowColumnChunk::close).collect();
            let mut sizes = leaf.iter().map(|leaf| leaf.bytes_written);
            for total in self.columns.iter_mut().flatten() {
                *total += sizes.next().unwrap_or(0);
            }
            if let Some((filter, footprint)) = &mut self.footprint {
                footprint.add(&leaf, &self.rows, filter);
            }
        }
        self.writers.append(encoded)
    }

    pub fn finish(mut self) -> Result<Sizes, TargetError> {
        let mut file = 0;
        self.writers.close(|nowhere, _| {
            file += nowhere.0;
            Ok(())
        })?;
        let footprint = self.footprint.map(|(_, footprint)| footprint);
        Ok(Sizes { columns: self.columns, file, footprint })
    }
}

/// The path that errors of a file that is written nowhere name.
fn no_path() -> PathBuf {
    PathBuf::from("the file that is weighed")
}
