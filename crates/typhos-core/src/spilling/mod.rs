//! Work that does not fit into memory: where it is put aside, and byte strings that are sorted there.
//!
//! The core makes no files. Whoever uses it says where things are put aside, by a [`Scratch`]; what is put there
//! is read as often as it is wanted and is gone when it is dropped. Rows of a table have their own runs and their
//! own merge, in [`sorting`](crate::sorting), on the same scratch.

mod bytes;
#[cfg(test)]
pub(crate) mod testing;

use std::fmt::Debug;
use std::io::{self, Read, Write};

pub use bytes::{ByteMerge, ByteRuns};

/// The most runs that are merged at once: a stretch of each is held in memory, and a file of each is open.
pub const FAN_IN: usize = 64;

/// A place for temporary data.
pub trait Scratch: Debug + Send + Sync {
    /// Puts something aside: all that `fill` writes, in one go.
    ///
    /// # Errors
    /// What `fill` fails with, and a place that takes no more.
    fn write(
        &self,
        fill: &mut dyn FnMut(&mut dyn Write) -> io::Result<()>,
    ) -> io::Result<Box<dyn Spilled>>;

    /// Where that is, for whoever has to make room there.
    fn place(&self) -> String;
}

/// Something that was put aside; it is gone when this is dropped.
pub trait Spilled: Debug + Send + Sync {
    /// Reads it from its start.
    ///
    /// # Errors
    /// What the system says.
    fn open(&self) -> io::Result<Box<dyn Read + Send>>;
}
