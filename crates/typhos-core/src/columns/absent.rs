//! Which texts mean "no value".

use crate::readings::trim;
use crate::schema::ColumnDecl;

/// The texts that mean "no value" in a column.
#[derive(Debug)]
pub(super) struct Absent {
    blank: bool,
    tokens: Vec<Vec<u8>>,
}

impl Absent {
    pub fn new(texts: &[&str]) -> Absent {
        Absent {
            blank: texts.contains(&""),
            tokens: texts
                .iter()
                .filter(|text| !text.is_empty())
                .map(|text| text.as_bytes().to_vec())
                .collect(),
        }
    }

    /// The texts beside the blank one.
    pub fn tokens(&self) -> impl Iterator<Item = &[u8]> {
        self.tokens.iter().map(Vec::as_slice)
    }

    #[inline]
    pub fn is(&self, value: &[u8]) -> bool {
        let trimmed = trim(value);
        if trimmed.is_empty() {
            return self.blank;
        }
        !self.tokens.is_empty() && self.tokens.iter().any(|token| token == trimmed)
    }
}

/// What is said of all columns of an input, and holds for what nests in them too.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Around<'s> {
    /// The texts that mean "no value" where a column says nothing of its own; the empty one, where they are not said.
    pub absent: Option<&'s [String]>,
    /// Whether a blank text in quotes is a value.
    pub keeps_empty: bool,
}

impl Around<'_> {
    /// The texts that mean "no value" in a column or field.
    pub fn absent_of(&self, column: &ColumnDecl) -> Absent {
        match column.absent.as_deref().or(self.absent) {
            Some(texts) => Absent::new(&texts.iter().map(String::as_str).collect::<Vec<_>>()),
            None => Absent::new(&[""]),
        }
    }
}
