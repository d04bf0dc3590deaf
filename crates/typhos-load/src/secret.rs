//! Words that are never shown.

use std::fmt;

/// The environment variable that holds the password of any server.
pub const PASSWORD_VARIABLE: &str = "TYPHOS_PASSWORD";

/// A word that is never shown.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Keeps a word.
    pub fn new(word: impl Into<String>) -> Secret {
        Secret(word.into())
    }

    /// The word, for whoever has to say it.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("…")
    }
}
