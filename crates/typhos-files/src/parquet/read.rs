//! The Parquet files at a path.

use std::path::{Path, PathBuf};

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
