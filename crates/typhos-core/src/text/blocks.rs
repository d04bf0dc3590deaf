//! An input → blocks that end where a record ends.
//!
//! Reading is sequential and cheap: a block is read, and the last record end in it is found by a walk
//! that does not look at fields. What stands after that is carried over to the next block. Splitting
//! is the workers' part.

use std::io::Read;
use std::sync::atomic::Ordering;

use super::cut::Cutter;
use super::format::Opened;
use super::part::Reached;
use super::split::Splitter;
use super::text_records::TextRecords;
use super::unclosed::{Unclosed, unclosed};
use super::{BrokenKind, Dialect, FileLayout, Input, InputError, InputFile, PlainRecords};
use crate::records::{Records, Split};

/// Bytes read at a time: large enough that locks and system calls do not show, small enough that a block
/// is still in the cache of its core when it is split.
pub const DEFAULT_BLOCK_BYTES: usize = 512 << 10;

/// Records that are counted at a time.
const COUNTED_RECORDS: usize = 4096;

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
    /// Records of the input before the block, where they are [counted](Blocks::counted).
    pub records_before: Option<u64>,
    damage: Option<BrokenKind>,
}

impl Block {
    /// The bytes of the records.
    pub fn text(&self) -> &[u8] {
        &self.text
    }

    /// What is wrong with the block, which is then the first part of a single record.
    pub(crate) fn damage(&self) -> Option<BrokenKind> {
        self.damage
    }
}

/// How many records a block has, those included that cannot be split.
fn count_records(block: &Block, layout: &FileLayout) -> u64 {
    if layout.paths.is_some() {
        let lines = block.text().split(|byte| *byte == b'\n');
        return lines.filter(|line| !line.trim_ascii().is_empty()).count() as u64;
    }
    let (dialect, fields) = (&layout.dialect, layout.fields);
    let mut records = TextRecords::default();
    let mut splitter = Splitter::new(block, dialect, fields);
    let mut count = 0;
    while splitter.refill(&mut records, COUNTED_RECORDS) {
        count += (records.len() + records.broken().len()) as u64;
    }
    count
}

/// The blocks of an input, as they are to be read.
#[derive(Debug, Clone, Copy)]
pub struct Blocks<'i> {
    input: &'i Input,
    counts_records: bool,
    /// The files, in the order in which they are read; `None` as they were given.
    order: Option<&'i [usize]>,
}

impl<'i> Blocks<'i> {
    /// The same blocks, each of which says how many records stand before it. That costs a second splitting, in turn.
    pub fn counted(input: &'i Input) -> Blocks<'i> {
        Blocks { input, counts_records: true, order: None }
    }

    /// The blocks of some files of an input, in this order.
    pub fn of_files(input: &'i Input, order: &'i [usize]) -> Blocks<'i> {
        Blocks { input, counts_records: false, order: Some(order) }
    }
}

impl<'i> From<&'i Input> for Blocks<'i> {
    fn from(input: &'i Input) -> Blocks<'i> {
        Blocks { input, counts_records: false, order: None }
    }
}

/// Reads the blocks of an input, one after another.
pub struct BlockReader<'i> {
    input: &'i Input,
    order: Option<&'i [usize]>,
    block_bytes: usize,
    /// What is left of the file that is being read, and which in the order that is.
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
    /// Where in it the next block starts.
    place: u64,
    /// Whether nothing more of it is to be read: the next block starts behind the piece that is.
    is_done: bool,
    /// Records of the blocks so far, where they are counted.
    records: Option<u64>,
}

impl<'i> BlockReader<'i> {
    /// Reads blocks of about `block_bytes`, at most the record limit of the input.
    pub fn new(blocks: impl Into<Blocks<'i>>, block_bytes: usize) -> Self {
        let Blocks { input, counts_records, order } = blocks.into();
        BlockReader {
            input,
            order,
            block_bytes: block_bytes.clamp(1, input.record_limit()),
            open: None,
            file: 0,
            carried: Vec::new(),
            line: 1,
            sequence: 0,
            offset: 0,
            told: 0,
            taken: 0,
            place: 0,
            is_done: false,
            records: counts_records.then_some(0),
        }
    }

