//! Files that rows are loaded into and that are read back: Parquet, Arrow's IPC format, tables of SQLite, embedded search
//! indexes, [tables of a lake](iceberg); and what a table would take in one; and such files as [tables] to look at.
//!
//! Each has a module and a [`TargetKind`] in [`KINDS`]. Files of delimited text are [origins], on this machine or in a [store].
#![warn(missing_docs)]

pub mod arrow_file;
mod damaged;
pub mod embedded;
pub mod iceberg;
mod in_store;
pub mod origins;
pub mod parquet;
mod scratch;
pub mod sqlite;
pub mod store;
pub mod tables;
mod weigh;

use typhos_load::{Address, Destination, KindError, Kinds, TargetKind};

pub use weigh::{WeighAs, Weighed, Weighing, Weight, weigh};

/// The kinds of files that can be loaded into.
pub static KINDS: [TargetKind; 6] =
    [parquet::KIND, arrow_file::KIND, sqlite::KIND, embedded::KIND, iceberg::KIND, in_store::KIND];

/// A file or directory as a destination.
///
/// # Errors
/// A path that does not say what to write.
pub fn destination(address: &Address<'_>) -> Result<Box<dyn Destination>, KindError> {
    Kinds::new(&KINDS).open(address, false)
}
