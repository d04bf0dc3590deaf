//! Where a record stands, for whoever tells of it later.

use serde::{Deserialize, Serialize};

/// Where a record stands: ordered as the parts of an input are, and the files of a survey by their names.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LineRef {
    /// Which part of the input, from 0: a file, or a stretch of one.
    #[serde(rename = "file")]
    pub part: u32,
    /// Line of the part on which the record starts, from 1.
    pub line: u64,
}
