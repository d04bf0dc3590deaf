//! Typed rows in an order: what comes first, and how many rows are sorted in little memory.
//!
//! A [`SortOrder`] turns rows into keys that compare as bytes. Each block of the input is sorted on the
//! thread that converted it and becomes a run; [`SortedRuns`] holds runs in memory up to a limit and puts the
//! others aside; a [`Merge`] reads all of them at once, a stretch of each at a time, and
//! gives the rows back in order. Rows with equal keys stay in the order of the input, so the result does
//! not depend on threads, blocks or the limit.
//!
//! Absent comes last, whichever way a column is sorted. A ranked category is sorted by the order of its
//! list, every other text by its bytes, floats with NaN after all numbers.

mod merge;
mod order;
mod runs;
mod source;

#[cfg(test)]
mod tests;

use thiserror::Error;

pub use merge::Merge;
pub use order::{Grouping, SortOrder, SortedBatch};
pub use runs::{DEFAULT_SORT_MEMORY, LEAST_SORT_MEMORY, SortedRuns};

/// Why rows could not be sorted.
#[derive(Debug, Error)]
pub enum SortError {
    /// A temporary file cannot be made, written or read.
    #[error("sorting in {place}: {source}")]
    Io {
        /// Where rows are put aside.
        place: String,
        /// What the operating system said.
        source: std::io::Error,
    },
    /// The rows of a temporary file cannot be written or read.
    #[error("sorting in {place}: {source}")]
    Arrow {
        /// Where rows are put aside.
        place: String,
        /// What is wrong with them.
        source: arrow_schema::ArrowError,
    },
}