    /// Replaces `block` by the next one. Returns `false` at the end of the input.
    ///
    /// # Errors
    /// A file that cannot be read.
    pub fn next(&mut self, block: &mut Block) -> Result<bool, InputError> {
        loop {
            let input = self.input;
            let number = match self.order {
                Some(order) => order.get(self.file).copied(),
                None => Some(self.file),
            };
            let file = number.and_then(|number| Some((number, input.files().get(number)?)));
            let Some((number, file)) = file else { return Ok(false) };
            if self.open.is_none() && file.is_read() {
                let (place, line) = file.start();
                self.open = Some(file.open()?);
                (self.line, self.place) = (line, place);
                self.told = if place > file.data_start { place } else { 0 };
                self.taken = 0;
                self.is_done = file.ends_before(place);
            }
            block.damage = None;
            if file.is_read()
                && !self.is_done
                && let Some(lines) = self.read_block(file, block)?
            {
                let lines = self.end_piece(file, block, lines);
                block.sequence = self.sequence;
                block.file = number as u32;
                block.first_line = self.line;
                block.offset = self.offset;
                let counted = self.open.as_ref().and_then(|open| open.consumed.as_ref());
                let consumed = match counted {
                    Some(consumed) => consumed.load(Ordering::Relaxed),
                    None => file.start().0 + self.taken,
                };
                // Where a file was read again from an earlier place, that was told already.
                block.bytes = consumed.saturating_sub(self.told);
                self.told = self.told.max(consumed);
                self.sequence += 1;
                self.offset += block.bytes;
                self.line += lines;
                block.records_before = self.records;
                if let Some(records) = &mut self.records {
                    *records += count_records(block, file.layout());
                }
                return Ok(true);
            }
            if let Some(piece) = file.piece() {
                // Of a piece that begins in the middle, from there.
                let first = if piece.from.is_some() { piece.line } else { 1 };
                let (at, lines) = (self.place, self.line - first);
                piece.reach(Reached { at, lines, is_end: !self.is_done });
            }
            self.open = None;
            self.carried.clear();
            self.file += 1;
        }
    }

    /// Ends a block where the piece of its file does that is to be read, if it goes beyond; notes where the next one
    /// starts. Returns the line ends that were read with what is left of it.
    fn end_piece(&mut self, file: &InputFile, block: &mut Block, lines: u64) -> u64 {
        let start = self.place;
        self.place = file.start().0 + self.taken - self.carried.len() as u64;
        self.is_done = file.ends_before(self.place);
        let to = file.piece().and_then(|piece| piece.to).filter(|_| self.is_done);
        // A damaged block is one record.
        let Some(to) = to.filter(|_| block.damage.is_none()) else { return lines };
        let dialect = file.dialect();
        let least = to.saturating_sub(start) as usize;
        let end = Cutter::end_from(&dialect, &block.text, least).unwrap_or(block.text.len());
        if end == block.text.len() {
            return lines;
        }
        block.text.truncate(end);
        self.place = start + end as u64;
        dialect.line_ends.count(&block.text) as u64
    }

    /// Adds `missing` bytes of the file to a text; fewer only at the end of the file.
    fn read_more(
        &mut self,
        file: &InputFile,
        text: &mut Vec<u8>,
        missing: usize,
    ) -> Result<usize, InputError> {
        let reader = &mut self.open.as_mut().expect("a file is open").text;
        let read =
            reader.take(missing as u64).read_to_end(text).map_err(|source| file.failed(source))?;
        self.taken += read as u64;
        Ok(read)
    }

