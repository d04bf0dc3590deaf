//! Types, and the declaration a person keeps: the model, and TOML in and out.
//!
//! A [`Schema`] is read from a `NAME.typhos.toml` file with every mistake in it reported at once
//! ([`read`]), or drafted from a survey by `infer` and written ([`write`]). It is
//! [bound](Schema::bind) to an input before any value is looked at. What it does to values is the
//! business of `columns`.

mod agree;
mod bind;
mod difference;
mod integers;
mod keep;
mod layout;
mod model;
pub(crate) mod read;
mod read_column;
mod read_input;
mod relation;
mod scalar;
mod types;
mod units;
mod write;

pub use bind::{ColumnSource, REJECTED_COLUMNS};
pub use difference::{Change, SchemaDifference, Subject, differences};
pub use integers::IntType;
pub use keep::{Kept, keep};
pub(crate) use layout::unknown_column;
pub use layout::{Compression, LAYOUT_KEYS, Layout, Partition, PartitionBy, SortKey};
pub use model::{
    ColumnDecl, ColumnFrom, Diagnostic, Generate, GlueAbsent, InputDecl, Misfit, Rounding, Schema,
    Search,
};
pub use read::{ReadValues, read};
pub use read_column::COLUMN_KEYS;
pub(crate) use read_column::iso_8601;
pub use read_input::{INPUT_KEYS, is_list_path, read_input};
pub use relation::{Held, Relation, Shortfall, nests_alike, relation};
pub use scalar::{
    MAX_PRECISION, SCALARS, Scalar, Spelling, TYPE_NAMES, TypeError, code_type, point_fields,
};
pub use types::{Leaf, Type};
pub use units::TimeUnit;
pub use write::{column_line, column_lines, column_table, quoted, write, write_input};
pub(crate) use write::{style_parts, write_with};

/// Version of the schema file's format that this program reads and writes.
pub const FORMAT_VERSION: i64 = 1;
