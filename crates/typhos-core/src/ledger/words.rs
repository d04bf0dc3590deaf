//! Distinct texts, counted exactly however many there are: beyond a limit they are put aside in sorted runs, and
//! counted where those are merged.

use std::io;
use std::sync::Arc;

use arrow_array::{Array, StringArray};

use crate::intern::Interner;
use crate::spilling::{ByteRuns, Scratch};

/// Bytes of texts that are held in memory for one column on one thread.
const HELD_BYTES: usize = 16 << 20;

/// The distinct texts of a column.
#[derive(Debug)]
pub(super) struct Words {
    words: Interner,
    bytes: usize,
    limit: usize,
    /// Texts that were put aside; each may stand in several runs.
    runs: ByteRuns,
}

impl Words {
    pub fn new(scratch: Arc<dyn Scratch>) -> Words {
        Words::with_limit(HELD_BYTES, scratch)
    }

    fn with_limit(limit: usize, scratch: Arc<dyn Scratch>) -> Words {
        Words { words: Interner::new(), bytes: 0, limit, runs: ByteRuns::new(scratch) }
    }

    pub fn add(&mut self, word: &[u8]) -> io::Result<()> {
        let (_, is_new) = self.words.intern(word);
        if is_new {
            // Each takes a slot of the table beside its bytes.
            self.bytes += word.len() + 48;
            if self.bytes > self.limit {
                self.spill()?;
            }
        }
        Ok(())
    }

    fn spill(&mut self) -> io::Result<()> {
        let mut words: Vec<&[u8]> = self.words.iter().collect();
        words.sort_unstable();
        self.runs.push(words.iter())?;
        self.words.clear();
        self.bytes = 0;
        Ok(())
    }

    /// Adds the texts of another column that is the same.
    pub fn merge(&mut self, other: Words) -> io::Result<()> {
        other.words.iter().try_for_each(|word| self.add(word))?;
        self.runs.append(other.runs);
        Ok(())
    }

    /// How many distinct texts there are, and the bytes of all of them.
    pub fn count(mut self) -> io::Result<(u64, u64)> {
        let (mut count, mut bytes) = (0, 0);
        let mut note = |word: &[u8]| {
            count += 1;
            bytes += word.len() as u64;
        };
        if self.runs.is_empty() {
            self.words.iter().for_each(note);
            return Ok((count, bytes));
        }
        self.spill()?;
        let mut merge = self.runs.merge()?;
        let mut last: Option<Vec<u8>> = None;
        while let Some(word) = merge.next()? {
            if last.as_deref() != Some(word) {
                note(word);
                let kept = last.get_or_insert_default();
                kept.clear();
                kept.extend_from_slice(word);
            }
        }
        Ok((count, bytes))
    }
}

/// The texts of the codes that stand in a column, each once for the codes of one dictionary, which may
/// grow from one array to the next.
#[derive(Debug, Default)]
pub(super) struct Marks(Vec<bool>);

impl Marks {
    /// Forgets the codes of the last dictionary.
    pub fn clear(&mut self) {
        self.0.clear();
    }

    pub fn add(
        &mut self,
        codes: impl Iterator<Item = usize>,
        texts: &StringArray,
        words: &mut Words,
    ) -> std::io::Result<()> {
        // A dictionary that is shorter than the last one is another one.
        if texts.len() < self.0.len() {
            self.0.clear();
        }
        self.0.resize(texts.len(), false);
        for code in codes {
            if !std::mem::replace(&mut self.0[code], true) {
                words.add(texts.value(code).as_bytes())?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::spilling::testing::Memory;
    use proptest::prelude::*;
    use std::collections::HashSet;

    proptest! {
        #[test]
        fn distinct_texts_are_counted_whatever_the_limit(
            texts in proptest::collection::vec("[a-c]{0,3}", 0..200), limit in 1usize..2000, cut in 0usize..200,
        ) {
            let cut = cut.min(texts.len());
            let fill = |texts: &[String]| {
                let mut words = Words::with_limit(limit, Arc::new(Memory::default()));
                texts.iter().for_each(|text| words.add(text.as_bytes()).unwrap());
                words
            };
            let mut words = fill(&texts[..cut]);
            words.merge(fill(&texts[cut..])).unwrap();
            let distinct: HashSet<&String> = texts.iter().collect();
            let bytes = distinct.iter().map(|text| text.len() as u64).sum::<u64>();
            prop_assert_eq!(words.count().unwrap(), (distinct.len() as u64, bytes));
        }
    }
}
