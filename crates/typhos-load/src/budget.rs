//! The memory of a load: one budget that its threads share.
//!
//! Blocks are as large as makes good row groups, whatever the number of threads, so that files do not depend on it. What
//! gives way where memory is short is how many blocks are worked on at once. Outside of the budget are the page
//! cache, and what a database does in memory of its own.

use std::num::NonZeroUsize;

/// Bytes that a load may take, where nothing is said.
pub const DEFAULT_MEMORY: usize = 256 << 20;

/// Less than this is not enough to work with, or to merge sorted rows with.
pub const LEAST_MEMORY: usize = typhos_core::sorting::LEAST_SORT_MEMORY;

/// What the program takes by itself.
const BASE: usize = 24 << 20;

/// How many threads may work at once that take so many bytes each.
pub fn threads_within(wanted: NonZeroUsize, memory: usize, each: usize) -> NonZeroUsize {
    let most = memory.saturating_sub(BASE) / each.max(1);
    wanted.min(NonZeroUsize::new(most).unwrap_or(NonZeroUsize::MIN))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn threads_share_the_budget_and_one_always_works() {
        let threads = |wanted, memory, each| {
            threads_within(NonZeroUsize::new(wanted).unwrap(), memory, each).get()
        };
        assert_eq!(threads(8, DEFAULT_MEMORY, 1 << 20), 8);
        assert_eq!(threads(8, DEFAULT_MEMORY, 50 << 20), 4);
        assert_eq!(threads(8, LEAST_MEMORY, 1 << 30), 1);
    }
}
