//! Facts about lengths of time.

use serde::{Deserialize, Serialize};

use super::example::join;
use super::saved::ranges;
use crate::readings::{Length, NoLength, read_length};

/// Lengths of time of one column that are no times of day.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LengthFacts {
    /// How many there are of each way to write them.
    pub kinds: [u64; Length::ALL.len()],
    /// Those that have years or months, and so no length that is fixed; or more digits than are read.
    pub unfixed: u64,
    /// Most digits after the second.
    pub digits: u8,
    /// Shortest and longest, in nanoseconds.
    #[serde(with = "ranges")]
    pub range: Option<(i128, i128)>,
}

impl LengthFacts {
    pub(super) fn add(&mut self, kind: Length, value: &[u8], count: u64) {
        self.kinds[kind as usize] += count;
        match read_length(value) {
            Ok(read) => {
                self.digits = self.digits.max(read.digits);
                self.join(Some((read.nanos, read.nanos)));
            }
            Err(NoLength::Calendar | NoLength::Unwritten) => self.unfixed += count,
        }
    }

    pub(super) fn merge(&mut self, other: &LengthFacts) {
        self.kinds.iter_mut().zip(other.kinds).for_each(|(ours, theirs)| *ours += theirs);
        self.unfixed += other.unfixed;
        self.digits = self.digits.max(other.digits);
        self.join(other.range);
    }

    fn join(&mut self, range: Option<(i128, i128)>) {
        self.range = join(self.range, range, |(a, b), (c, d)| (a.min(c), b.max(d)));
    }
}
