//! Bytes → blocks → records → fields.
//!
//! An [`Input`] is one or more files read as one table. A [`BlockReader`] reads it in blocks of a few
//! MiB, each cut after the end of a record, so that blocks can be worked on by any thread. A
//! [`Splitter`] finds the fields of a block, a few thousand records at a time, as offsets into the
//! block: a field is a slice, never a `String` of its own. What a field *means* is not decided here;
//! only [`sniff`] asks the readings whether a first record looks like the ones below it.
//!
//! # How records are split
//!
//! * A record ends at LF; a CR before it belongs to the line end. The last record needs none.
//! * A quote opens a quoted field only as the first byte of a field; elsewhere it is a plain byte.
//! * In a quoted field two quotes are one quote, and delimiters and line ends are plain bytes.
//! * Text after a closing quote, a quote that is never closed, and a wrong number of fields make a
//!   [`Broken`] record. It is told apart and counted, and its neighbours are not touched.
//! * A blank line is no record, except in input of one column, where it is an absent value.
//!
//! The result does not depend on the block size, the slice size or the number of threads.

mod blocks;
mod dialect;
mod input;
mod plain;
mod scanner;
pub mod sniff;
mod source;
mod split;

pub use blocks::{Block, BlockReader, DEFAULT_BLOCK_BYTES, MAX_RECORD_BYTES};
pub use dialect::{Dialect, DialectChoice, delimiter_name, parse_delimiter, parse_encoding};
pub use input::{Input, InputError, InputFile};
pub use plain::{PlainRecord, PlainRecords};
pub use source::Packing;
pub use split::{Broken, BrokenKind, Records, Splitter, unquote};
