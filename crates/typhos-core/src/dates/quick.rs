//! The fast way to read a pattern, where there is one.

use super::fixed::Fixed;
use super::loose::Loose;
use super::moment::Moment;
use super::step::Step;

/// Reads a value as the steps do, in less time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Quick {
    /// All that the steps read, and nothing else.
    Fixed(Fixed),
    /// Most of what the steps read.
    Loose(Loose),
}

impl Quick {
    pub fn of(steps: &[Step]) -> Option<Quick> {
        Fixed::of(steps).map(Quick::Fixed).or_else(|| Loose::of(steps).map(Quick::Loose))
    }

    #[inline]
    pub fn read(&self, value: &[u8], steps: &[Step], pivot: i32, has_date: bool) -> Option<Moment> {
        match self {
            Quick::Fixed(fixed) => fixed.read(value, steps, pivot, has_date),
            Quick::Loose(loose) => loose.read(value, steps, pivot, has_date),
        }
    }
}
