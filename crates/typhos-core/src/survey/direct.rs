//! Facts that are made only once they are needed.

use std::sync::Arc;

use super::Facts;

/// Facts of the values that are not in a table: nearly two KiB, which a column has only once it has such values.
#[derive(Debug, Clone)]
pub(super) struct Direct {
    pub(super) made: Option<Box<Facts>>,
    /// Facts of no values, which all columns of a survey share.
    pub(super) none: Arc<Facts>,
}

impl Direct {
    pub(super) fn merge(&mut self, other: Direct) {
        match (&mut self.made, other.made) {
            (_, None) => {}
            (Some(ours), Some(theirs)) => ours.merge(*theirs),
            (ours, theirs) => *ours = theirs,
        }
    }
}

impl std::ops::Deref for Direct {
    type Target = Facts;

    fn deref(&self) -> &Facts {
        self.made.as_deref().unwrap_or(&self.none)
    }
}

impl std::ops::DerefMut for Direct {
    #[inline]
    fn deref_mut(&mut self) -> &mut Facts {
        self.made.get_or_insert_with(|| Box::new((*self.none).clone()))
    }
}
