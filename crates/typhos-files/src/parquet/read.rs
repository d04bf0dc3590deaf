//! What was written to Parquet, read back: the files at a path, and their first rows.

use std::path::{Path, PathBuf};

use ::parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder};
use ::parquet::errors::ParquetError;
use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

use crate::damaged::{Bounded, guarded};
use typhos_load::TargetError;

/// Rows that are read at once.
const MOST_BATCH: usize = 1024;

/// The Parquet files at a path: the file itself, or all parts in a directory, in order.
///
/// # Errors
/// A path that cannot be read, and a directory without Parquet files.
pub fn files(path: &Path) -> Result<Vec<PathBuf>, TargetError> {
    if !path.is_dir() {
        return Ok(vec![path.to_path_buf()]);
    }
    let mut files = Vec::new();
    collect(path, &mut files)?;
    files.sort();
    if files.is_empty() {
        let what = "has no Parquet files in it".into();
        return Err(TargetError::NotThat { path: path.to_path_buf(), what });
    }
    Ok(files)
}

/// The Parquet files in a directory and in its partitions.
fn collect(directory: &Path, files: &mut Vec<PathBuf>) -> Result<(), TargetError> {
    for entry in std::fs::read_dir(directory).map_err(TargetError::io(directory))? {
        let path = entry.map_err(TargetError::io(directory))?.path();
        let is_partition =
            path.file_name().is_some_and(|name| name.as_encoded_bytes().contains(&b'='));
        if path.is_dir() && is_partition {
            collect(&path, files)?;
        } else if path.extension().is_some_and(|extension| extension == "parquet") {
            files.push(path);
        }
    }
    Ok(())
}

/// The first rows of what was loaded, and how many there are.
///
/// # Errors
/// Files that cannot be read or are no Parquet.
pub fn head(path: &Path, rows: usize) -> Result<(SchemaRef, Vec<RecordBatch>, u64), TargetError> {
    guarded(path, || first_rows(path, rows))
}

fn first_rows(path: &Path, rows: usize) -> Result<(SchemaRef, Vec<RecordBatch>, u64), TargetError> {
    let mut total = 0;
    let mut batches: Vec<RecordBatch> = Vec::new();
    let mut schema = None;
    let mut missing = rows;
    for file in files(path)? {
        let failed = |source: ParquetError| TargetError::Format {
            path: file.clone(),
            source: source.into(),
        };
        let open = Bounded::open(&file)?;
        let builder = ParquetRecordBatchReaderBuilder::try_new(open).map_err(failed)?;
        total += builder.metadata().file_metadata().num_rows().unsigned_abs();
        schema.get_or_insert_with(|| builder.schema().clone());
        if missing > 0 {
            let batch = missing.clamp(1, MOST_BATCH);
            let reader: ParquetRecordBatchReader =
                builder.with_limit(missing).with_batch_size(batch).build().map_err(failed)?;
            for batch in reader {
                let batch = batch.map_err(|error| failed(error.into()))?;
                missing = missing.saturating_sub(batch.num_rows());
                batches.push(batch);
            }
        }
    }
    Ok((schema.expect("there is at least one file"), batches, total))
}
