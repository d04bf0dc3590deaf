//! The Parquet files at a path.

use std::fs::File;
use std::path::{Path, PathBuf};

use ::parquet::arrow::arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions};

use typhos_load::TargetError;

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

/// The rows of a Parquet file, as its footer counts them.
///
/// # Errors
/// A file that cannot be read, or is not one.
pub fn rows_of(path: &Path) -> Result<u64, TargetError> {
    let file = File::open(path).map_err(TargetError::io(path))?;
    let known = ArrowReaderMetadata::load(&file, ArrowReaderOptions::default());
    let known = known.map_err(|source| TargetError::Format {
        path: path.to_path_buf(),
        source: source.into(),
    })?;
    Ok(u64::try_from(known.metadata().file_metadata().num_rows()).unwrap_or(0))
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
