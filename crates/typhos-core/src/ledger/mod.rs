//! Bytes per column: what a table takes in memory as text, as a hurried import has it, and as declared.
//!
//! The same records are converted in all three ways ([`faces`]), and each array is measured as it comes
//! ([`Measure`]): the bytes that Arrow's buffers need, validity included, if a column is one array. What
//! files take is counted by whoever writes them. [`advise`] says what would save more.

mod advice;
mod faces;
mod measure;
mod words;

pub use advice::{Advice, advise};
pub use faces::{Faces, faces};
pub use measure::{ColumnBytes, Measure, Measured};

use crate::schema::Scalar;

/// What made a column smaller than its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Step {
    /// It is not loaded.
    Dropped,
    /// Numbers are no texts any more, but of 64 bits.
    Numbers,
    /// Numbers have the width they need.
    Narrowed,
    /// Dates and times are no texts any more.
    Dates,
    /// Codes stand for texts.
    Dictionaries,
    /// Bools, UUIDs, points.
    Others,
}

impl Step {
    /// All steps, in the order in which they are told.
    pub const ALL: [Step; 6] = [
        Step::Dropped,
        Step::Numbers,
        Step::Narrowed,
        Step::Dates,
        Step::Dictionaries,
        Step::Others,
    ];

    /// What it is, in a few words.
    pub fn name(self) -> &'static str {
        match self {
            Step::Dropped => "columns left out",
            Step::Numbers => "numbers out of text",
            Step::Narrowed => "narrower numbers",
            Step::Dates => "dates and times out of text",
            Step::Dictionaries => "dictionaries",
            Step::Others => "other types",
        }
    }

    /// The steps that a column of a type took from its text, by way of its wide type, to what it is: with
    /// the bytes that each saved, or cost where that is negative.
    pub fn of(ty: Scalar, text: u64, wide: u64, declared: u64) -> Vec<(Step, i64)> {
        let less = |from: u64, to: u64| from as i64 - to as i64;
        if ty.is_number() {
            return vec![(Step::Numbers, less(text, wide)), (Step::Narrowed, less(wide, declared))];
        }
        let step = match ty {
            _ if ty.takes_patterns() => Step::Dates,
            Scalar::Lowcard | Scalar::Category => Step::Dictionaries,
            _ => Step::Others,
        };
        vec![(step, less(text, declared))]
    }
}
