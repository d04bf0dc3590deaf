//! Distinct texts, counted exactly however many there are: beyond a limit they go into temporary files,
//! shared out by their hashes, so that each file can be counted by itself.

use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek, Write};

use arrow_array::{Array, StringArray};
use tempfile::tempfile;
use twox_hash::XxHash3_64;

use crate::intern::Interner;

/// Bytes of texts that are held in memory for one column on one thread.
const HELD_BYTES: usize = 16 << 20;

/// Files that texts are shared out to.
const FILES: u64 = 64;

/// The distinct texts of a column.
#[derive(Debug)]
pub(super) struct Words {
    words: Interner,
    bytes: usize,
    limit: usize,
    /// Texts that went out; each may stand there more than once.
    files: Vec<BufWriter<File>>,
}

impl Words {
    pub fn new() -> Words {
        Words::with_limit(HELD_BYTES)
    }

    fn with_limit(limit: usize) -> Words {
        Words { words: Interner::new(), bytes: 0, limit, files: Vec::new() }
    }

    pub fn add(&mut self, word: &[u8]) -> std::io::Result<()> {
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

    fn spill(&mut self) -> std::io::Result<()> {
        if self.files.is_empty() {
            let files = (0..FILES).map(|_| Ok(BufWriter::with_capacity(1 << 14, tempfile()?)));
            self.files = files.collect::<std::io::Result<_>>()?;
        }
        for word in self.words.iter() {
            let file = &mut self.files[(XxHash3_64::oneshot(word) % FILES) as usize];
            file.write_all(&(word.len() as u32).to_le_bytes())?;
            file.write_all(word)?;
        }
        self.words.clear();
        self.bytes = 0;
        Ok(())
    }

    /// Adds the texts of another column that is the same.
    pub fn merge(&mut self, mut other: Words) -> std::io::Result<()> {
        if !other.files.is_empty() || !self.files.is_empty() {
            self.spill()?;
            other.spill()?;
            for (ours, theirs) in self.files.iter_mut().zip(other.files) {
                let mut theirs = theirs.into_inner().map_err(|error| error.into_error())?;
                theirs.rewind()?;
                std::io::copy(&mut theirs, ours)?;
            }
            return Ok(());
        }
        other.words.iter().try_for_each(|word| self.add(word))
    }

    /// How many distinct texts there are, and the bytes of all of them.
    pub fn count(mut self) -> std::io::Result<(u64, u64)> {
        let sum = |words: &Interner| {
            words.iter().fold((0, 0), |(n, bytes), word| (n + 1, bytes + word.len() as u64))
        };
        if self.files.is_empty() {
            return Ok(sum(&self.words));
        }
        self.spill()?;
        let (mut count, mut bytes) = (0, 0);
        for file in std::mem::take(&mut self.files) {
            let mut file = file.into_inner().map_err(|error| error.into_error())?;
            file.rewind()?;
            let mut file = BufReader::new(file);
            let (mut words, mut length, mut word) = (Interner::new(), [0; 4], Vec::new());
            loop {
                match file.read_exact(&mut length) {
                    Ok(()) => {}
                    Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => break,
                    Err(error) => return Err(error),
                }
                word.resize(u32::from_le_bytes(length) as usize, 0);
                file.read_exact(&mut word)?;
                words.intern(&word);
            }
            let (n, of) = sum(&words);
            (count, bytes) = (count + n, bytes + of);
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
    use proptest::prelude::*;
    use std::collections::HashSet;

    proptest! {
        #[test]
        fn distinct_texts_are_counted_whatever_the_limit(
            texts in proptest::collection::vec("[a-c]{0,3}", 0..200), limit in 1usize..2000, cut in 0usize..200,
        ) {
            let cut = cut.min(texts.len());
            let fill = |texts: &[String]| {
                let mut words = Words::with_limit(limit);
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
