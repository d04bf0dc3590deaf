//! Records that could not be split, as a survey remembers them.

use serde::{Deserialize, Serialize};

use crate::records::BrokenKind;
use crate::text::LineRef;

/// A record that could not be split into the columns of the input.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BrokenRecord {
    /// Where it stands.
    pub place: LineRef,
    what: What,
}

/// What is wrong with it. Lines are counted from its first, so that they hold wherever it is moved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "snake_case")]
enum What {
    /// In words.
    Words(String),
    /// A quote that is never closed, as [`BrokenKind::NeverClosed`] has it.
    NeverClosed { lines_before: u32, lines: u32, next: Option<u32> },
    /// One that is not closed within the record limit, as [`BrokenKind::TooLong`] has it.
    TooLong { limit: usize, lines_before: u32 },
}

impl BrokenRecord {
    /// A record of a block that starts on the line `first`.
    pub(super) fn new(place: LineRef, kind: BrokenKind, first: u64) -> BrokenRecord {
        // The lines of the block before the record.
        let before = place.line.saturating_sub(first) as u32;
        let what = match kind {
            BrokenKind::NeverClosed { lines_before, lines, next } => What::NeverClosed {
                lines_before: lines_before.saturating_sub(before),
                lines,
                next: next.map(|next| next.saturating_sub(before)),
            },
            BrokenKind::TooLong { limit, quote: Some(lines_before) } => {
                What::TooLong { limit, lines_before }
            }
            other => What::Words(other.describe(first).into_owned()),
        };
        BrokenRecord { place, what }
    }

    /// What is wrong with it, as a clause.
    pub fn reason(&self) -> String {
        let kind = match &self.what {
            What::Words(words) => return words.clone(),
            What::NeverClosed { lines_before, lines, next } => {
                BrokenKind::NeverClosed { lines_before: *lines_before, lines: *lines, next: *next }
            }
            What::TooLong { limit, lines_before } => {
                BrokenKind::TooLong { limit: *limit, quote: Some(*lines_before) }
            }
        };
        kind.describe(self.place.line).into_owned()
    }
}
