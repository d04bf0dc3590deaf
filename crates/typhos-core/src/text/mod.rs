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
//! * A record ends at LF; a CR before it belongs to the line end. Where the dialect says so, a CR alone
//!   ends a line as well. The last record needs no line end.
//! * A quote opens a quoted field only as the first byte of a field; elsewhere it is a plain byte.
//! * In a quoted field two quotes are one quote, and delimiters and line ends are plain bytes. Where the
//!   dialect says so, a backslash does the same for the one byte behind it, in quotes or not.
//! * Text after a closing quote, a quote that is never closed, a wrong number of fields and too many
//!   bytes make a [`Broken`] record. It is told apart and counted, and its neighbours are not touched: a
//!   record whose quote is never closed ends before the next line that looks like a record.
//! * Where the dialect says so, fields that a record leaves out at its end are absent.
//! * A blank line is no record, except in input of one column, where it is an absent value. Comments are
//!   no records.
//!
//! The result does not depend on the block size, the slice size or the number of threads.

mod begin;
mod blocks;
mod charset;
mod choice;
mod cut;
mod dialect;
mod file;
mod file_layout;
mod format;
mod guess;
mod held_back;
mod input;
mod input_error;
mod json_lines;
mod matching;
mod origin;
mod other_formats;
mod part;
mod plain;
mod scanner;
pub mod sniff;
mod split;
#[cfg(test)]
mod testing;
mod text_records;
mod transcode;
mod unclosed;
mod walk;

pub use blocks::{Block, BlockReader, Blocks, DEFAULT_BLOCK_BYTES, mean_record_bytes};
pub use charset::Charset;
pub use choice::{
    ColumnsDiffer, DEFAULT_COLUMN_LIMIT, DEFAULT_DEPTH_LIMIT, DEFAULT_FIELD_LIMIT,
    DEFAULT_RECORD_LIMIT, FIELD_LIMITS, InputChoice, InputFormat, MOST_SKIPPED, QuotedEmpty,
    ShortRecords, Undeclared, WithoutElements, parse_lines, parse_record_limit, parse_size,
};
pub use dialect::{
    Dialect, Escape, LineEnds, delimiter_name, delimiter_word, parse_comment, parse_delimiter,
    parse_quote,
};
pub use file::InputFile;
pub use file_layout::FileLayout;
pub use format::Packing;
pub use input::Input;
pub use input_error::InputError;
pub use json_lines::JsonShape;
pub use matching::Difference;
pub use origin::{Bytes, Memory, Origin, Stamp};
pub use part::{MOST_PARTS, Part, ReadPiece, Whole};
pub use plain::{PlainRecord, PlainRecords};
pub(crate) use scanner::{digits_among, ends_of_plain, places_alike};
pub use split::Splitter;
pub use text_records::TextRecords;

pub use crate::records::{Broken, BrokenKind, LineRef};
pub use crate::wording::size_name;
