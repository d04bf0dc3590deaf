//! What every column that is being filled can do. The cells of single values are in [`scalars`](super::scalars), those that
//! nest in [`nested`](super::nested).

use arrow_array::ArrayRef;

use super::Reason;
use super::runs::Run;

/// A column that is being filled.
pub(super) trait Cells: Send {
    /// Adds the first values of a run, as many as are read the short way; see [`runs`](super::runs). Says how many.
    fn push_run(&mut self, _run: Run<'_>) -> usize {
        0
    }

    /// Whether a text that means "no value" might be taken for one by [`push_run`](Self::push_run).
    fn may_take(&self, _token: &[u8]) -> bool {
        true
    }

    /// Reads a value that is not absent. On an error nothing is appended.
    fn push(&mut self, value: &[u8]) -> Result<(), Reason>;

    fn push_null(&mut self);

    /// Drops the cells beyond the first `rows` since the last [`finish`](Self::finish).
    fn truncate(&mut self, rows: usize);

    /// Takes the array of all cells since the last time.
    fn finish(&mut self) -> ArrayRef;

    /// The declared lower bound in the units of the type, where values are numbers of units.
    fn low(&self) -> Option<i64> {
        None
    }

    /// How many values were changed since the last time, as the column declares.
    fn changed(&mut self) -> u64 {
        0
    }

    /// Hands on what did not fit inside of the last value and became null there, as declared. This is called for every
    /// value: where nothing is inside of one, nothing is left of the call.
    #[inline]
    fn hand_on_nulled(&mut self, _to: &mut dyn FnMut(Reason)) {}

    /// Forgets what was kept from one array for the next.
    fn reset(&mut self) {}
}

/// Something to do with the cells of a column, whatever their type: how [`with_cells`](super::nested::with_cells) calls back.
pub(super) trait Visit {
    type Out;

    fn visit<C: Cells + 'static>(self, cells: C) -> Self::Out;
}

/// Puts cells of any type into a box.
pub(super) struct Boxed;

impl Visit for Boxed {
    type Out = Box<dyn Cells>;

    fn visit<C: Cells + 'static>(self, cells: C) -> Self::Out {
        Box::new(cells)
    }
}
