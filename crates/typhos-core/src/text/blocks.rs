//! An input → blocks that end where a record ends.
//!
//! Reading is sequential and cheap: a block is read, and the last record end in it is looked for by
//! jumping from quote to quote. What stands after that is carried over to the next block. Splitting
//! is the workers' part.

use std::io::Read;
use std::sync::atomic::Ordering;

use memchr::{memchr, memchr_iter, memrchr};

use super::source::Opened;
use super::{Dialect, Input, InputError};

/// Bytes read at a time: large enough that locks and system calls do not show, small enough that a
/// few of them per core are nothing.
pub const DEFAULT_BLOCK_BYTES: usize = 2 << 20;

/// The longest record that is read. A longer one is almost surely a quote that is never closed.
pub const MAX_RECORD_BYTES: usize = 16 << 20;

/// Some whole records of one file, as bytes.
#[derive(Debug, Default)]
pub struct Block {
    text: Vec<u8>,
    /// Number of the block, from 0, counted through all files.
    pub sequence: u64,
    /// Which file of the input it is from, from 0.
    pub file: u32,
    /// Line of the file on which the block starts, from 1.
    pub first_line: u64,
    /// Bytes of the input, counted through all files, before the block.
    pub offset: u64,
    /// Bytes of the file, as it is stored, that were read for this block; those of headers and of what
    /// was read ahead are counted with it.
    pub bytes: u64,
}

impl Block {
    /// The bytes of the records.
    pub fn text(&self) -> &[u8] {
        &self.text
    }
}

/// Reads the blocks of an input, one after another.
pub struct BlockReader<'i> {
    input: &'i Input,
    block_bytes: usize,
    /// The file being read: its number and what is left of it.
    open: Option<Opened>,
    file: usize,
    /// Bytes read behind the end of the last block.
    carried: Vec<u8>,
    line: u64,
    sequence: u64,
    offset: u64,
    /// Raw bytes of the open file that blocks have been told of.
    told: u64,
    /// Bytes of its text that were read.
    taken: u64,
}

impl<'i> BlockReader<'i> {
    /// Reads `input` in blocks of about `block_bytes`.
    pub fn new(input: &'i Input, block_bytes: usize) -> Self {
        BlockReader {
            input,
            block_bytes: block_bytes.max(1),
            open: None,
            file: 0,
            carried: Vec::new(),
            line: 1,
            sequence: 0,
            offset: 0,
            told: 0,
            taken: 0,
        }
    }

    /// Replaces `block` by the next one. Returns `false` at the end of the input.
    ///
    /// # Errors
    /// A file that cannot be read, or a record longer than [`MAX_RECORD_BYTES`].
    pub fn next(&mut self, block: &mut Block) -> Result<bool, InputError> {
        loop {
            let Some(file) = self.input.files().get(self.file) else { return Ok(false) };
            if self.open.is_none() {
                self.open = Some(file.open()?);
                self.line = file.first_line;
                self.told = 0;
                self.taken = 0;
            }
            if self.read_block(&mut block.text)? {
                block.sequence = self.sequence;
                block.file = self.file as u32;
                block.first_line = self.line;
                block.offset = self.offset;
                let counted = self.open.as_ref().and_then(|open| open.consumed.as_ref());
                let consumed = match counted {
                    Some(consumed) => consumed.load(Ordering::Relaxed),
                    None => file.data_start + self.taken,
                };
                block.bytes = consumed - self.told;
                self.told = consumed;
                self.sequence += 1;
                self.offset += block.bytes;
                self.line += memchr_iter(b'\n', &block.text).count() as u64;
                return Ok(true);
            }
            self.open = None;
            self.file += 1;
        }
    }

    /// Reads until the text holds the end of a record; `false` at the end of the file.
    fn read_block(&mut self, text: &mut Vec<u8>) -> Result<bool, InputError> {
        let file = &self.input.files()[self.file];
        let reader = &mut self.open.as_mut().expect("a file is open").text;
        text.clear();
        text.append(&mut self.carried);
        let mut wanted = self.block_bytes.max(text.len().saturating_add(1));
        loop {
            let missing = (wanted - text.len()) as u64;
            let read =
                reader.take(missing).read_to_end(text).map_err(|source| file.failed(source))?;
            self.taken += read as u64;
            if (read as u64) < missing {
                return Ok(!text.is_empty());
            }
            if let Some(end) = last_record_end(text, &self.input.dialect()) {
                self.carried.extend_from_slice(&text[end..]);
                text.truncate(end);
                return Ok(true);
            }
            if text.len() >= MAX_RECORD_BYTES {
                return Err(InputError::RecordTooLong { file: file.name(), line: self.line });
            }
            wanted = (wanted * 2).min(MAX_RECORD_BYTES.max(self.block_bytes));
        }
    }
}

