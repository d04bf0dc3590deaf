//! Where typed rows go: one module a target.
//!
//! A target has two halves. Its [`Encoder`] is shared by all threads and turns the batches of a block
//! into whatever the target takes; its [`Sink`] takes the encoded blocks in the order of the input,
//! and makes them visible all at once when it [finishes](Sink::finish). A sink that is dropped
//! before leaves nothing behind. [`load`] runs both over an input and keeps the account.
//!
//! To add a target: a module with an encoder and a sink, a line in [`Destination`], and its name in
//! the help of `typhos load`.
#![warn(missing_docs)]

mod load;
pub mod parquet;
mod rejects;
mod sorted;
pub mod sqlite;
mod weigh;
mod whole;

use std::path::{Path, PathBuf};

use arrow_array::RecordBatch;
use thiserror::Error;
use typhos_core::sorting::SortError;

pub use load::{Destination, LoadError, LoadOptions, LoadReport, load};
pub use weigh::{Wanted, Weighed, Weighing, Weight, weigh};
pub use whole::{refuse_existing, write_file};

/// Why a target failed.
#[derive(Debug, Error)]
pub enum TargetError {
    /// A file cannot be made or written.
    #[error("{}: {source}", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// The output is there already.
    #[error("{} exists already; nothing was written (pass --replace to replace it)", .0.display())]
    Exists(PathBuf),
    /// The table is there already.
    #[error("{} has a table '{table}' already; nothing was written (pass --replace to replace it)", path.display())]
    TableExists {
        /// The database.
        path: PathBuf,
        /// The table.
        table: String,
    },
    /// The path is something else than the target would make of it.
    #[error("{} {what}", path.display())]
    NotThat {
        /// The path.
        path: PathBuf,
        /// What is wrong about it.
        what: String,
    },
    /// A value that the target cannot hold.
    #[error("column '{column}': {value} {reason}")]
    CannotHold {
        /// The column.
        column: String,
        /// The value.
        value: String,
        /// Why, and what to declare instead.
        reason: String,
    },
    /// The Parquet writer failed.
    #[error("{}: {source}", path.display())]
    Parquet {
        /// The file.
        path: PathBuf,
        /// What the writer said.
        source: ::parquet::errors::ParquetError,
    },
    /// Rows could not be sorted.
    #[error(transparent)]
    Sort(#[from] SortError),
    /// SQLite failed.
    #[error("{}: {source}", path.display())]
    Sqlite {
        /// The database.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
}

impl TargetError {
    pub(crate) fn io(path: &Path) -> impl FnOnce(std::io::Error) -> TargetError + '_ {
        move |source| TargetError::Io { path: path.to_path_buf(), source }
    }
}

/// Turns batches into what a target takes, on any thread.
pub trait Encoder: Sync {
    /// What one block becomes.
    type Encoded: Send;
    /// The work on one block.
    type Unit<'e>: EncodeUnit<Encoded = Self::Encoded>
    where
        Self: 'e;

    /// Begins a block whose middle stands at a share of the whole, from 0 to 1: 0 where nobody knows.
    ///
    /// # Errors
    /// Whatever keeps the target from taking it.
    fn begin(&self, share: f64) -> Result<Self::Unit<'_>, TargetError>;

    /// How many parts the whole is shared out to.
    fn parts(&self) -> usize {
        1
    }
}

/// One block being encoded.
pub trait EncodeUnit {
    /// What the block becomes.
    type Encoded;

    /// Adds a batch.
    ///
    /// # Errors
    /// A value that the target cannot hold.
    fn push(&mut self, batch: RecordBatch) -> Result<(), TargetError>;

    /// Ends the block.
    ///
    /// # Errors
    /// Whatever keeps the target from taking it.
    fn finish(self) -> Result<Self::Encoded, TargetError>;
}

/// Takes encoded blocks in the order of the input.
pub trait Sink: Send {
    /// What blocks become.
    type Encoded;

    /// Takes the next block.
    ///
    /// # Errors
    /// Whatever keeps the target from taking it.
    fn append(&mut self, encoded: Self::Encoded) -> Result<(), TargetError>;

    /// Makes everything visible at once.
    ///
    /// # Errors
    /// Whatever keeps the target from that; then nothing is visible.
    fn finish(self) -> Result<(), TargetError>;
}
