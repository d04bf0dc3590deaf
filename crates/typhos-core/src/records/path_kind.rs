//! What stands at a path: kinds of values, and how the name before them is usually written.

/// Kinds of values that are told apart.
pub const PATH_KINDS: usize = 6;

/// Kinds by their number: those of values that are a column by themselves come between null and object.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum PathKind {
    /// `null`.
    Null = 0,
    /// `true` or `false`.
    Bool = 1,
    /// A number.
    Number = 2,
    /// A text.
    Text = 3,
    /// An array.
    Array = 4,
    /// An object.
    Object = 5,
}

impl PathKind {
    /// All kinds, in the order of their numbers.
    pub const ALL: [PathKind; PATH_KINDS] = [
        PathKind::Null,
        PathKind::Bool,
        PathKind::Number,
        PathKind::Text,
        PathKind::Array,
        PathKind::Object,
    ];

    /// What it is called, with its article.
    pub fn name(self) -> &'static str {
        match self {
            PathKind::Null => "null",
            PathKind::Bool => "true or false",
            PathKind::Number => "a number",
            PathKind::Text => "a text",
            PathKind::Array => "an array",
            PathKind::Object => "an object",
        }
    }

    /// What many of them are called.
    pub fn plural(self) -> &'static str {
        match self {
            PathKind::Null => "null",
            PathKind::Bool => "true or false",
            PathKind::Number => "numbers",
            PathKind::Text => "texts",
            PathKind::Array => "arrays",
            PathKind::Object => "objects",
        }
    }
}

/// A name as it is usually written before its value: in quotes, with a colon behind.
#[derive(Debug, Clone, Default)]
pub struct Guess {
    written: Box<[u8]>,
    /// Its first bytes as a word, and which of them there are.
    word: u128,
    mask: u128,
}

impl Guess {
    /// Of a name in which nothing has to be escaped.
    pub(super) fn of(name: &[u8]) -> Option<Guess> {
        let is_plain = |byte: &u8| *byte >= b' ' && !matches!(byte, b'"' | b'\\');
        if !name.iter().all(is_plain) {
            return None;
        }
        let written = [b"\"", name, b"\":"].concat();
        let mut word = [0; 16];
        let first = written.len().min(16);
        word[..first].copy_from_slice(&written[..first]);
        let mask = u128::MAX >> (8 * (16 - first));
        Some(Guess { written: written.into(), word: u128::from_le_bytes(word), mask })
    }

    /// How many bytes it has, if a text starts with it.
    #[inline]
    pub fn starts(&self, text: &[u8]) -> Option<usize> {
        let is_it = match text.first_chunk::<16>() {
            // One load and one comparison, for nearly all names.
            Some(bytes) => {
                u128::from_le_bytes(*bytes) & self.mask == self.word
                    && (self.written.len() <= 16 || text.starts_with(&self.written))
            }
            None => text.starts_with(&self.written),
        };
        is_it.then_some(self.written.len())
    }
}
