//! Bytes → records of JSON lines.
//!
//! Every line of a text is one object. Which names its objects have is learned from every record ([`learn`]), before
//! anything is made of them: the paths of their values are the columns. After that a block is split as one of
//! delimited text is ([`JsonSplit`]), and what is split is the same kind of thing: leaves as offsets into the block.
//! Numbers are spans of digits until a column reads them; no digit is lost on the way through a double.
//!
//! A line that is no object is a broken record, and the next line is read. A text is told from a number; apart from
//! that its contents are read as a field of delimited text is. Arrays, and objects where other values have the same
//! path, are kept as they are written.

mod cursor;
mod follow;
mod gaps;
#[cfg(test)]
mod gaps_tests;
mod inner;
mod insides;
mod learn;
mod members;
mod records;
mod split;
#[cfg(test)]
mod tests;
mod trace;
mod twice;
mod unescape;
mod walk;

pub(crate) use inner::{Inner, MemberReader, each_item};
pub(crate) use learn::learned;
pub use learn::{confirm, learn, learn_first};

/// The member of an object in a rejects file that holds a record which is no object, as a text: until it is mended, it
/// is set aside again.
pub const REJECTED_TEXT: &str = "rejected_text";

pub use records::{JsonRecords, JsonValues};
pub use split::JsonSplit;