    /// Reads until the text of the block holds the end of a record. Returns how many line ends were
    /// read with it, and `None` at the end of the file.
    fn read_block(
        &mut self,
        file: &InputFile,
        block: &mut Block,
    ) -> Result<Option<u64>, InputError> {
        let dialect = file.dialect();
        let limit = self.input.record_limit();
        let text = &mut block.text;
        text.clear();
        text.append(&mut self.carried);
        let mut wanted = self.block_bytes.max(text.len().saturating_add(1)).min(limit);
        let mut cutter = Cutter::new(&dialect);
        loop {
            let missing = wanted.saturating_sub(text.len());
            let is_end = self.read_more(file, text, missing)? < missing;
            if is_end {
                let fields = file.layout().fields;
                // What stands behind the last end of a record may have a quote that is never closed.
                let end = cutter.last_end(text).unwrap_or(0);
                match unclosed(&text[end..], &dialect, fields) {
                    Some(_) if end > 0 => {
                        self.carried.extend_from_slice(&text[end..]);
                        text.truncate(end);
                    }
                    Some(found) => {
                        self.carried.extend_from_slice(&text[found.next..]);
                        text.truncate(found.next);
                        block.damage = Some(found.kind());
                    }
                    None => {}
                }
                let lines = dialect.line_ends.count(&block.text) as u64;
                return Ok((!block.text.is_empty()).then_some(lines));
            }
            if let Some(end) = cutter.last_end(text) {
                self.carried.extend_from_slice(&text[end..]);
                text.truncate(end);
                return Ok(Some(dialect.line_ends.count(text) as u64));
            }
            if text.len() >= limit {
                return self.read_over(file, block, cutter).map(Some);
            }
            wanted = (wanted * 2).min(limit);
        }
    }

    /// Reads over the rest of a record that does not end within the limit. The block keeps what was read
    /// of it so far, and is marked; memory does not grow. Returns the line ends of the whole record.
    fn read_over(
        &mut self,
        file: &InputFile,
        block: &mut Block,
        mut cutter: Cutter,
    ) -> Result<u64, InputError> {
        let dialect = file.dialect();
        let mut text = block.text.clone();
        let (mut lines, mut counted) = (0, 0);
        let start = self.taken - text.len() as u64;
        loop {
            let read = self.read_more(file, &mut text, self.block_bytes)?;
            let is_end = read < self.block_bytes;
            if block.damage.is_none() && read > 0 {
                block.damage = Some(too_long(&block.text, &dialect, self.input.record_limit()));
            }
            let end = cutter.first_end(&text, is_end);
            let is_never_closed = is_end && end.is_none() && cutter.is_open();
            let end = end.or(is_end.then_some(text.len()));
            if is_never_closed
                && !file.is_stream()
                && let Some(found) = unclosed(&block.text, &dialect, file.layout().fields)
                && found.has_next
            {
                return self.go_back(file, block, start, found);
            }
            let passed = end.unwrap_or(cutter.walked());
            lines += dialect.line_ends.count(&text[counted..passed]) as u64;
            if end.is_some() {
                self.carried.extend_from_slice(&text[passed..]);
                return Ok(lines);
            }
            counted = passed - cutter.forget(&mut text);
        }
    }
}

impl BlockReader<'_> {
    /// Ends the record of a block before the next line that looks like one, and reads the file again from there: what
    /// was read over to its end, in search of a quote, were records. The text of the block starts at `start`. Returns
    /// the line ends of the record.
    fn go_back(
        &mut self,
        file: &InputFile,
        block: &mut Block,
        start: u64,
        found: Unclosed,
    ) -> Result<u64, InputError> {
        self.taken = start + found.next as u64;
        let mut opened = file.open()?;
        std::io::copy(&mut (&mut opened.text).take(self.taken), &mut std::io::sink())
            .map_err(|source| file.failed(source))?;
        self.open = Some(opened);
        block.text.truncate(found.next);
        block.damage = Some(found.kind());
        Ok(u64::from(found.lines))
    }
}

/// What is wrong with a record of which `text` is the first part.
fn too_long(text: &[u8], dialect: &Dialect, limit: usize) -> BrokenKind {
    let quote = match PlainRecords::new(text, *dialect).next().and_then(|record| record.broken) {
        Some(BrokenKind::NeverClosed { lines_before, .. }) => Some(lines_before),
        _ => None,
    };
    BrokenKind::TooLong { limit, quote }
}

