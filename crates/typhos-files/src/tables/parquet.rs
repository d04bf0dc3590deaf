//! Parquet files as one table: the parts of a directory in the order of their names.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use ::parquet::arrow::ProjectionMask;
use ::parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use ::parquet::errors::ParquetError;
use arrow_array::RecordBatch;
use arrow_schema::{DataType, SchemaRef};
use typhos_core::table::{Passed, Sieve, Table, TableError};
use typhos_load::TargetError;

use super::of_table;
use crate::damaged::{Bounded, guarded};
use crate::parquet::files;

/// Rows that are read at once.
const MOST_BATCH: usize = 1024;

/// One or more Parquet files of the same columns.
#[derive(Debug)]
pub struct ParquetTable {
    path: PathBuf,
    files: Vec<PathBuf>,
    schema: SchemaRef,
    rows: u64,
}

/// Whether two parts have the same columns. What is noted of them, whether they may be null and how wide their codes are may
/// differ from part to part.
fn are_alike(one: &SchemaRef, other: &SchemaRef) -> bool {
    let plain = |data_type: &DataType| match data_type {
        DataType::Dictionary(_, words) => (**words).clone(),
        other => other.clone(),
    };
    let mut pairs = one.fields().iter().zip(other.fields());
    one.fields().len() == other.fields().len()
        && pairs.all(|(a, b)| a.name() == b.name() && plain(a.data_type()) == plain(b.data_type()))
}

type Builder = ParquetRecordBatchReaderBuilder<Bounded>;

fn open(file: &Path) -> Result<Builder, TargetError> {
    Builder::try_new(Bounded::open(file)?).map_err(failed(file))
}

fn failed(file: &Path) -> impl Fn(ParquetError) -> TargetError {
    move |source| TargetError::Format { path: file.to_path_buf(), source: source.into() }
}

impl ParquetTable {
    /// Opens the files at a path: the file itself, or all parts in a directory.
    ///
    /// # Errors
    /// Files that cannot be read or are no Parquet, and parts with other columns than the first.
    pub fn open(path: &Path) -> Result<ParquetTable, TargetError> {
        guarded(path, || {
            let files = files(path)?;
            let (mut first, mut rows) = (None::<SchemaRef>, 0);
            for file in &files {
                let builder = open(file)?;
                let schema = first.get_or_insert_with(|| builder.schema().clone());
                if !are_alike(schema, builder.schema()) {
                    let what = format!("has other columns than {}", files[0].display());
                    return Err(TargetError::NotThat { path: file.clone(), what });
                }
                rows += builder.metadata().file_metadata().num_rows().unsigned_abs();
            }
            let schema = first.expect("there is at least one file");
            Ok(ParquetTable { path: path.to_path_buf(), files, schema, rows })
        })
    }

    /// Reads one of the files. Returns whether more is wanted.
    fn read_file(
        &self,
        file: &Path,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<bool, TargetError> {
        let mut builder = open(file)?;
        let wanted = sieve.columns().iter().copied();
        let mask = ProjectionMask::roots(builder.parquet_schema(), wanted);
        builder = builder.with_projection(mask);
        let mut batch_rows = MOST_BATCH;
        if let Some(most) = sieve.most().and_then(|most| usize::try_from(most).ok()) {
            batch_rows = most.clamp(1, MOST_BATCH);
            builder = builder.with_limit(most);
        }
        for batch in builder.with_batch_size(batch_rows).build().map_err(failed(file))? {
            let batch = batch.map_err(|error| failed(file)(error.into()))?;
            if each(sieve.pass(&batch)).is_break() || sieve.is_done() {
                return Ok(false);
            }
        }
        Ok(true)
    }
}

impl Table for ParquetTable {
    fn schema(&self) -> SchemaRef {
        self.schema.clone()
    }

    fn rows(&self) -> Option<u64> {
        Some(self.rows)
    }

    fn read_through(
        &mut self,
        sieve: &mut Sieve,
        each: &mut dyn FnMut(RecordBatch) -> ControlFlow<()>,
    ) -> Result<Passed, TableError> {
        let read = guarded(&self.path, || {
            for file in &self.files {
                if sieve.is_done() || !self.read_file(file, sieve, each)? {
                    break;
                }
            }
            Ok(())
        });
        read.map_err(of_table)?;
        Ok(Passed::default())
    }
}