/// Offset after the last line end that ends a record, where `text` starts with a record.
///
/// The rules of quoting are those of the splitter; only quotes need to be visited to keep them.
fn last_record_end(text: &[u8], dialect: &Dialect) -> Option<usize> {
    let Some(quote) = dialect.quote else { return memrchr(b'\n', text).map(|at| at + 1) };
    // Stretches outside quotes, in order; the last line end in any of them is the answer.
    let mut outside: Vec<(usize, usize)> = Vec::new();
    let mut from = 0;
    let mut at = 0;
    loop {
        let Some(found) = memchr(quote, &text[at..]) else {
            outside.push((from, text.len()));
            break;
        };
        let open = at + found;
        at = open + 1;
        if open > 0 && text[open - 1] != dialect.delimiter && text[open - 1] != b'\n' {
            continue;
        }
        outside.push((from, open));
        let closed = loop {
            let Some(found) = memchr(quote, &text[at..]) else { break None };
            at += found + 1;
            if text.get(at) != Some(&quote) {
                break Some(at);
            }
            at += 1;
        };
        match closed {
            Some(after) => from = after,
            None => break,
        }
    }
    outside
        .iter()
        .rev()
        .find_map(|(start, end)| memrchr(b'\n', &text[*start..*end]).map(|at| start + at + 1))
}

#[cfg(test)]
mod tests {
    use super::super::{PlainRecords, Records, Splitter};
    use super::*;
    use proptest::prelude::*;

    /// Every record of `text` as (file line, bytes), read in blocks of `block_bytes`.
    fn through_blocks(
        text: &[u8],
        dialect: Dialect,
        columns: usize,
        block_bytes: usize,
    ) -> Vec<(u64, Vec<u8>)> {
        let input = Input::from_bytes("t", text.to_vec(), dialect);
        let mut reader = BlockReader::new(&input, block_bytes);
        let (mut block, mut records, mut all) = (Block::default(), Records::default(), Vec::new());
        while reader.next(&mut block).unwrap() {
            let mut splitter = Splitter::new(&block, &dialect, columns);
            while splitter.fill(&mut records, 3) {
                let text = block.text();
                let mut found: Vec<_> = (0..records.len())
                    .map(|row| (records.line(row), records.record(row)))
                    .chain(
                        records
                            .broken()
                            .iter()
                            .map(|b| (b.line, (b.start as usize, b.end as usize))),
                    )
                    .collect();
                found.sort();
                all.extend(found.iter().map(|(line, (start, end))| {
                    (block.first_line + u64::from(*line), text[*start..*end].to_vec())
                }));
            }
        }
        all
    }

    fn records_of(text: &[u8], dialect: Dialect, columns: usize) -> Vec<(u64, Vec<u8>)> {
        PlainRecords::new(text, dialect)
            .filter(|record| columns == 1 || !record.is_blank())
            .map(|r| (1 + r.line as u64, text[r.start..r.fields.last().unwrap().1].to_vec()))
            .collect()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(1500))]
        #[test]
        fn any_block_size_gives_the_same_records(
            text in proptest::collection::vec(
                prop_oneof![4 => Just(b','), 3 => Just(b'\n'), 3 => Just(b'"'), 1 => Just(b'\r'), 6 => Just(b'a'), 1 => any::<u8>()],
                0..300),
            block_bytes in 1usize..400, columns in 1usize..4, quoted: bool,
        ) {
            let dialect = Dialect { quote: quoted.then_some(b'"'), header: false, ..Dialect::RFC_4180 };
            let want = records_of(&text, dialect, columns);
            prop_assert_eq!(through_blocks(&text, dialect, columns, block_bytes), want.clone());
            prop_assert_eq!(through_blocks(&text, dialect, columns, 1 << 20), want);
        }
    }

    #[test]
    fn a_record_without_end_is_an_error_and_no_flood() {
        let mut text = b"a,b\n\"".to_vec();
        text.resize(MAX_RECORD_BYTES + 100, b'x');
        let dialect = Dialect { header: false, ..Dialect::RFC_4180 };
        let input = Input::from_bytes("endless.csv", text, dialect);
        let mut reader = BlockReader::new(&input, 1024);
        let mut block = Block::default();
        assert!(reader.next(&mut block).unwrap());
        let error = reader.next(&mut block).unwrap_err().to_string();
        assert!(error.contains("endless.csv, line 2") && error.contains("16 MiB"), "{error}");
    }

    #[test]
    fn offsets_add_up_to_the_bytes_of_the_input() {
        let text = b"a,b\n1,2\n3,4\n".to_vec();
        let dialect = Dialect { header: false, ..Dialect::RFC_4180 };
        let input = Input::from_bytes("t", text.clone(), dialect);
        let mut reader = BlockReader::new(&input, 5);
        let (mut block, mut seen) = (Block::default(), 0);
        while reader.next(&mut block).unwrap() {
            assert_eq!(block.offset, seen);
            seen += block.bytes;
        }
        assert_eq!(seen, text.len() as u64);
    }
}
