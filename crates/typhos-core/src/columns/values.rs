//! One value → one native value, strictly: what all types have in common.
//!
//! A [`ReadValue`] reads what the declared type can hold, and nothing near it. White space around a value
//! is taken off before. Numbers are read by [`numbers`](super::numbers), days and times by
//! [`instants`](super::instants).

use std::cell::Cell;

use super::Reason;
use crate::readings::{bool_word, trim};
use crate::schema::{Rounding, Scalar};

/// Reads the values of one type.
pub(super) trait ReadValue {
    /// What they are in memory.
    type Native: Copy + PartialOrd + Default;

    fn read(&self, value: &[u8]) -> Result<Self::Native, Reason>;

    /// Reads the field `text[start..end]`, which is not empty, where it is a value as most are. `None` says only that the
    /// usual way has to be taken. What is read is what [`read`](Self::read) reads.
    #[inline(always)]
    fn read_short(&self, text: &[u8], start: usize, end: usize) -> Option<Self::Native> {
        let value = &text[start..end];
        if trim(value).len() == value.len() { self.read(value).ok() } else { None }
    }

    /// Reads a bound as it stands in a schema file.
    fn bound(&self, text: &str) -> Result<Self::Native, Reason> {
        self.read(text.as_bytes())
    }

    /// What a declaration lets be lost.
    fn loss(&self) -> &Loss;
}

/// What a declaration lets be lost of a value, and of how many values something was.
#[derive(Debug, Default)]
pub(super) struct Loss {
    pub rounding: Rounding,
    changed: Cell<u64>,
}

impl Loss {
    pub fn new(rounding: Rounding) -> Loss {
        Loss { rounding, changed: Cell::new(0) }
    }

    /// Takes note of a value that is changed, where that is declared.
    pub fn change(&self) -> bool {
        let is_declared = self.rounding != Rounding::Exact;
        if is_declared {
            self.changed.set(self.changed.get() + 1);
        }
        is_declared
    }

    /// How many values were changed since the last time.
    pub fn take(&self) -> u64 {
        self.changed.take()
    }

    /// Reads a value again that turned out not to fit, so that it does not count as changed.
    #[cold]
    pub fn forget(&self, read_again: impl FnOnce()) {
        let before = self.changed.get();
        read_again();
        self.changed.set(2 * before - self.changed.get());
    }
}

pub(super) fn read_bool(value: &[u8]) -> Result<bool, Reason> {
    match value {
        b"1" => Ok(true),
        b"0" => Ok(false),
        _ => bool_word(value).map(|(_, says)| says).ok_or(Reason::NotA(Scalar::Bool)),
    }
}
