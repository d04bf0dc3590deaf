//! How many misfits a load may have.

use serde::{Deserialize, Serialize};

/// How many misfits a load may have.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MisfitLimit {
    /// So many values and records.
    Count(u64),
    /// So many of every hundred records.
    Percent(f64),
}

impl MisfitLimit {
    /// Whether there are more, of so many records read.
    pub fn is_exceeded(self, misfits: u64, read: u64) -> bool {
        match self {
            MisfitLimit::Count(most) => misfits > most,
            MisfitLimit::Percent(percent) => misfits as f64 > percent / 100.0 * read as f64,
        }
    }
}

impl std::fmt::Display for MisfitLimit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            MisfitLimit::Count(most) => write!(f, "{most}"),
            MisfitLimit::Percent(percent) => write!(f, "{percent}%"),
        }
    }
}
