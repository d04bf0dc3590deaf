//! Kinds of values, where a format tells them apart.

use serde::{Deserialize, Serialize};

use crate::records::{LineRef, PATH_KINDS, PathKind};

/// How many values of each kind the records have at one path, and where the first stands.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KindFacts {
    /// By [`PathKind`].
    kinds: [(u64, Option<LineRef>); PATH_KINDS],
}

impl KindFacts {
    /// Facts of these counts.
    pub(super) fn new(of: impl Fn(PathKind) -> (u64, Option<LineRef>)) -> KindFacts {
        KindFacts { kinds: PathKind::ALL.map(of) }
    }

    /// How many values are of a kind, and where the first stands.
    pub fn of(&self, kind: PathKind) -> (u64, Option<LineRef>) {
        self.kinds[kind as usize]
    }

    /// Records that have the path, be it with a value or with null.
    pub fn count(&self) -> u64 {
        self.kinds.iter().map(|(count, _)| count).sum()
    }

    pub(super) fn merge(&mut self, other: &KindFacts) {
        for ((count, first), (more, theirs)) in self.kinds.iter_mut().zip(other.kinds) {
            *count += more;
            *first = match (*first, theirs) {
                (Some(a), Some(b)) => Some(a.min(b)),
                (a, b) => a.or(b),
            };
        }
    }

    pub(super) fn move_places(&mut self, new: &dyn Fn(LineRef) -> LineRef) {
        for (_, first) in &mut self.kinds {
            *first = first.map(new);
        }
    }
}