/// Bytes of a record, as the first few thousand have on average; `None` of a stream, which is read only
/// once, and of an input without records.
///
/// # Errors
/// An input that cannot be read.
pub fn mean_record_bytes(input: &Input) -> Result<Option<f64>, InputError> {
    if input.is_stream() {
        return Ok(None);
    }
    let mut block = Block::default();
    if !BlockReader::new(input, 1 << 18).next(&mut block)? {
        return Ok(None);
    }
    let count = count_records(&block, input.files()[block.file as usize].layout());
    Ok((count > 0).then(|| block.bytes as f64 / count as f64))
}

#[cfg(test)]
mod tests {
    use super::super::testing::dialect_and_text;
    use super::super::unclosed::{swallowed, without_line_end};
    use super::super::{Charset, InputChoice, Splitter, TextRecords};
    use super::*;
    use proptest::prelude::*;

    /// A record as (line of the file, bytes of it, what is wrong with it).
    type Found = (u64, Vec<u8>, Option<String>);

    /// Every record of `text`, read in blocks of `block_bytes`.
    fn through_blocks(
        text: &[u8],
        choice: &InputChoice,
        columns: usize,
        block_bytes: usize,
    ) -> Vec<Found> {
        let input = Input::from_bytes("t", text.to_vec(), choice);
        let Some(dialect) = input.files().first().map(InputFile::dialect) else {
            return Vec::new();
        };
        let mut reader = BlockReader::new(&input, block_bytes);
        let (mut block, mut records, mut all) =
            (Block::default(), TextRecords::default(), Vec::new());
        while reader.next(&mut block).unwrap() {
            let mut splitter = Splitter::new(&block, &dialect, columns);
            while splitter.refill(&mut records, 3) {
                let text = block.text();
                let mut found: Vec<_> = (0..records.len())
                    .map(|row| (records.line(row), records.record(row), None))
                    .chain(records.broken().iter().map(|b| {
                        let kind = b.kind.describe(block.first_line).into_owned();
                        (b.line, (b.start as usize, b.end as usize), Some(kind))
                    }))
                    .collect();
                found.sort();
                all.extend(found.into_iter().map(|(line, (start, end), kind)| {
                    (block.first_line + u64::from(line), text[start..end].to_vec(), kind)
                }));
            }
        }
        all
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]

        #[test]
        fn any_block_size_gives_the_same_records(
            (dialect, text) in dialect_and_text(300), block_bytes in 1usize..400, columns in 1usize..4,
        ) {
            let choice =
                InputChoice { encoding: Some(Charset::UTF_8), ..InputChoice::from(dialect) };
            // Nothing but blank lines, or NUL bytes, is no input.
            prop_assume!(!Input::from_bytes("t", text.clone(), &choice).files().is_empty());
            let want = through_blocks(&text, &choice, columns, 1 << 20);
            prop_assert_eq!(through_blocks(&text, &choice, columns, block_bytes), want.clone());
            let fields = Input::from_bytes("t", text.clone(), &choice).files()[0].layout().fields;
            let records = plain_records(&text, dialect, columns, fields);
            let mut found: Vec<_> = want.into_iter().map(|(line, record, _)| (line, record)).collect();
            if dialect.trailing_delimiter {
                // What is whole without its last delimiter is told without it.
                found.iter_mut().zip(&records).for_each(|(found, plain)| {
                    if plain.1.strip_suffix(b",") == Some(&found.1[..]) {
                        found.1.push(b',');
                    }
                });
            }
            prop_assert_eq!(found, records);
        }

