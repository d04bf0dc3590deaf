//! Byte strings in sorted runs, and their merge: how distinct values and duplicate keys are found, however many
//! there are.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::io::{self, BufReader, Read, Write};
use std::sync::Arc;

use super::{FAN_IN, Scratch, Spilled};

/// Bytes of a run that are read at once.
const READ_AHEAD: usize = 1 << 16;

/// Sorted runs of byte strings of less than 4 GiB each.
#[derive(Debug)]
pub struct ByteRuns {
    scratch: Arc<dyn Scratch>,
    runs: Vec<Box<dyn Spilled>>,
}

impl ByteRuns {
    /// No runs yet; they are put into `scratch`.
    pub fn new(scratch: Arc<dyn Scratch>) -> ByteRuns {
        ByteRuns { scratch, runs: Vec::new() }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.runs.is_empty()
    }

    /// Where they are put, for messages.
    pub fn place(&self) -> String {
        self.scratch.place()
    }

    /// Puts a run aside: strings in ascending order.
    ///
    /// # Errors
    /// A place that takes no more.
    pub fn push<B: AsRef<[u8]>>(
        &mut self,
        sorted: impl Iterator<Item = B> + Clone,
    ) -> io::Result<()> {
        let run = self.scratch.write(&mut |to| {
            sorted.clone().try_for_each(|bytes| write_entry(to, bytes.as_ref()))
        })?;
        self.runs.push(run);
        Ok(())
    }

    /// Takes the runs of another, on the same scratch.
    pub fn append(&mut self, other: ByteRuns) {
        self.runs.extend(other.runs);
    }

    /// Merges all runs: every string as often as it stands in them, in ascending order. Where they are too many to
    /// be merged at once, some are merged into longer ones first.
    ///
    /// # Errors
    /// A place that takes no more, or gives nothing back.
    pub fn merge(mut self) -> io::Result<ByteMerge> {
        while self.runs.len() > FAN_IN {
            let mut left = std::mem::take(&mut self.runs).into_iter().peekable();
            while left.peek().is_some() {
                let few: Vec<_> = left.by_ref().take(FAN_IN).collect();
                let mut merge = Some(ByteMerge::new(few)?);
                let run = self.scratch.write(&mut |to| {
                    let Some(mut merge) = merge.take() else {
                        return Err(io::Error::other("a merge is written once"));
                    };
                    while let Some(bytes) = merge.next()? {
                        write_entry(to, bytes)?;
                    }
                    Ok(())
                })?;
                self.runs.push(run);
            }
        }
        ByteMerge::new(self.runs)
    }
}

fn write_entry(to: &mut dyn Write, bytes: &[u8]) -> io::Result<()> {
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    to.write_all(&length.to_le_bytes())?;
    to.write_all(bytes)
}

/// The strings of some runs, in ascending order.
pub struct ByteMerge {
    runs: Vec<SpilledRun>,
    /// The first string of each run that is not at its end, and which run it is of.
    heads: BinaryHeap<Reverse<(Vec<u8>, usize)>>,
    /// The run that the last string was of.
    last: Option<(Vec<u8>, usize)>,
}

struct SpilledRun {
    reader: BufReader<Box<dyn Read + Send>>,
    /// As long as it is read.
    _spilled: Box<dyn Spilled>,
}

impl SpilledRun {
    /// Reads the next string; `false` at the end.
    fn next(&mut self, into: &mut Vec<u8>) -> io::Result<bool> {
        let mut length = [0; 4];
        match self.reader.read_exact(&mut length) {
            Ok(()) => {}
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
            Err(error) => return Err(error),
        }
        into.resize(u32::from_le_bytes(length) as usize, 0);
        self.reader.read_exact(into)?;
        Ok(true)
    }
}

impl ByteMerge {
    fn new(runs: Vec<Box<dyn Spilled>>) -> io::Result<ByteMerge> {
        let mut merge = ByteMerge { runs: Vec::new(), heads: BinaryHeap::new(), last: None };
        for spilled in runs {
            let reader = BufReader::with_capacity(READ_AHEAD, spilled.open()?);
            merge.runs.push(SpilledRun { reader, _spilled: spilled });
            merge.go_on((Vec::new(), merge.runs.len() - 1))?;
        }
        Ok(merge)
    }

    /// Takes the next string of a run, into the bytes of one that is done with.
    fn go_on(&mut self, (mut bytes, run): (Vec<u8>, usize)) -> io::Result<()> {
        if self.runs[run].next(&mut bytes)? {
            self.heads.push(Reverse((bytes, run)));
        }
        Ok(())
    }

    /// The next string; `None` when there are no more.
    ///
    /// # Errors
    /// A place that gives nothing back.
    #[expect(clippy::should_implement_trait, reason = "it lends, and an iterator cannot")]
    pub fn next(&mut self) -> io::Result<Option<&[u8]>> {
        if let Some(last) = self.last.take() {
            self.go_on(last)?;
        }
        self.last = self.heads.pop().map(|Reverse(head)| head);
        Ok(self.last.as_ref().map(|(bytes, _)| &bytes[..]))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::testing::Memory;
    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        /// The law: a merge gives what was put in, sorted, also where there are more runs than are merged at once.
        #[test]
        fn a_merge_sorts_what_was_put_in(
            runs in proptest::collection::vec(
                proptest::collection::vec(proptest::collection::vec(0u8..4, 0..4), 0..5), 0..3 * FAN_IN,
            ),
        ) {
            let mut spilled = ByteRuns::new(Arc::new(Memory::default()));
            let mut want: Vec<Vec<u8>> = runs.concat();
            for mut run in runs {
                run.sort();
                spilled.push(run.iter()).unwrap();
            }
            want.sort();
            let mut merge = spilled.merge().unwrap();
            let mut found = Vec::new();
            while let Some(bytes) = merge.next().unwrap() {
                found.push(bytes.to_vec());
            }
            prop_assert_eq!(found, want);
        }
    }
}
