//! How often each name of a month or weekday was seen among the dates of one shape.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::dates::{LONGEST_NAME, in_small_letters};

/// Names in small letters, and how often each was seen. They are those of a table, so that there are not too many of them.
///
/// A name keeps its place, by which it is counted again.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(from = "BTreeMap<String, u64>", into = "BTreeMap<String, u64>")]
pub struct NameCounts {
    names: Vec<(String, u64)>,
}

impl NameCounts {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty()
    }

    /// All of them, in no certain order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, u64)> + Clone {
        self.names.iter().map(|(name, count)| (&**name, *count))
    }

    /// Counts a name in any letters; says at which place it is.
    pub(super) fn note(&mut self, name: &[u8], count: u64) -> usize {
        // Nearly all names are of ASCII and were seen before: nothing is allocated for those.
        match in_small_letters(name, &mut [0; LONGEST_NAME]) {
            Some(small) => self.note_small(small, count),
            None => self.note_small(&String::from_utf8_lossy(name).to_lowercase(), count),
        }
    }

    fn note_small(&mut self, name: &str, count: u64) -> usize {
        let at = self.names.iter().position(|(known, _)| known == name).unwrap_or_else(|| {
            self.names.push((name.to_owned(), 0));
            self.names.len() - 1
        });
        self.add(at, count);
        at
    }

    /// Counts the name at a place.
    #[inline]
    pub(super) fn add(&mut self, at: usize, count: u64) {
        self.names[at].1 += count;
    }

    pub(super) fn merge(&mut self, other: NameCounts) {
        for (name, count) in other.names {
            self.note_small(&name, count);
        }
    }
}

impl PartialEq for NameCounts {
    /// Whatever order they were seen in.
    fn eq(&self, other: &NameCounts) -> bool {
        let sorted =
            |counts: &NameCounts| counts.clone().names.into_iter().collect::<BTreeMap<_, _>>();
        sorted(self) == sorted(other)
    }
}

impl From<BTreeMap<String, u64>> for NameCounts {
    fn from(names: BTreeMap<String, u64>) -> NameCounts {
        NameCounts { names: names.into_iter().collect() }
    }
}

impl From<NameCounts> for BTreeMap<String, u64> {
    fn from(counts: NameCounts) -> BTreeMap<String, u64> {
        counts.names.into_iter().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_counted_in_any_letters_and_order() {
        let of = |names: &[&str]| {
            let mut counts = NameCounts::default();
            names.iter().for_each(|name| {
                counts.note(name.as_bytes(), 2);
            });
            counts
        };
        let (one, other) = (of(&["Mar", "MÄRZ", "mar"]), of(&["märz", "MAR", "Mar"]));
        assert_eq!(one, other);
        assert_eq!(serde_json::to_string(&one).unwrap(), r#"{"mar":4,"märz":2}"#);
        let mut merged = of(&["apr"]);
        merged.merge(one);
        assert_eq!(merged, of(&["mar", "mar", "märz", "apr"]));
        assert_ne!(merged, other);
    }
}
