//! Files of typed rows as tables: Parquet, Arrow's IPC format, tables of SQLite. What a file is, its first bytes say.

mod arrow;
mod parquet;
mod sqlite;

use std::fs::File;
use std::io::Read;
use std::path::Path;

use typhos_core::table::TableError;
use typhos_load::TargetError;

use crate::embedded::EmbeddedTable;

pub use arrow::ArrowTable;
pub use parquet::ParquetTable;
pub use sqlite::SqliteTable;

/// What files of typed rows are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FileForm {
    /// A Parquet file, or a directory of them.
    Parquet,
    /// A file of Arrow's IPC format.
    Arrow,
    /// A SQLite database, which has tables.
    Sqlite,
    /// A directory with an embedded index.
    Index,
}

impl FileForm {
    /// What a path holds, by its first bytes; `None` where it is none of these. A directory is one of Parquet files.
    ///
    /// # Errors
    /// A file that cannot be read.
    pub fn of(path: &Path) -> Result<Option<FileForm>, TargetError> {
        if path.is_dir() && EmbeddedTable::is_in(path) {
            return Ok(Some(FileForm::Index));
        }
        if path.is_dir() {
            return Ok(Some(FileForm::Parquet));
        }
        let mut head = Vec::new();
        File::open(path)
            .and_then(|file| file.take(16).read_to_end(&mut head))
            .map_err(TargetError::io(path))?;
        Ok(match &head[..] {
            [b'P', b'A', b'R', b'1', ..] => Some(FileForm::Parquet),
            [b'A', b'R', b'R', b'O', b'W', b'1', ..] => Some(FileForm::Arrow),
            b"SQLite format 3\0" => Some(FileForm::Sqlite),
            _ => None,
        })
    }
}

/// An error of files as one of a table.
fn of_table(error: TargetError) -> TableError {
    match error {
        TargetError::Input(error) => TableError::Input(error),
        other => TableError::Source(Box::new(other)),
    }
}