        /// Records over the limit are told apart at the same places, whatever the blocks.
        #[test]
        fn any_block_size_finds_the_same_long_records(
            (dialect, text) in dialect_and_text(300), block_bytes in 1usize..80, limit in 8usize..60,
        ) {
            let encoding = Some(Charset::UTF_8);
            let choice =
                InputChoice { record_limit: Some(limit), encoding, ..InputChoice::from(dialect) };
            let want = through_blocks(&text, &choice, 2, limit);
            prop_assert_eq!(through_blocks(&text, &choice, 2, block_bytes), want.clone());
            for (_, record, wrong) in want {
                let is_long = wrong.is_some_and(|wrong| wrong.contains("record limit"));
                prop_assert!(record.len() <= limit && (!is_long || record.len() == limit));
            }
        }
    }

    /// The records of a text by the plain splitter, each with its line: one with a quote that is never closed ends
    /// before the next line that looks like a record.
    fn plain_records(
        text: &[u8],
        dialect: Dialect,
        columns: usize,
        fields: usize,
    ) -> Vec<(u64, Vec<u8>)> {
        let (mut all, mut from, mut lines) = (Vec::new(), 0, 1);
        loop {
            let rest = &text[from..];
            let found = PlainRecords::new(rest, dialect)
                .filter(|record| columns == 1 || !record.is_blank(rest));
            for record in found {
                let end = record.fields.last().unwrap().1;
                let inner = record.broken.filter(|broken| !broken.is_never_closed());
                let inner =
                    inner.and_then(|_| swallowed(&rest[record.start..end], &dialect, columns));
                if let Some((first, inner)) = inner {
                    let line = lines + record.line as u64;
                    let whole = &rest[record.start..record.start + first];
                    all.push((line, without_line_end(whole, &dialect).to_vec()));
                    for one in inner {
                        let base = record.start + first;
                        let end = one.fields.last().unwrap().1;
                        let text = rest[base + one.start..base + end].to_vec();
                        all.push((line + 1 + one.line as u64, text));
                    }
                    continue;
                }
                let never = record.broken.filter(|broken| broken.is_never_closed());
                let start = record.start;
                let Some(found) = never.and_then(|_| unclosed(&rest[start..], &dialect, fields))
                else {
                    let end = record.fields.last().unwrap().1;
                    all.push((lines + record.line as u64, rest[start..end].to_vec()));
                    continue;
                };
                let end = start + found.next;
                let record_text = without_line_end(&rest[start..end], &dialect);
                all.push((lines + record.line as u64, record_text.to_vec()));
                lines += dialect.line_ends.count(&rest[..end]) as u64;
                from += end;
                break;
            }
            let is_last = !PlainRecords::new(rest, dialect)
                .any(|record| record.broken.is_some_and(BrokenKind::is_never_closed));
            if is_last || from >= text.len() {
                return all;
            }
        }
    }

    #[test]
    fn a_record_without_end_is_one_record_and_no_flood() {
        let limit = 1 << 20;
        let mut text = b"a,b\n\"x\n".to_vec();
        text.resize(20 * limit, b'\n');
        text.extend_from_slice(b"\"\nc,d\n");
        let choice = InputChoice {
            header: Some(false),
            record_limit: Some(limit),
            ..InputChoice::from(Dialect::RFC_4180)
        };
        let found = through_blocks(&text, &choice, 2, 1024);
        let kinds: Vec<_> =
            found.iter().map(|(line, text, kind)| (*line, text.len(), kind.clone())).collect();
        let wrong =
            "has a quote, opened in line 2, that is not closed within the record limit of 1 MiB";
        assert_eq!(
            kinds,
            [(1, 3, None), (2, limit, Some(wrong.to_owned())), (20 * limit as u64 - 3, 3, None)]
        );
    }

    #[test]
    fn offsets_add_up_to_the_bytes_of_the_input() {
        let text = b"a,b\n1,2\n3,4\n".to_vec();
        let dialect = Dialect { header: false, ..Dialect::RFC_4180 };
        let input = Input::from_bytes("t", text.clone(), &dialect.into());
        let mut reader = BlockReader::new(&input, 5);
        let (mut block, mut seen) = (Block::default(), 0);
        while reader.next(&mut block).unwrap() {
            assert_eq!(block.offset, seen);
            seen += block.bytes;
        }
        assert_eq!(seen, text.len() as u64);
    }
}
