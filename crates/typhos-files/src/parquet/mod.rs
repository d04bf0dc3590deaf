//! Parquet: one file, or a directory of parts.
//!
//! Each block of the input becomes a row group, encoded and compressed on the thread that converted
//! it; the sink only appends bytes. [`form`] says how files are written, [`read`] reads them back.

mod blocks;
mod counted;
mod encoder;
mod encoding;
mod footprint;
mod form;
mod nowhere;
mod packing;
pub(crate) mod pages;
mod partitions;
mod read;
mod recast;
mod target;
mod writers;

pub use blocks::{ROW_GROUP_INPUT_BYTES, block_bytes};
pub(crate) use counted::{Counted, nowhere};
pub use encoder::{ParquetEncoder, RowGroupUnit, RowGroups};
pub use footprint::Footprint;
pub use form::{Form, RANKED_KEY, SORT_KEY, fidelity_notes};
pub(crate) use form::{sorted_by_value, unit_words};
pub use partitions::PartitionedEncoder;
pub use read::{files, rows_of};
pub(crate) use target::ParquetTarget;
pub use target::{InTable, KIND, ParquetSink};
