//! The pieces that a pattern is written in, and what is wrong with one.

use super::symbols::Field;

/// A piece of a pattern.
#[derive(Debug, Clone, Copy)]
pub(super) enum Token {
    Literal(char),
    /// So many times a letter.
    Symbol(char, usize),
    /// A name of either length.
    AnyName(Field),
}

pub(super) fn error(at: (usize, usize), message: &str) -> PatternError {
    PatternError { at, message: message.to_owned() }
}

/// A pattern that cannot be read: where, and what was most likely meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PatternError {
    /// Byte range of the wrong symbol in the pattern.
    pub at: (usize, usize),
    /// What is wrong, and what to write instead.
    pub message: String,
}
