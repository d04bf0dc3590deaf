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

    /// What a value of JSON is, by its first byte; `None` where none starts with that.
    #[inline]
    pub const fn starting_with(byte: u8) -> Option<PathKind> {
        Some(match byte {
            b'"' => PathKind::Text,
            b'{' => PathKind::Object,
            b'[' => PathKind::Array,
            b'-' | b'0'..=b'9' => PathKind::Number,
            b't' | b'f' => PathKind::Bool,
            b'n' => PathKind::Null,
            _ => return None,
        })
    }

    /// Whether it has values within it.
    #[inline]
    pub fn is_nested(self) -> bool {
        matches!(self, PathKind::Array | PathKind::Object)
    }

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
    /// Its first bytes as words, and which of them there are: one load and one comparison each, for nearly all.
    words: [u64; 2],
    masks: [u64; 2],
    written: Box<[u8]>,
}

impl Guess {
    /// Of a name in which nothing has to be escaped.
    pub(super) fn of(name: &[u8]) -> Option<Guess> {
        let is_plain = |byte: &u8| *byte >= b' ' && !matches!(byte, b'"' | b'\\');
        if !name.iter().all(is_plain) {
            return None;
        }
        Some(Guess::written(&[b"\"", name, b"\":"].concat()))
    }

    fn written(written: &[u8]) -> Guess {
        let (words, masks) = first_words(written);
        Guess { words, masks, written: written.into() }
    }

    /// How many bytes it has, if a text starts with it.
    #[inline]
    pub fn starts(&self, text: &[u8]) -> Option<usize> {
        let is_it = match text.first_chunk::<16>() {
            // One load and two comparisons, for nearly all names.
            Some(first) => {
                let both = u128::from_le_bytes(*first);
                (both as u64 ^ self.words[0]) & self.masks[0] == 0
                    && ((both >> 64) as u64 ^ self.words[1]) & self.masks[1] == 0
                    && (self.written.len() <= 16 || text.starts_with(&self.written))
            }
            None => text.starts_with(&self.written),
        };
        is_it.then_some(self.written.len())
    }
}

/// The first sixteen bytes of a text as two words, and which of them there are.
fn first_words(text: &[u8]) -> ([u64; 2], [u64; 2]) {
    let (mut words, mut masks) = ([0; 2], [0; 2]);
    for (part, (word, mask)) in text.chunks(8).zip(words.iter_mut().zip(&mut masks)) {
        let mut bytes = [0; 8];
        bytes[..part.len()].copy_from_slice(part);
        *word = u64::from_le_bytes(bytes);
        *mask = u64::MAX >> (8 * (8 - part.len()));
    }
    (words, masks)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_text_starts_with_a_guess_where_bytes_say_so(
            written in "[ab]{0,20}", text in "[ab]{0,3}", takes: bool, cut in 0usize..40,
        ) {
            let text = if takes { format!("{written}{text}") } else { text };
            let text = &text.as_bytes()[..cut.min(text.len())];
            let length = text.starts_with(written.as_bytes()).then_some(written.len());
            prop_assert_eq!(Guess::written(written.as_bytes()).starts(text), length);
        }
    }
}
